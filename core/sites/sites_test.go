package sites

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// Copies on another machine than the gate's are reached at a published port each; on its own, by their one name.
func TestRoutesToCopies(t *testing.T) {
	texts := map[string]string{"lab.toml": `lab = "skerry"
[host.lamp-room]
[host.boathouse]
address = "192.0.2.15"
[gate.lamp-room]
http = "8780"
certificates = "none"
`, "mast/stack.toml": `host = "boathouse"
[service.desk]
image = "a:1"
copies = 3
ports = ["8710-8712 -> 80"]
ready = { http = "80/health", status = "200-204" }
sites = ["tides.skerry.example -> 80, plain"]
`}
	l := lab.Resolve(declare.Read([]string{"mast"}, func(path string) (string, error) {
		if text, ok := texts[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	}), lab.Input{Folder: "/lab", Shell: func(string) (string, bool) { return "", false }})
	routes := RoutesOf(l.Stack("mast"), l.Gates[0])
	if assert.Len(t, routes, 1) {
		assert.Equal(t, []string{"192.0.2.15:8710", "192.0.2.15:8711", "192.0.2.15:8712"}, routes[0].Addresses)
		assert.Equal(t, &Ready{Port: 80, Path: "/health", StatusFirst: 200, StatusLast: 204}, routes[0].Ready)
	}
}
