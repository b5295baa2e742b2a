//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

const (
	fixLab   = "lab = \"skerry-light\"\ntimezone = \"atlantic/Faroe\"\n[let]\npw = \"q7Z\"\n[host.lamp-room]\n"
	fixStack = `[service.desk]
imgae = "registry.skerry.example/desk:1"
env-files = ["mast.env"]
env.A_PASSWORD = "three words of our own"
env.B_TOKEN = "${pw}"
timezone = "utc"
[service.store]
image = "registry.skerry.example/store:1"
env.TZ = "${timezome}"
env.C_TOKEN = "9x!"
# the end of it
stop-within = "9s"`
)

func fixBench(t *testing.T) *bench {
	b := &bench{t: t, dir: t.TempDir()}
	b.write("lab.toml", fixLab)
	b.write("mast/stack.toml", fixStack)
	b.write("mast/mast.env", "LEVEL=low\n")
	return b
}

func (b *bench) read(name string) string {
	text, err := os.ReadFile(filepath.Join(b.dir, name))
	require.NoError(b.t, err)
	return string(text)
}

// What --fix did is said edit by edit, once each, in text and as JSON, and no secret is in it.
func TestFixSaysWhatItDid(t *testing.T) {
	text, stderr := fixBench(t).run(0, "check", "--offline", "--fix")
	assert.Contains(t, text, "fixed mast/stack.toml:2:1  key-unknown  \"imgae\" becomes \"image\"\n")
	assert.Contains(t, text,
		"fixed mast/mast.env:2:1  env-plain-secret  adds \"A_PASSWORD='hidden (22 characters)'\"\n")
	assert.Equal(t, 6, strings.Count(text, "fixed "), text)
	b := fixBench(t)
	inJSON, more := b.run(0, "check", "--offline", "--fix", "--format", "json")
	var said struct {
		Findings []any
		Fixed    []struct {
			Rule, Old, New string
			At             struct{ Line int }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(inJSON), &said))
	require.Len(t, said.Fixed, 6)
	assert.Equal(t, "zone-unknown", said.Fixed[0].Rule)
	assert.Equal(t, []any{2, "atlantic/Faroe", "Atlantic/Faroe"},
		[]any{said.Fixed[0].At.Line, said.Fixed[0].Old, said.Fixed[0].New})
	for _, secret := range []string{"three words", "q7Z", "9x!"} {
		assert.NotContains(t, text+stderr+inJSON+more, secret)
	}
	assert.Equal(t, "LEVEL=low\nA_PASSWORD='three words of our own'\n", b.read("mast/mast.env"))
	again, _ := b.run(0, "check", "--offline", "--fix", "--format", "json")
	require.NoError(t, json.Unmarshal([]byte(again), &said))
	assert.Empty(t, said.Fixed)
	assert.Contains(t, again, `"fixed": []`)
	plain, _ := b.run(0, "check", "--offline", "--format", "json")
	assert.NotContains(t, plain, `"fixed"`)
}

// --fix --dry-run writes nothing. patch makes of its diff what --fix would, but for the lines with secrets,
// which are not in it.
func TestFixAsADiff(t *testing.T) {
	b := fixBench(t)
	b.run(2, "check", "--dry-run")
	diff, stderr := b.run(0, "check", "--offline", "--fix", "--dry-run")
	assert.Equal(t, fixStack, b.read("mast/stack.toml"))
	assert.Equal(t, fixLab, b.read("lab.toml"))
	for _, secret := range []string{"three words", "q7Z", "9x!"} {
		assert.NotContains(t, diff+stderr, secret)
	}
	assert.Contains(t, diff,
		"# mast/mast.env: +A_PASSWORD='hidden (22 characters)'\n"+
			"# mast/stack.toml: -env.A_PASSWORD = \"hidden (22 characters)\"\n")
	assert.Contains(t, stderr,
		"2 lines with secrets, or with signs that no terminal shows, stand above the diff and not in it")
	patch, err := exec.LookPath("patch")
	if err != nil {
		t.Skip("there is no patch on this machine")
	}
	cmd := exec.CommandContext(t.Context(), patch, "-p0", "--fuzz=0")
	cmd.Dir, cmd.Stdin = b.dir, strings.NewReader(diff)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t,
		strings.NewReplacer("imgae", "image", `"utc"`, `"UTC"`, "timezome", "timezone").Replace(fixStack),
		b.read("mast/stack.toml"))
	assert.Equal(t, strings.Replace(fixLab, "atlantic", "Atlantic", 1), b.read("lab.toml"))
	assert.Equal(t, "LEVEL=low\n", b.read("mast/mast.env"))
}

// What is unknown mends nothing: files that cannot be read, a mistake in lab.toml, a host that was not seen.
func TestFixLeavesAlone(t *testing.T) {
	stack := "[volume.readings]\n[volume.spare]\n[service.desk]\n" +
		"image = \"registry.skerry.example/desk:1\"\nports = [\"8710 -> 80\", \"8710 -> 81\"]\n" +
		"mounts = [\"volume readings -> /data\"]\nenv-files = [\"mast.env\"]\n"
	for name, files := range map[string]map[string]string{
		"a file that is a folder": {"lab.toml": "lab = \"skerry-light\"\n[host.lamp-room]\n",
			"mast/stack.toml": stack, "mast/mast.env/x": ""},
		"lab.toml is broken": {"lab.toml": "lab = \"skerry-light\"\n[host.lamp-room\n",
			"mast/stack.toml": stack, "mast/mast.env": "A=b\n"},
		"another stack is broken": {"lab.toml": "lab = \"skerry-light\"\n[host.lamp-room]\n",
			"mast/stack.toml": stack, "mast/mast.env": "A=b\n", "vane/stack.toml": "[service.vane\n"},
		"a name that is a guess": {"lab.toml": "lab = \"skerry-light\"\n[host.lamp-room]\n",
			"mast/stack.toml": strings.Replace(stack, "volume readings ->", "volume reedongs ->", 1),
			"mast/mast.env":   "A=b\n"},
	} {
		b := &bench{t: t, dir: t.TempDir()}
		for path, text := range files {
			b.write(path, text)
		}
		stdout, stderr := b.run(1, "check", "--offline", "--fix")
		assert.NotContains(t, stdout+stderr, "mended", name)
		assert.Equal(t, files["mast/stack.toml"], b.read("mast/stack.toml"), name)
		assert.Equal(t, files["lab.toml"], b.read("lab.toml"), name)
	}
}

// Whose a volume is: said before it is made, and, once something is in it, judged as folders are.
func TestVolumeOwners(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address))
		stack := func(more string) {
			b.write("tide-log/stack.toml",
				"[volume.readings]\n\n[service.desk]\nimage = \""+enginetest.Page+
					"\"\nmounts = [\"volume readings -> /readings\"]\nready = { http = \"8080/\" }\n"+
					"env.PROBE_WRITE = \"/readings\"\n"+more)
		}
		stack("run-as = \"1312:1401\"\n")
		text, _ := b.run(0, "check")
		assert.Contains(t, text, "volume-owner  note")
		assert.Contains(t, text, "the volume readings is new")
		assert.NotContains(t, text, "mount-denied")
		stack("run-as = \"image\"\n") // root's, who writes into it
		b.run(0, "deploy", "--yes")
		text, _ = b.run(0, "check")
		assert.NotContains(t, text, "volume-owner")
		stack("run-as = \"1312:1401\"\n")
		if !target.Real() {
			return // volumes of the stand-in stay empty
		}
		text, _ = b.run(1, "check")
		assert.Contains(t, text, "mount-denied  error")
		assert.Regexp(t, `the volume tide-log.readings on lamp-room: uid 1312( inside, which is uid \d+ on the host,)? may not write there`, text)
		assert.Contains(t, text, `run-as = "0:0", whom it belongs to; or, once, a container that runs as root and gives it to 1312:1401`)
	})
}
