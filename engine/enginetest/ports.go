package enginetest

import (
	"net"
	"os"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// Ports of the tests lie below those that kernels hand out to clients: such a one may be taken at
// any moment. Packages are tested at the same time, each by a program of its own: its name says which block
// it takes them from.
const firstPort, blocks, portCount = 24000, 8, 1000

var portsGiven atomic.Int64

// FreePort returns a free tcp port, another one each time.
func FreePort(t testing.TB) int {
	t.Helper()
	block := 0
	for _, c := range filepath.Base(os.Args[0]) {
		block += int(c)
	}
	for range portCount {
		port := firstPort + block%blocks*portCount + (os.Getpid()*131+int(portsGiven.Add(1)))%portCount
		l, err := net.Listen("tcp", ":"+strconv.Itoa(port))
		if err == nil {
			l.Close()
			return port
		}
	}
	require.Fail(t, "no port is free")
	return 0
}
