//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// pushWithPorts puts the image with a page into a registry, as one that declares its port and a folder for data.
func pushWithPorts(t *testing.T, reference string) string {
	t.Helper()
	for tag, image := range enginetest.Images(t) {
		if tag.String() != enginetest.Page {
			continue
		}
		config, err := image.ConfigFile()
		require.NoError(t, err)
		config = config.DeepCopy()
		config.Config.ExposedPorts = map[string]struct{}{"8080/tcp": {}}
		config.Config.Volumes = map[string]struct{}{"/data": {}}
		image, err := mutate.ConfigFile(image, config)
		require.NoError(t, err)
		ref, err := name.ParseReference(reference)
		require.NoError(t, err)
		require.NoError(t, remote.Write(ref, image))
	}
	return reference
}

// From nothing to a page, by options only: begin, draft, check, deploy.
func TestDraft(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		page := enginetest.Page
		if target.Real() { // those of the tests declare no ports
			page = pushWithPorts(t, enginetest.Registry(t)+fmt.Sprintf("/skerry/draft-%d:1", os.Getpid()))
		}
		b.run(0, "begin", b.dir, "--name", b.lab(), "--engine", target.Address, "--host-name", "lamp-room", "--address",
			"localhost", "--owner", "root", "--data", b.data, "--yes")
		stdout, _ := b.run(1, "draft", page, "--stack", "tide-log", "--strict", "--format", "json")
		var drafted struct {
			Stack   string
			Written bool
			Files   []struct{ Path, Text string }
			Notes   []struct {
				At            struct{ Line int }
				Element, Text string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(stdout), &drafted), stdout)
		assert.False(t, drafted.Written)
		assert.NoDirExists(t, filepath.Join(b.dir, "tide-log"))
		require.NotEmpty(t, drafted.Notes)
		_, stderr := b.run(0, "draft", page, "--stack", "tide-log")
		assert.Contains(t, stderr, fmt.Sprintf("written: tide-log/stack.toml; %d questions in it", len(drafted.Notes)))
		text := b.read("tide-log/stack.toml")
		// Other tests on this machine open and close ports between the two looks; who has which is shown in core/draft.
		port := regexp.MustCompile(`"(\d+) -> 8080"`)
		require.Len(t, port.FindAllString(text, -1), 1)
		assert.Equal(t, port.ReplaceAllString(drafted.Files[0].Text, "PORT"), port.ReplaceAllString(text, "PORT"))
		for _, n := range drafted.Notes {
			assert.Contains(t, strings.Split(text, "\n")[n.At.Line-1], n.Text)
		}
		// They rely on those ports being closed, too, that a draft takes: the test goes on with one of its own.
		b.write("tide-log/stack.toml", port.ReplaceAllString(text, fmt.Sprintf(`"%d -> 8080"`, freePort(t))))
		b.run(0, "check", "--strict")
		if os.Getuid() == 0 {
			b.run(0, "prepare", "--yes")
		}
		b.run(0, "deploy", "--yes")
		answers := 0
		for _, c := range b.containers() {
			for _, p := range c.Container.Ports {
				if p.Container == 8080 {
					b.page(p.Host)
					answers++
				}
			}
		}
		assert.Equal(t, 1, answers, "the page is open to others, and answers")

		// Several at once, the one with a user of its own on a volume.
		b.run(0, "draft", enginetest.Tools, enginetest.Page, enginetest.Page, "--stack", "mast", "-q")
		b.run(0, "check", "mast", "--strict")
		b.run(0, "deploy", "mast", "--yes")
		b.run(0, "status")

		_, stderr = b.run(2, "draft", enginetest.Page, "--stack", "mast")
		assert.Contains(t, stderr, "mast exists already, and nothing is written over")
		_, stderr = b.run(2, "draft", enginetest.Page, "--stack", "../mast")
		assert.Contains(t, stderr, `"../mast" cannot be the name of a stack`)
		_, stderr = b.run(2, "draft", enginetest.Page)
		assert.Contains(t, stderr, "lantern draft needs images or --like STACK, and --stack NAME")
		if !target.Real() {
			_, stderr = b.run(1, "draft", "registry.skerry.example/prob:1", "--stack", "gone")
			assert.Contains(t, stderr, "registry.skerry.example/probe")
		}
		require.NoError(t, os.WriteFile(filepath.Join(b.dir, "lab.toml"),
			[]byte(b.read("lab.toml")+"[host.boathouse]\nengine = \"tcp://127.0.0.1:9\"\n"), 0o644))
		_, stderr = b.run(2, "draft", enginetest.Page, "--stack", "third")
		assert.Contains(t, stderr, "--host says for which one the stack is: lamp-room, boathouse")
		b.run(0, "draft", enginetest.Page, "--stack", "third", "--host", "lamp-room")
		assert.Contains(t, b.read("third/stack.toml"), "\nhost = \"lamp-room\"\n")
	})
}
