// Package demo holds Skerry Light: a made-up lab with five planted mistakes, its two machines and its images.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine/standin"
)

//go:embed lab/* lab/*/*
var labFiles embed.FS

//go:embed images.toml lamp-room.json boathouse.json
var machineFiles embed.FS

// Hosts are the machines of the lab, with their platforms.
var Hosts = []struct{ Name, Platform string }{{"lamp-room", "linux/amd64"}, {"boathouse", "linux/arm64"}}

// pullSpeed is how fast the stand-ins pull, in bytes a second: fast enough not to bore, slow enough to see.
const pullSpeed = 40_000_000

// Write puts the lab into an empty or new folder. Where one of its ports is taken on this machine, all of
// them move by the same distance.
func Write(dir string) error {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty", dir)
	}
	distance := freeDistance()
	return fs.WalkDir(labFiles, "lab", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := labFiles.ReadFile(path)
		if err != nil {
			return err
		}
		target := filepath.Join(dir, filepath.FromSlash(strings.TrimPrefix(path, "lab/")))
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if strings.HasSuffix(path, ".env") {
			mode = 0o600
		}
		return os.WriteFile(target, []byte(adapt(string(text), dir, distance)), mode)
	})
}

func adapt(text, dir string, distance int) string {
	text = strings.ReplaceAll(text, "DEMO", dir)
	hostPorts := regexp.MustCompile(`\b87[1-9][0-9]\b`)
	return hostPorts.ReplaceAllStringFunc(text, func(port string) string {
		n, _ := strconv.Atoi(port)
		return strconv.Itoa(n + distance)
	})
}

// freeDistance returns how far the ports of the lab have to move so that all of them are free on loopback.
func freeDistance() int {
	used := []int{8710, 8711, 8713, 8714, 8715, 8720, 8780, 8781}
	for distance := 0; distance < 20000; distance += 100 {
		free := true
		for _, port := range used {
			l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port+distance)))
			if err != nil {
				free = false
				break
			}
			l.Close()
		}
		if free {
			return distance
		}
	}
	return 0
}

// Distance returns how far the ports of a lab have moved that was written, see [Write].
func Distance(dir string) (int, error) {
	text, err := os.ReadFile(filepath.Join(dir, "tide-log", "stack.toml"))
	if err != nil {
		return 0, err
	}
	m := regexp.MustCompile(`"([0-9]+) -> 8711/udp"`).FindSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("tide-log does not publish 8711/udp any more")
	}
	n, err := strconv.Atoi(string(m[1]))
	return n - 8711, err
}

// Engines starts a stand-in for each machine, on the sockets that the lab in dir names. The returned function
// ends them.
func Engines(dir string) (end func(), err error) {
	text, err := machineFiles.ReadFile("images.toml")
	if err != nil {
		return nil, err
	}
	catalogue, err := standin.ParseCatalogue(text)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(dir, ".lantern"), 0o700); err != nil {
		return nil, err
	}
	var running []*standin.Server
	end = func() {
		for _, s := range running {
			s.Close()
		}
	}
	for _, h := range Hosts {
		text, err := machineFiles.ReadFile(h.Name + ".json")
		if err != nil {
			end()
			return nil, err
		}
		machine, err := survey.Parse(text)
		if err != nil {
			end()
			return nil, err
		}
		s, err := standin.Start(filepath.Join(dir, ".lantern",
			h.Name+".sock"), standin.Options{
			Catalogue: catalogue,
			Machine:   machine,
			Platform:  h.Platform,
			PullSpeed: pullSpeed,
		})
		if err != nil {
			end()
			return nil, err
		}
		running = append(running, s)
	}
	return end, nil
}
