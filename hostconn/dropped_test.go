//go:build linux

package hostconn_test

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/hostconn"
)

// An sshd that drops a connection at once, as one does at which too many come, is asked once more, and no more than that.
func TestDropped(t *testing.T) {
	p := newPerson(t)
	socket := p.socketAt(0o666)
	for drops, works := range map[int32]bool{1: true, 2: false} {
		var came atomic.Int32
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer listener.Close()
		_, at, err := net.SplitHostPort(listener.Addr().String())
		require.NoError(t, err)
		known, err := os.ReadFile(filepath.Join(p.sshd, "known_hosts"))
		require.NoError(t, err)
		p.write("known_hosts", strings.Replace(string(known), p.port, at, 1))
		go func() {
			for {
				c, err := listener.Accept()
				if err != nil {
					return
				}
				if came.Add(1) <= drops {
					c.Close()
					continue
				}
				far, err := net.Dial("tcp", "127.0.0.1:"+p.port)
				if err != nil {
					c.Close()
					continue
				}
				go io.Copy(far, c)
				go io.Copy(c, far)
			}
		}()
		_, err = hostconn.OpenAddress(t.Context(), "ssh://root@"+listener.Addr().String()+"////"+socket)
		if works {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, "does not answer as SSH does")
		}
		assert.Equal(t, int32(2), came.Load(), "%d dropped", drops)
	}
}
