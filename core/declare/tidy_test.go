package declare

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/source"
)

func TestTidy(t *testing.T) {
	x, y := strings.Repeat("x", 50), strings.Repeat("y", 50)
	unchanged := "[service.a]\nimage = \"\"\"\n  a\n\"\"\"\nenv.\"a b\" = '''\n [x] # no comment\n'''\n" +
		"labels = { \"a.b\" = \"#\", c = 'd' }\n"
	for name, c := range map[string]struct{ messy, tidy string }{
		"blanks and order": {
			"\n\n[service.desk]\nports=[ '8710 -> 80' ,\"8711 -> 81\",]\nimage   =\"a\"   # the desk\n\n\n" +
				"\nenv . A=1\n[ let ]\n a = \"b\"  \n",
			"[let]\na = \"b\"\n\n[service.desk]\nimage = \"a\"  # the desk\n" +
				"ports = ['8710 -> 80', \"8711 -> 81\"]\n\nenv.A = 1\n",
		},
		"comments stay with what they stand at": {
			"# Readings.\n# Since 1911.\n\n# where it runs\nhost = \"lamp-room\"\nabout = \"Tides\" # all\n" +
				"# the desk\n[service.desk] # with a window\n" +
				"mounts = [ # two\n  # the data\n  \"a -> b\"  # never lost\n , \"c -> d\",\n  # no more\n" +
				"]\nimage = \"a\"\n# the end\n",
			"# Readings.\n# Since 1911.\n\nabout = \"Tides\"  # all\n# where it runs\n" +
				"host = \"lamp-room\"\n\n# the desk\n[service.desk]  # with a window\nimage = \"a\"\n" +
				"mounts = [\n  # two\n  # the data\n  \"a -> b\",  # never lost\n  \"c -> d\",\n" +
				"  # no more\n]\n\n# the end\n",
		},
		"tables keep their own order among each other": {
			"[service.b]\nready={log=\"x\",within = \"5s\"}\nimage=\"b\"\n[service.a]\nimage=\"a\"\n" +
				"[service.b.env]\nZ=1\nA=2\n[volume.v]\n",
			"[volume.v]\n\n[service.b]\nimage = \"b\"\nready = { log = \"x\", within = \"5s\" }\n\n" +
				"[service.b.env]\nZ = 1\nA = 2\n\n[service.a]\nimage = \"a\"\n",
		},
		"a long list": {
			"[service.a]\nimage = \"a\"\ncommand = [\"" + x + "\", \"" + y + "\"]\n",
			"[service.a]\nimage = \"a\"\ncommand = [\n  \"" + x + "\",\n  \"" + y + "\",\n]\n",
		},
		"from another system": {"[service.a]\r\nimage = \"a\"\r\n\r\n# end\r\n",
			"[service.a]\nimage = \"a\"\n\n# end\n"},
		"what must not change":  {unchanged, unchanged},
		"nothing but a comment": {"  # soon\n\n", "# soon\n"},
		"nothing":               {"", ""},
	} {
		t.Run(name, func(t *testing.T) {
			text, problems := Tidy(source.NewFile("mast/stack.toml", c.messy))
			require.Empty(t, problems)
			assert.Equal(t, c.tidy, text)
		})
	}
	broken := "[service.a\nimage = 1"
	text, problems := Tidy(source.NewFile("mast/stack.toml", broken))
	assert.Equal(t, broken, text)
	assert.NotEmpty(t, problems)
}

// Every file of the cases and of the demo means the same when it is tidy, keeps each of its comments, and is
// then tidy for good.
func TestTidyKeepsEverything(t *testing.T) {
	files := 0
	for _, root := range []string{"../check/testdata", "../../demo"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.Contains(d.Name(), ".toml") || d.Name() == "images.toml" {
				return err
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			path = strings.TrimSuffix(path, ".mended")
			before, broken := readTOML(source.NewFile(path, string(text)))
			if len(broken) > 0 {
				return nil
			}
			files++
			once, problems := Tidy(source.NewFile(path, string(text)))
			require.Empty(t, problems, path)
			after, problems := readTOML(source.NewFile(path, once))
			require.Empty(t, problems, path)
			assert.True(t, sameTable(before, after), path)
			twice, _ := Tidy(source.NewFile(path, once))
			assert.Equal(t, once, twice, path)
			if strings.HasPrefix(path, "../../demo") {
				assert.Equal(t, once, string(text), "the demo shows tidy files")
			}
			assert.Equal(t, strings.Count(string(text), "#"), strings.Count(once, "#"), path)
			return nil
		}))
	}
	assert.Greater(t, files, 100)
}
