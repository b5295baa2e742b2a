//go:build linux

package enginetest

import (
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/require"
)

// Registry serves an OCI registry on loopback for a test and returns its host:port. It is one from which real
// engines pull over plain HTTP; without those of scripts/with-engines the test is skipped.
func Registry(t testing.TB) string {
	t.Helper()
	return ServeRegistry(t, registry.New(registry.Logger(log.New(io.Discard, "", 0))))
}

// Own puts an image into a registry that is like another one but for a label, and returns its reference: no
// other test uses it, and no engine has it yet. A stand-in has only those of its catalogue, and gets that one
// back.
func Own(t testing.TB, target Target, registry, like, label string) string {
	t.Helper()
	if !target.Real() {
		return like
	}
	from, err := name.NewTag(like)
	require.NoError(t, err)
	config, err := Images(t)[from].ConfigFile()
	require.NoError(t, err)
	config = config.DeepCopy()
	config.Config.Labels = map[string]string{"own": fmt.Sprint(label, os.Getpid(), target.Name)}
	image, err := mutate.ConfigFile(Images(t)[from], config)
	require.NoError(t, err)
	tag, err := name.NewTag(fmt.Sprintf("%s/skerry/%s:%d", registry, label, os.Getpid()))
	require.NoError(t, err)
	require.NoError(t, remote.Write(tag, image))
	return tag.String()
}

// LockedRegistry is one that wants a login for everything.
func LockedRegistry(t testing.TB, user, password string) string {
	t.Helper()
	inner := registry.New(registry.Logger(log.New(io.Discard, "", 0)))
	return ServeRegistry(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if u, p, _ := r.BasicAuth(); u != user || p != password {
			w.Header().Set("WWW-Authenticate", `Basic realm="skerry"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		inner.ServeHTTP(w, r)
	}))
}

// ServeRegistry serves a registry of the test's own, as [Registry] does.
func ServeRegistry(t testing.TB, handler http.Handler) string {
	t.Helper()
	free := strings.Fields(os.Getenv("LANTERN_TEST_REGISTRY"))
	if len(free) == 0 {
		t.Skip("LANTERN_TEST_REGISTRY is not set: scripts/with-engines chooses some")
	}
	// Tests of other packages may have all of them for a while.
	for deadline := time.Now().Add(5 * time.Minute); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		for _, at := range free {
			listener, err := net.Listen("tcp", at)
			if err != nil {
				continue
			}
			server := &http.Server{Handler: handler}
			go server.Serve(listener)
			t.Cleanup(func() { server.Close() })
			return at
		}
	}
	require.Fail(t, "all registries are taken", "%v", free)
	return ""
}
