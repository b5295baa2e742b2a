package enginetest

import (
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/stretchr/testify/require"
)

// Registry serves an OCI registry on loopback for a test and returns its host:port. It is one from which real engines pull over plain
// HTTP; without those of scripts/with-engines the test is skipped.
func Registry(t testing.TB) string {
	t.Helper()
	return serveRegistry(t, registry.New(registry.Logger(log.New(io.Discard, "", 0))))
}

// LockedRegistry is one that wants a login for everything.
func LockedRegistry(t testing.TB, user, password string) string {
	t.Helper()
	inner := registry.New(registry.Logger(log.New(io.Discard, "", 0)))
	return serveRegistry(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if u, p, _ := r.BasicAuth(); u != user || p != password {
			w.Header().Set("WWW-Authenticate", `Basic realm="skerry"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		inner.ServeHTTP(w, r)
	}))
}

func serveRegistry(t testing.TB, handler http.Handler) string {
	t.Helper()
	free := strings.Fields(os.Getenv("LANTERN_TEST_REGISTRY"))
	if len(free) == 0 {
		t.Skip("LANTERN_TEST_REGISTRY is not set: scripts/with-engines chooses some")
	}
	for _, at := range free {
		listener, err := net.Listen("tcp", at)
		if err != nil {
			continue // a test of another package has it
		}
		server := &http.Server{Handler: handler}
		go server.Serve(listener)
		t.Cleanup(func() { server.Close() })
		return at
	}
	require.Fail(t, "all registries are taken", "%v", free)
	return ""
}
