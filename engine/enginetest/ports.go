package enginetest

import (
	"net"
	"os"
	"strconv"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// Ports of the tests lie below those that kernels hand out to whoever connects: such a one may be taken at any moment.
const firstPort, portCount = 24000, 8000

var portsGiven atomic.Int64

// FreePort returns a tcp port that nobody has, another one each time.
func FreePort(t testing.TB) int {
	t.Helper()
	for range portCount {
		// Packages are tested at the same time, each by a process of its own, and begin at different places.
		port := firstPort + (os.Getpid()*131+int(portsGiven.Add(1)))%portCount
		l, err := net.Listen("tcp", ":"+strconv.Itoa(port))
		if err == nil {
			l.Close()
			return port
		}
	}
	require.Fail(t, "no port is free")
	return 0
}
