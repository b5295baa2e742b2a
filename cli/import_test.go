//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// A file of services is imported, checked and deployed; what has no counterpart is told with its line.
func TestImport(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		there := t.TempDir()
		put := func(name, text string) {
			require.NoError(t, os.WriteFile(filepath.Join(there, name), []byte(text), 0o600))
		}
		port := freePort(t)
		put(".env", fmt.Sprintf("DESK_PORT=%d\n", port))
		put("desk.env", "STATION_TOKEN=token-of-the-lamp-room\n")
		put("tides.yaml", `x-common: &common
  restart: unless-stopped
services:
  my_desk:
    <<: *common
    image: `+enginetest.Page+`
    ports: ["${DESK_PORT}:8080"]
    environment: {LEVEL: info, DESK_PASSWORD: moon-over-the-skerry}
    env_file: desk.env
    volumes: ["state:/state"]
    depends_on: [store]
    domainname: skerry.example
    healthcheck: &asks {test: [CMD, /probe, ask, "8080"], interval: 5s}
  store:
    image: `+enginetest.Page+`
    healthcheck: *asks
    restart: always
volumes: {state: }
`)
		file := filepath.Join(there, "tides.yaml")
		_, stderr := b.run(1, "import", file, "--stack", "tides", "--strict")
		assert.Contains(t, stderr, "1 note, so with --strict nothing was written")
		assert.NoDirExists(t, filepath.Join(b.dir, "tides"))
		stdout, stderr := b.run(0, "import", file, "--stack", "tides")
		assert.Contains(t, stdout, "tides.yaml:12  services.my_desk.domainname\n    has no counterpart: write it into hostname, behind a dot\n")
		assert.NotContains(t, stdout+stderr, "moon-over")
		info, err := os.Stat(filepath.Join(b.dir, "tides/my-desk.env"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
		b.run(0, "check", "--strict")
		b.run(0, "deploy", "--yes")
		env := map[string]string{}
		for _, v := range b.containers()["tides.my-desk"].Container.Env {
			env[v.Name] = v.Value.Reveal()
		}
		assert.Equal(t, []string{"info", "moon-over-the-skerry", "token-of-the-lamp-room"},
			[]string{env["LEVEL"], env["DESK_PASSWORD"], env["STATION_TOKEN"]})
		b.page(port)

		// A command line, as pages of images print them.
		put("line", "engine run -d --name tide_line -e PROBE_PAGE=8080 \\\n  "+enginetest.Page+"\n")
		stdout, _ = b.run(0, "import", "--start-command", filepath.Join(there, "line"), "--stack", "line", "--dry-run")
		assert.Contains(t, stdout, "[service.tide-line]")
		_, stderr = b.run(1, "import", "--start-command", file, "--stack", "line")
		assert.Contains(t, stderr, "no options stand in it")

		// What the lab does not have yet is added at the end of lab.toml, once.
		put("shared.yaml", "services:\n  a: {image: b, restart: always, networks: [default, old_way]}\nnetworks:\n  old_way: {external: true}\n")
		was := b.read("lab.toml")
		stdout, _ = b.run(0, "import", filepath.Join(there, "shared.yaml"), "--stack", "shared")
		assert.Contains(t, stdout, "lab.toml, added\n  [network.old-way]")
		now := b.read("lab.toml")
		assert.True(t, strings.HasPrefix(now, was))
		assert.Contains(t, now, "[network.old-way]  # 4: networks; somebody else makes it\nexisting = true\nengine-name = \"old_way\"\n")
		b.run(0, "import", filepath.Join(there, "shared.yaml"), "--stack", "shared-2")
		assert.Equal(t, now, b.read("lab.toml"))
		b.write("lab.toml", was)
		for _, s := range []string{"shared", "shared-2"} {
			require.NoError(t, os.RemoveAll(filepath.Join(b.dir, s)))
		}

		// Profiles are asked for, on a terminal.
		put("profiles.yaml", "services:\n  a: {image: b, restart: always}\n  c: {image: b, restart: always, profiles: [debug, tools]}\n")
		c := b.console(100, 30, "import", filepath.Join(there, "profiles.yaml"), "--stack", "asked", "--dry-run")
		c.shows("Which of these are wanted, too?")
		c.types("tools\r")
		c.shows("[service.c]")
		c.ends(0)

		// And back, for somebody else: without secrets, and with the same meaning.
		out := filepath.Join(t.TempDir(), "out.yaml")
		_, stderr = b.run(0, "export", "tides", "-o", out)
		assert.Contains(t, stderr, "written: "+filepath.Join(filepath.Dir(out), "my-desk.env"))
		text, err := os.ReadFile(out)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "moon-over")
		secrets, err := os.ReadFile(filepath.Join(filepath.Dir(out), "my-desk.env"))
		require.NoError(t, err)
		assert.Equal(t, "DESK_PASSWORD=\nSTATION_TOKEN=\n", string(secrets))
		stdout, _ = b.run(0, "export", "tides")
		assert.Equal(t, string(text), stdout)
		b.run(0, "import", out, "--stack", "again", "--strict", "--dry-run")
		_, stderr = b.run(2, "export", "tides", "-o", out)
		assert.Contains(t, stderr, "out.yaml exists already")
		_, stderr = b.run(2, "export", "nobody")
		assert.Contains(t, stderr, "the lab has no stack nobody")

		_, stderr = b.run(2, "import", file, "--stack", "tides")
		assert.Contains(t, stderr, "tides exists already")
		put("tides.yaml", "services:\n  a:\n    image: b\n    image: c\n")
		_, stderr = b.run(1, "import", file, "--stack", "more")
		assert.Contains(t, stderr, "tides.yaml:4:5: two values for one name: image is there already")
		_, stderr = b.run(2, "import", file)
		assert.Contains(t, stderr, "lantern import needs a file, and --stack NAME")
		_, stderr = b.run(2, "import", filepath.Join(there, "none.yaml"), "--stack", "more")
		assert.Contains(t, stderr, "cannot be read")
	})
}
