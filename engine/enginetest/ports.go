//go:build linux

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

// racePort is the first port of the programs that look for races.
const racePort = 22000

var portsGiven atomic.Int64

// FreePort returns a free tcp port, another one each time.
func FreePort(t testing.TB) int {
	t.Helper()
	block := 0
	for _, c := range filepath.Base(os.Args[0]) {
		block += int(c)
	}
	first := firstPort + block%blocks*portCount
	if os.Getenv("LANTERN_TEST_RACE") != "" { // such a program may run beside one of the same name
		first = racePort
	}
	for range portCount {
		port := first + (os.Getpid()*131+int(portsGiven.Add(1)))%portCount
		// Another program of the tests may be between this and using it: who gets a port keeps its sign until
		// the test ends.
		sign, err := net.Listen("unix", "@lantern-test-port-"+strconv.Itoa(port))
		if err != nil {
			continue
		}
		l, err := net.Listen("tcp", ":"+strconv.Itoa(port))
		if err == nil {
			l.Close()
			t.Cleanup(func() { sign.Close() })
			return port
		}
		sign.Close()
	}
	require.Fail(t, "no port is free")
	return 0
}

// FreePorts returns the first of so many free tcp ports in a row.
func FreePorts(t testing.TB, n int) int {
	t.Helper()
	first := FreePort(t)
	for last := first; last < first+n-1; {
		if next := FreePort(t); next == last+1 {
			last = next
		} else {
			first, last = next, next
		}
	}
	return first
}
