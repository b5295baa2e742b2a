//go:build linux

package enginetest

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Hostile ways of an engine, or of a registry, to answer.
const (
	Hang       = "says nothing"
	Drip       = "says a letter at a time"
	Endless    = "never ends"
	Garbage    = "is no JSON"
	ManyThings = "lists a million things"
	LongLine   = "says one line without end"
	Frames     = "claims frames of 4 GB"
)

// HostileWays are all of them.
var HostileWays = []string{Hang, Drip, Endless, Garbage, ManyThings, LongLine, Frames}

// Hostile serves an engine on a socket whose answers are hostile where asked is true; everything else goes to
// the good one. It returns the address.
func Hostile(t testing.TB, good http.Handler, way string, asked func(*http.Request) bool) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "hostile")
	require.NoError(t, err)
	l, err := net.Listen("unix", filepath.Join(dir, "s"))
	require.NoError(t, err)
	s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked(r) {
			HostileAnswer(w, r, way)
			return
		}
		good.ServeHTTP(w, r)
	})}
	go s.Serve(l)
	t.Cleanup(func() {
		s.Close()
		os.RemoveAll(dir)
	})
	return "unix://" + filepath.Join(dir, "s")
}

// HostileAnswer answers in a hostile way, for a minute at most.
func HostileAnswer(w http.ResponseWriter, r *http.Request, way string) {
	until := time.Now().Add(time.Minute)
	write := func(text string) bool {
		_, err := w.Write([]byte(text))
		return err == nil && time.Now().Before(until) && r.Context().Err() == nil
	}
	if way == Hang {
		select {
		case <-r.Context().Done():
		case <-time.After(time.Until(until)):
		}
		return
	}
	w.Header().Set("Content-Type", "application/json")
	switch way {
	case Drip:
		for write(" ") {
			w.(http.Flusher).Flush()
			time.Sleep(50 * time.Millisecond)
		}
	case Endless:
		write(`{"Message":"`)
		for write(strings.Repeat("a", 1<<20)) {
		}
	case Garbage:
		write("<html>\x1b[2J\x9b31mthe lamp is out</html>")
	case ManyThings:
		write("[")
		for range 200 {
			if !write(strings.Repeat("{},", 10_000)) {
				return
			}
		}
		write("{}]")
	case LongLine:
		for write(strings.Repeat("\x01\x00\x00\x00\x00\x10\x00\x00"+strings.Repeat("a", 0x100000), 1)) {
		}
	case Frames:
		head := []byte{1, 0, 0, 0, 0, 0, 0, 0}
		binary.BigEndian.PutUint32(head[4:], 0xffffffff)
		for write(string(head) + "open for readings\n") {
			time.Sleep(time.Millisecond)
		}
	default:
		panic(fmt.Sprintf("no such way: %s", way))
	}
}
