package engine

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/hostconn"
)

// serve answers on a socket as an engine of some version would, or as something else.
func serve(t *testing.T, answers map[string]string) string {
	dir, err := os.MkdirTemp("", "dial")
	require.NoError(t, err)
	l, err := net.Listen("unix", filepath.Join(dir, "s"))
	require.NoError(t, err)
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, ok := answers[filepath.Base(r.URL.Path)]
		if !ok {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Api-Version", answers["api"])
		fmt.Fprint(w, body)
	})}
	go s.Serve(l)
	t.Cleanup(func() {
		s.Close()
		os.RemoveAll(dir)
	})
	return "unix://" + filepath.Join(dir, "s")
}

// Why an engine cannot be reached is said in plain words.
func TestUnreachable(t *testing.T) {
	dir := t.TempDir()
	nobody := filepath.Join(dir, "s")
	l, err := net.Listen("unix", nobody)
	require.NoError(t, err)
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	l.Close()
	for _, c := range []struct{ address, because, do string }{
		{"unix:///nowhere/engine.sock", "there is no socket /nowhere/engine.sock",
			"start the engine; or, where its socket is elsewhere"},
		{"unix://" + nobody, "the socket is there, but nothing listens on it", "start the engine"},
		{"tcp://127.0.0.1:9", "127.0.0.1 refuses the connection: nothing listens on port 9 there",
			"let the engine listen there"},
		{"tcp://boathouse.invalid:2376", "the name boathouse.invalid does not resolve", "correct the name"},
		{"ssh://keeper@boathouse.invalid", "the name boathouse.invalid does not resolve", "correct the name"},
		{"http://127.0.0.1:9", "an engine's address is unix://PATH", ""},
		{serve(t, map[string]string{
			"_ping":   "OK",
			"api":     "1.40",
			"version": `{"ApiVersion":"1.40","Version":"18"}`,
		}), "its API has version 1.40, and lantern needs 1.41 or newer", "update the engine"},
		{serve(t, map[string]string{}), "does not answer as a container engine does", ""},
	} {
		_, err := DialHost(t.Context(), &lab.Host{Engine: c.address, Insecure: true})
		var u *Unreachable
		require.True(t, errors.As(err, &u), "%s: %v", c.address, err)
		assert.Equal(t, c.address, u.Address)
		assert.Contains(t, u.Because, c.because)
		assert.Contains(t, u.Do, c.do)
		assert.Equal(t, strings.HasPrefix(c.address, "tcp:") || strings.HasPrefix(c.address, "ssh:"), u.Host)
	}
	e, err := Dial(t.Context(),
		serve(t, map[string]string{
			"_ping":   "OK",
			"api":     "1.41",
			"version": `{"ApiVersion":"1.41","Version":"20.10.24","Components":[{"Name":"Podman Engine"}]}`,
		}))
	require.NoError(t, err)
	assert.False(t, e.CanUpdate())
	require.NoError(t, e.Close())
}

// What engines answer, by what it means: their words, as they were heard.
func TestExplain(t *testing.T) {
	for _, c := range []struct {
		err  error
		want error
	}{
		{errors.New(
			`Error response from daemon: Conflict. The container name "/x" is already in use by container "ab"`), ErrNameTaken},
		{errors.New(
			"the container name \"x\" is already in use by ab. You have to remove that container to be " +
				"able to reuse that name"), ErrNameTaken},
		{errors.New("network with name x already exists"), ErrNameTaken},
		{errors.New(
			"driver failed programming external connectivity: listen tcp4 0.0.0.0:8710: " +
				"bind: address already in use"), ErrPortInUse},
		{errors.New("Bind for 0.0.0.0:8710 failed: port is already allocated"), ErrPortInUse},
		{errors.New("cannot listen on the TCP port: listen tcp4 :8710: bind: address already in use"),
			ErrPortInUse},
		{cerrdefs.ErrNotFound.WithMessage("No such container: x"), ErrNotFound},
		{fmt.Errorf("during the call: %w", io.ErrUnexpectedEOF), ErrUnknownOutcome},
		{&net.OpError{Op: "read", Err: errors.New("connection reset by peer")}, ErrUnknownOutcome},
		{errors.New("something else"), nil},
	} {
		err := explain("start", c.err)
		for _, kind := range []error{ErrNameTaken, ErrPortInUse, ErrNotFound, ErrUnknownOutcome, ErrUnsupported} {
			assert.Equal(t, kind == c.want, errors.Is(err, kind), "%v is %v", c.err, kind)
		}
		assert.NotContains(t, err.Error(), "daemon")
	}
	assert.NoError(t, explain("start", nil))
}

// A name without a registry is what each engine makes of it.
func TestFullName(t *testing.T) {
	d, p := &Engine{can: usual}, &Engine{can: ofPodmansService}
	for _, e := range []*Engine{d, p} {
		assert.Empty(t, e.fullName("registry.skerry.example/vane:1", []string{"registry.skerry.example/vane:1"}))
		assert.Empty(t, e.fullName("localhost/vane:1", nil))
	}
	assert.Equal(t, "registry.skerry.example/wind/vane:1",
		p.fullName("wind/vane:1",
			[]string{"registry.skerry.example/other:1", "registry.skerry.example/wind/vane:1"}))
	assert.Empty(t, p.fullName("vane:2", []string{"registry.skerry.example/vane:1"}))
	assert.True(t, strings.HasSuffix(d.fullName("wind/vane:1", nil), "/wind/vane:1"))
	assert.True(t, namesRegistry(d.fullName("vane", nil)))
}

func TestUsualAddress(t *testing.T) {
	t.Setenv("DOCKER_HOST", "unix:///elsewhere.sock")
	assert.Equal(t, "unix:///elsewhere.sock", hostconn.UsualAddress())
}

func TestArchitecture(t *testing.T) {
	for machine, want := range map[string]string{
		"x86_64":  "amd64",
		"aarch64": "arm64",
		"armv7l":  "arm",
		"riscv64": "riscv64",
	} {
		assert.Equal(t, want, architecture(machine))
	}
}

// Over plain tcp to what is not plainly this machine nothing is said without a reason; with one, no login
// goes there.
func TestPlainTCP(t *testing.T) {
	var calls, logins atomic.Int32
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		if r.Header.Get("X-Registry-Auth") != "" {
			logins.Add(1)
		}
		w.Header().Set("Api-Version", "1.41")
		w.Header().Set("Server", "Docker/20.10")
		fmt.Fprint(w, "{}")
	})}
	go s.Serve(l)
	defer s.Close()
	dir := t.TempDir()
	t.Setenv("DOCKER_CONFIG", dir)
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "config.json"),
			[]byte(
				`{"auths": {"registry.skerry.example": {"username": "keeper", "password": "of the light"}}}`),
			0o600))
	_, port, _ := net.SplitHostPort(l.Addr().String())
	afar := "tcp://0.0.0.0:" + port // leads here, and is no loopback address
	_, err = Dial(t.Context(), afar)
	var u *Unreachable
	require.ErrorAs(t, err, &u)
	assert.Contains(t, u.Because, "nothing was sent")
	assert.Zero(t, calls.Load())
	for address, want := range map[string]int32{afar: 0, "tcp://127.0.0.1:" + port: 2} {
		logins.Store(0)
		e, err := DialHost(t.Context(), &lab.Host{Engine: address, Insecure: true})
		require.NoError(t, err)
		defer e.Close()
		e.Pull(t.Context(), "registry.skerry.example/desk:1", nil, func(PullProgress) {})
		e.InRegistry(t.Context(), "registry.skerry.example/desk:1")
		assert.Equal(t, want, logins.Load(), address)
	}
}
