package draft

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// A copy has what is free of its own, and tells what both share.
func TestLike(t *testing.T) {
	texts := map[string]string{
		"lab.toml": "lab = \"skerry\"\nlet.port = \"8719\"\n[folder]\ndata = \"/srv\"\n[host.lamp-room]\n[network.causeway]\n",
		"mast/stack.toml": `networks = ["causeway"]  # with the others

[let]
pw = { env-file = "mast.env", key = "PW_PASSWORD" }

[service.desk]  # the desk
image = "a:1"
ports = ["8710 -> 80", "8711-8712 -> 81-82", "${port} -> 90"]
mounts = ["${folder.data}/mast/desk -> /a", "/srv/masts -> /b", "/srv/${stack.name} -> /c", "./pages -> /d", "/srv/charts -> /e, read-only", "volume v -> /f"]
aliases = ["tides"]
env-files = ["mast.env", "../shared.env", "other.env"]
env.PW_PASSWORD = "${pw}"
[volume.v]
engine-name = "old-v"
`,
		"mast/mast.env":  "# mine\nPW_PASSWORD='moon over skerry'\nLEVEL=info\n",
		"mast/other.env": "A=b\n", "shared.env": "B=c\n",
	}
	decl := declare.Read([]string{"mast"}, func(path string) (string, error) {
		if text, ok := texts[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	})
	l := lab.Resolve(decl, lab.Input{Folder: "/lab"})
	require.Empty(t, l.Problems)
	c := Like(Place{Stack: "pier", Taken: func(port int) bool { return port == 8711 }}, l.Stack("mast"), l.EnvFiles,
		func(n int) string { return strings.Repeat("x", n) })
	want := strings.NewReplacer(`"8710 -> 80"`, `"8712 -> 80"`, "}/mast/desk", "}/pier/desk", `"mast.env"`, `"pier.env"`,
		`"old-v"`, `"pier.v"`).Replace(texts["mast/stack.toml"])
	assert.Equal(t, want, c.Text)
	assert.Equal(t, map[string]string{
		"pier.env":  "# mine\nPW_PASSWORD='" + strings.Repeat("x", 32) + "'\nLEVEL=info\n",
		"other.env": "A=b\n",
	}, c.Env)
	var said []string
	for _, n := range c.Notes {
		said = append(said, n.Text)
	}
	assert.ElementsMatch(t, []string{
		"both stacks publish 8711-8712", "both stacks publish 8719", "both stacks write /srv/masts", "copy ./pages from the folder of mast",
		"both stacks answer to tides on causeway", "both stacks read ../shared.env",
		"PW_PASSWORD was made up; if somebody else chose it, write theirs",
	}, said)
}
