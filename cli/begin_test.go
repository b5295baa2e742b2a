//go:build linux

package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// A lab is made from nothing, with options or with questions on a terminal; nothing is written over.
func TestBegin(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		must(program()) // while we are in the module
		t.Chdir(t.TempDir())
		b.dir = ""
		stdout, stderr := b.run(0, "begin", "skerry", "--engine", target.Address, "--host-name", "lamp-room", "--address",
			"lamp-room.skerry.example", "--timezone", "Atlantic/Faroe", "--owner", "root", "--data", "/srv/skerry")
		text, err := os.ReadFile("skerry/lab.toml")
		require.NoError(t, err)
		assert.Regexp(t, `lab = "skerry"  # .*
timezone = "Atlantic/Faroe"  # of lamp-room
owner = "root"  # whose data it is.*

\[folder\]
data = "/srv/skerry"  # .*

\[host.lamp-room\]
# .+ linux/\w+
engine = "`+target.Address+`"
address = "lamp-room.skerry.example"  # `, string(text))
		assert.Contains(t, stdout, "lab.toml\n  lab = \"skerry\"")
		assert.Contains(t, stderr, "written in ")
		ignored, err := os.ReadFile("skerry/.gitignore")
		require.NoError(t, err)
		assert.Contains(t, string(ignored), "\n*.env\n")
		b.dir = "skerry"
		b.run(0, "check", "--strict")
		b.dir = ""
		_, stderr = b.run(2, "begin", "skerry", "--yes")
		assert.Contains(t, stderr, "is a lab already: it has a lab.toml")
		_, stderr = b.run(2, "begin", "skerry/inside", "--yes")
		assert.Contains(t, stderr, "a lab cannot lie in another one")
		_, stderr = b.run(2, "begin", "odd", "--name", "Odd Name", "--engine", target.Address)
		assert.Contains(t, stderr, `--name: "Odd Name" is no name`)
		assert.NoDirExists(t, "odd")
		stdout, _ = b.run(0, "begin", "odd", "--dry-run", "--engine", target.Address)
		assert.Contains(t, stdout, "lab = \"odd\"")
		assert.NoDirExists(t, "odd")
		b.run(2, "init")

		require.NoError(t, os.Mkdir("kept", 0o755))
		require.NoError(t, os.WriteFile(filepath.Join("kept", ".gitignore"), []byte("mine\n"), 0o644))
		c := b.consoleAt(100, 40, "begin", "kept", "--engine", target.Address, "--owner", "root")
		c.shows(`What is the lab called\?`)
		c.types("\x15Light House\r")
		c.shows(`"Light House" is no name`)
		c.types("\x15light\r")
		c.shows(`┃ What is this machine called\?`)
		c.types("\x15lamp-room\r")
		c.shows(`┃ How do browsers reach it\?`)
		c.types("\x15lamp-room.skerry.example\r")
		c.shows(`┃ In which zone are the services\?`)
		c.types("\x15Atlantic/Faroe\r")
		c.shows(`┃ Below which folder does the data lie\?`)
		c.types("\x15/srv/light\r")
		c.shows(`(?s)written in .*kept\n.gitignore stays as it is`)
		c.ends(0)
		text, err = os.ReadFile("kept/lab.toml")
		require.NoError(t, err)
		assert.Contains(t, string(text), `lab = "light"`)
		assert.Contains(t, string(text), `address = "lamp-room.skerry.example"`)
		ignored, err = os.ReadFile("kept/.gitignore")
		require.NoError(t, err)
		assert.Equal(t, "mine\n", string(ignored))

		c = b.consoleAt(100, 40, "begin", "never", "--engine", target.Address)
		c.shows(`What is the lab called\?`)
		c.types("\x03")
		c.shows(`interrupted; nothing was written`)
		c.ends(130)
		assert.NoDirExists(t, "never")
	})
}
