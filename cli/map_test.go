//go:build linux

package cli_test

import (
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// A lab is drawn into files and as text, with what is wrong in it; also one of which nothing is declared yet.
func TestMap(t *testing.T) {
	_, address := enginetest.StartStandIn(t, standin.Options{})
	b := newBench(t, enginetest.Target{Name: "stand-in", Address: address})
	b.write("lab.toml", "lab = \"skerry-light\"\n[host.lamp-room]\nengine = \""+address+"\"\n")
	stdout, _ := b.run(0, "map")
	assert.Equal(t, "skerry-light  1 host, 0 stacks, 0 services\n\nlamp-room\n  nothing\n", stdout)
	files := t.TempDir()
	drawn := func(name string, args ...string) string {
		path := filepath.Join(files, name)
		_, stderr := b.run(0, append([]string{"map", "-o", path}, args...)...)
		assert.Equal(t, "written: "+path+"\n", stderr)
		return path
	}
	texts, _ := readSVG(t, drawn("empty.svg"))
	assert.Contains(t, texts, "No stack is declared yet.")

	b.write("lab.toml", fmt.Sprintf(`lab = "skerry-light"
[host.lamp-room]
engine = "%s"
address = "lamp-room.skerry.example"
[host.mast]
engine = "tcp://127.0.0.1:9"
`, address))
	b.write("tide-log/stack.toml", `host = "lamp-room"
[service.desk]
image = "registry.skerry.example/probe:1"
ports = ["8713 -> 80", "localhost:8711 -> 8711/udp"]
env.STORE_URL = "http://store:7410"
mounts = ["/nowhere/<tides> -> /desk, read-only"]
[service.store]
image = "registry.skerry.example/probe-store:1"
`)
	b.write("mast/stack.toml", `host = "mast"
[service.vane]
image = "registry.skerry.example/probe:1"
env.DESK_URL = "http://lamp-room.skerry.example:8713/"
`)
	stdout, _ = b.run(0, "map")
	for _, line := range []string{
		"2 hosts, 2 stacks, 3 services", "\n  error   host-unreachable: ", "\n      port    8713 → 80\n",
		"\n      port    localhost:8711 → 8711/udp\n", "\n      folder  /nowhere/<tides> → /desk, read-only\n",
		"\n      needs   tide-log/store 7410, by STORE_URL\n", "\n      needs   tide-log/desk 8713, by DESK_URL\n",
		"\n      error   mount-missing: ",
	} {
		assert.Contains(t, stdout, line)
	}
	texts, wires := readSVG(t, drawn("whole.svg"))
	for _, text := range []string{"lamp-room", "tide-log", "desk", "registry.skerry.example/probe:1", "8713 → 80",
		"/nowhere/<tides> → /desk, read-only", "network tide-log.net", "needs tide-log/store 7410", "error mount-missing",
		"error host-unreachable"} {
		assert.Contains(t, texts, text)
	}
	assert.ElementsMatch(t, []string{"tide-log/desk needs tide-log/store", "mast/vane needs tide-log/desk"}, wires)
	texts, _ = readSVG(t, drawn("part.SVG", "tide-log", "--offline"))
	assert.NotContains(t, texts, "mast")
	picture, err := os.Open(drawn("whole.png"))
	require.NoError(t, err)
	defer picture.Close()
	image, err := png.Decode(picture)
	require.NoError(t, err)
	colours := map[string]bool{}
	for x := range image.Bounds().Dx() {
		for y := range image.Bounds().Dy() {
			r, g, b, _ := image.At(x, y).RGBA()
			colours[fmt.Sprintf("#%02x%02x%02x", r>>8, g>>8, b>>8)] = true
		}
	}
	for _, colour := range []string{"#fbfaf6", "#edf1f1", "#ffffff", "#1d2a33", "#14776b", "#c0362c", "#3b6fb6", "#8a55a8"} {
		assert.True(t, colours[colour], "%s is on it", colour)
	}
	_, stderr := b.run(2, "map", "-o", "lab.gif")
	assert.Contains(t, stderr, "--output: lab.gif ends neither in .svg nor in .png")
	_, stderr = b.run(2, "map", "-o", filepath.Join(files, "nowhere", "lab.svg"))
	assert.Contains(t, stderr, "cannot be written: ")
	_, stderr = b.run(2, "map", "tides")
	assert.Contains(t, stderr, "the lab has no stack tides")
}

// readSVG returns the texts of a picture, and what its wires are called.
func readSVG(t *testing.T, path string) (texts, wires []string) {
	file, err := os.Open(path)
	require.NoError(t, err)
	defer file.Close()
	in, title := "", 0
	for d := xml.NewDecoder(file); ; {
		token, err := d.Token()
		if err == io.EOF {
			return texts, wires
		}
		require.NoError(t, err)
		switch v := token.(type) {
		case xml.StartElement:
			in = v.Name.Local
		case xml.EndElement:
			in = ""
		case xml.CharData:
			switch text := strings.TrimSpace(string(v)); in {
			case "text":
				texts = append(texts, text)
			case "title":
				if title++; title > 1 { // the first is that of the whole
					wires = append(wires, text)
				}
			}
		}
	}
}
