//go:build linux

package registry_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/registry"
)

const at = "registry.skerry.example"

// auths gives the test an auth file and, in its PATH, a helper that does what the script says.
func auths(t *testing.T, file any, helper string) {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("DOCKER_CONFIG", dir)
	t.Setenv("REGISTRY_AUTH_FILE", "")
	t.Setenv("XDG_RUNTIME_DIR", "")
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	text, err := json.Marshal(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config.json"), text, 0o600))
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "docker-credential-lamp"), []byte("#!/bin/sh\n"+helper+"\n"), 0o700))
}

func TestLogins(t *testing.T) {
	repository, err := name.NewRepository(at + "/desk")
	require.NoError(t, err)
	const says = `echo asked >>"$DOCKER_CONFIG/asked"; cat >/dev/null; echo '{"Username":"keeper","Secret":"of the light"}'`
	store := map[string]any{"credsStore": "lamp"}
	for _, c := range []struct {
		name, helper string
		file         any
		none         bool // NoHelpers
		want         authn.AuthConfig
	}{
		{"in the file", "exit 1",
			map[string]any{
				"auths": map[string]any{at: map[string]string{"username": "keeper", "password": "x"}},
			}, false, authn.AuthConfig{Username: "keeper", Password: "x"}},
		{"from a helper", says, store, false, authn.AuthConfig{Username: "keeper", Password: "of the light"}},
		{"helper of this registry", says, map[string]any{"credHelpers": map[string]string{at: "lamp"}}, false,
			authn.AuthConfig{Username: "keeper", Password: "of the light"}},
		{"helpers are off", says, store, true, authn.AuthConfig{}},
		{"a helper that knows nothing", "echo credentials not found in native keychain; exit 1", store, false,
			authn.AuthConfig{}},
		{"a helper that says too much",
			"while :; do echo aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa; done",
			store, false, authn.AuthConfig{}},
		{"a helper that is not there", "", map[string]any{"credsStore": "nobody"}, false, authn.AuthConfig{}},
	} {
		auths(t, c.file, c.helper)
		l := &registry.Logins{NoHelpers: c.none}
		for range 2 {
			a, err := l.Resolve(repository)
			require.NoError(t, err, c.name)
			got, err := a.Authorization()
			require.NoError(t, err, c.name)
			assert.Equal(t, c.want, *got, c.name)
		}
		asked, _ := os.ReadFile(filepath.Join(os.Getenv("DOCKER_CONFIG"), "asked"))
		if c.none {
			assert.Empty(t, asked)
		} else if c.helper == says {
			assert.Equal(t, 1, strings.Count(string(asked), "asked"), "a helper may ask a person: once")
		}
	}
	auths(t, map[string]any{"credsStore": "../lamp"}, says)
	_, err = (&registry.Logins{}).Resolve(repository)
	assert.ErrorContains(t, err, "no plain name")
	dir := os.Getenv("DOCKER_CONFIG")
	require.NoError(t, os.Remove(filepath.Join(dir, "config.json")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "config.json"), 0o600))
	_, err = (&registry.Logins{}).Resolve(repository)
	assert.ErrorContains(t, err, "no plain file")
}

func TestHelperThatHangs(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes as long as a helper may")
	}
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "docker-credential-lamp-hangs"), []byte("#!/bin/sh\nsleep 600\n"), 0o700))
	began := time.Now()
	_, err := registry.RunHelper(filepath.Join(dir, "docker-credential-lamp-hangs"), "get")
	assert.Error(t, err)
	assert.GreaterOrEqual(t, time.Since(began), registry.HelperWithin)
	assert.Less(t, time.Since(began), 10*registry.HelperWithin)
}

// A login is sent over plain HTTP to this machine alone, and an answer without end is not read to its end.
func TestTransport(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, r.Header.Get("Authorization"))
		for r.URL.Path == "/endless" {
			if _, err := w.Write(make([]byte, 1<<20)); err != nil {
				return
			}
		}
	}))
	defer s.Close()
	ask := func(url string) (string, error) {
		r, err := http.NewRequest(http.MethodGet, url, nil)
		require.NoError(t, err)
		r.SetBasicAuth("keeper", "of the light")
		answer, err := (&http.Client{Transport: registry.Transport()}).Do(r)
		if err != nil {
			return "", err
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		return string(text), err
	}
	said, err := ask(s.URL)
	require.NoError(t, err)
	assert.NotEmpty(t, said)
	_, err = ask("http://192.0.2.17:5000/v2/")
	assert.ErrorIs(t, err, registry.ErrPlain)
	_, err = ask(s.URL + "/endless")
	assert.ErrorIs(t, err, registry.ErrTooMuch)
}
