package host

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

// BenchmarkSurvey looks at a machine with 2,000 listening sockets and 500 folders that a lab mounts, beside
// the floor: merely reading the kernel's tables and asking for the folders once.
func BenchmarkSurvey(b *testing.B) {
	for range 2000 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			b.Skip("this machine does not let a process have so many sockets: ", err)
		}
		defer l.Close()
	}
	root := b.TempDir()
	var paths []string
	for i := range 500 {
		p := filepath.Join(root, fmt.Sprintf("stack-%d", i/5), fmt.Sprintf("service-%d", i%5))
		if err := os.MkdirAll(filepath.Join(p, "readings"), 0o755); err != nil {
			b.Fatal(err)
		}
		paths = append(paths, p)
	}
	b.Run("floor", func(b *testing.B) {
		for b.Loop() {
			for _, table := range []string{"tcp", "tcp6", "udp", "udp6"} {
				if _, err := os.ReadFile("/proc/net/" + table); err != nil {
					b.Fatal(err)
				}
			}
			for _, p := range paths {
				if _, err := os.Stat(p); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	b.Run("survey", func(b *testing.B) {
		for b.Loop() {
			s := &survey.Survey{Unknown: map[string]string{}}
			readMachine(hostconn.Local, s)
			readPaths(hostconn.Local, s, paths)
			if len(s.Listeners) < 2000 || len(s.Paths) < 600 {
				b.Fatalf("%d listeners, %d paths", len(s.Listeners), len(s.Paths))
			}
		}
	})
}
