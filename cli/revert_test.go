//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

const revertText = `[service.desk]
image = "%s"
ports = ["localhost:%d -> 8080"]
mounts = ["${folder.data}/%s -> /data"]
env-files = ["tide-log.env"]
run-as = "owner"
ready = { http = "8080/", within = "20s" }
`

// logged returns the logbook's entries as "number kind result".
func (b *bench) logged() (list []string) {
	b.t.Helper()
	stdout, _ := b.run(0, "logbook", "tide-log", "--format", "json")
	var book struct{ Entries []history.Entry }
	require.NoError(b.t, json.Unmarshal([]byte(stdout), &book))
	for _, e := range book.Entries {
		list = append(list, fmt.Sprintf("%d %s %s", e.Number, e.Kind, e.Result))
	}
	return list
}

// Back to what was deployed: image, environment file and mounts as they were, and the files say so.
func TestRevert(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		port := freePort(t)
		lab := fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address)
		b.write("lab.toml", lab)
		write := func(image, folder, env string) {
			b.write("tide-log/stack.toml", fmt.Sprintf(revertText, image, port, folder))
			b.write("tide-log/tide-log.env", env)
		}
		write(enginetest.Page, "store", "LEVEL=low\nLAMP_PASSWORD=the-moon-pulls-the-sea\n")
		b.run(0, "deploy", "--yes")
		first := b.containers()["tide-log.desk"]
		write(enginetest.PageNew, "store", "LEVEL=high\n")
		b.run(0, "deploy", "--yes")
		write(enginetest.NeverReady, "store", "LEVEL=high\n")
		b.write("lab.toml", lab+"ready-within = \"1s\"\n")
		b.write("tide-log/stack.toml",
			strings.Replace(fmt.Sprintf(revertText, enginetest.NeverReady, port, "store"), "20s", "1s", 1))
		b.run(4, "deploy", "--yes")
		b.write("lab.toml", lab)
		write(enginetest.PageNew, "front", "LEVEL=higher\n")
		b.run(0, "deploy", "--yes")
		assert.Equal(t, []string{"1 deploy done", "2 deploy done", "3 deploy put-back", "4 deploy done"},
			b.logged())
		b.write("tide-log/tide-log.env", "LEVEL=never deployed\n")

		_, stderr := b.run(2, "revert", "tide-log", "3", "--yes")
		assert.Contains(t, stderr, "no deploy that succeeded")
		stdout, _ := b.run(0, "revert", "tide-log", "1", "--dry-run")
		assert.Contains(t, stdout, "write    tide-log/stack.toml")
		b.run(0, "revert", "tide-log", "1", "--yes")
		back := b.containers()["tide-log.desk"]
		assert.Equal(t, first.ImageID, back.ImageID)
		assert.Equal(t, first.Container.Mounts, back.Container.Mounts)
		assert.Contains(t, back.Container.Env, plan.Variable{Name: "LEVEL", Value: secret.Plain("low")})
		text, err := os.ReadFile(filepath.Join(b.dir, "tide-log/stack.toml"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf(revertText, enginetest.Page, port, "store"), string(text))
		info, err := os.Stat(filepath.Join(b.dir, "tide-log/tide-log.env"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		b.run(0, "compare", "--fail-if-different")
		assert.Equal(t, "5 revert done", b.logged()[4])

		// What was written over is kept.
		saved := filepath.Join(t.TempDir(), "saved")
		b.run(0, "logbook", "tide-log", "5", "--save", saved)
		text, err = os.ReadFile(filepath.Join(saved, "before/tide-log/tide-log.env"))
		require.NoError(t, err)
		assert.Equal(t, "LEVEL=never deployed\n", string(text))
		stdout, stderr = b.run(0, "logbook", "tide-log", "1")
		assert.NotContains(t, stdout+stderr, "the-moon-pulls")
		// Without a number: what ran before that was different. A deploy that only starts what had stopped is
		// not.
		require.NoError(t, b.engine.Stop(t.Context(), "tide-log.desk", time.Second))
		b.run(0, "deploy", "--yes")
		assert.Equal(t, "6 deploy done", b.logged()[5])
		b.run(0, "revert", "tide-log", "--yes")
		assert.Equal(t, back.Container.Mounts[0].Target, b.containers()["tide-log.desk"].Container.Mounts[0].Target)
		assert.Contains(t, b.containers()["tide-log.desk"].Container.Env, plan.Variable{
			Name:  "LEVEL",
			Value: secret.Plain("higher"),
		})

		// Another clone counts on from what the engine says.
		clone := *b
		clone.dir = t.TempDir()
		require.NoError(t, os.CopyFS(clone.dir, os.DirFS(b.dir)))
		require.NoError(t, os.RemoveAll(filepath.Join(clone.dir, ".lantern")))
		clone.write("tide-log/tide-log.env", "LEVEL=from afar\n")
		clone.run(0, "deploy", "--yes", "--same-lab")
		assert.Equal(t, []string{"8 deploy done"}, clone.logged())

		// A damaged logbook is said, and keeps nobody from anything.
		require.NoError(t,
			os.WriteFile(filepath.Join(b.dir, ".lantern/logbook.db"), []byte("a wave came over"), 0o600))
		_, stderr = b.run(0, "deploy", "--yes", "--same-lab")
		assert.Contains(t, stderr,
			"warning: this is not in the logbook: the logbook (.lantern/logbook.db) is damaged")
		b.run(2, "logbook")
		require.NoError(t, os.RemoveAll(filepath.Join(b.dir, ".lantern")))
		b.run(0, "retire", "tide-log", "--yes", "--same-lab")
		assert.Equal(t, []string{"10 retire done"}, b.logged())
	})
}

// A tag that has moved since is no way back; the digest of then is.
func TestRevertAMovedTag(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the registry of the stand-in never changes")
		}
		b := newBench(t, target)
		at := enginetest.Registry(t)
		push := func(like string) string { return enginetest.Own(t, target, at, like, "tides") }
		reference := push(enginetest.Page)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		b.write("tide-log/stack.toml",
			"[service.desk]\nimage = \""+reference+
				"\"  # the desk\nfetch = \"each-deploy\"\nready = { tcp = 8080 }\n")
		images := map[string]bool{}
		for _, like := range []string{enginetest.Page, enginetest.PageNew} {
			push(like)
			if before, ok := b.containers()["tide-log.desk"]; ok {
				// The plan knows, before anything is fetched, and nothing is replaced without a yes.
				stdout, _ := b.run(1, "compare", "--fail-if-different")
				assert.Regexp(t, `replace +desk`, stdout)
				stdout, _ = b.run(0, "deploy", "--dry-run")
				assert.Regexp(t, `replace +desk`, stdout)
				b.run(2, "deploy")
				assert.Equal(t, before.ID, b.containers()["tide-log.desk"].ID)
			}
			b.run(0, "deploy", "--yes")
			stdout, _ := b.run(0, "deploy")
			assert.Contains(t, stdout, "up to date")
			images[b.containers()["tide-log.desk"].ImageID] = true
		}
		require.Len(t, images, 2)
		moved := b.containers()["tide-log.desk"].ImageID
		_, stderr := b.run(0, "revert", "tide-log", "--yes")
		assert.Contains(t, stderr, "has moved since; the image of then is named by its digest")
		assert.NotEqual(t, moved, b.containers()["tide-log.desk"].ImageID)
		text, err := os.ReadFile(filepath.Join(b.dir, "tide-log/stack.toml"))
		require.NoError(t, err)
		assert.Regexp(t, `(?m)^image = "[^"]*:\d+@sha256:[0-9a-f]{64}"  # the desk$`, string(text))
		b.run(0, "compare", "--fail-if-different")
		b.run(0, "deploy", "--yes")
		assert.NotEqual(t, moved, b.containers()["tide-log.desk"].ImageID)
	})
}

// compare sees what was changed by hand, and despite lets a deploy go on with its eyes open.
func TestCompareAndDespite(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		port := freePort(t)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		text := fmt.Sprintf(revertText, enginetest.Page, port, "absent")
		b.write("tide-log/tide-log.env", "LEVEL=low\n")
		b.write("tide-log/stack.toml",
			strings.Replace(text, "/absent -> /data", "/store -> /data",
				1)+"[service.late]\nimage = \"registry.skerry.example/probe:1\"\nenv-files = [\"gone.env\"]\n")
		_, stderr := b.run(1, "deploy", "--yes", "--despite", "env-file-missing")
		assert.Contains(t, stderr, "env-file-missing", "what is not known cannot be looked past")
		b.write("tide-log/stack.toml",
			strings.Replace(text, "/absent -> /data", "/store -> /data",
				1)+
				fmt.Sprintf(
					"[service.late]\nimage = \"registry.skerry.example/probe:1\"\npage = \"81/\"\n"+
						"ready = { tcp = 8080, within = \"1s\" }\nports = [\"localhost:%d -> 8080\"]\n",
					freePort(t)))
		b.run(1, "deploy", "--yes")
		assert.Empty(t, b.containers())
		_, stderr = b.run(2, "deploy", "--yes", "--despite", "page-unpublishd")
		assert.Contains(t, stderr, "there is no rule page-unpublishd; page-unpublished is one")
		b.run(4, "deploy", "--yes", "--despite", "page-unpublished") // and its page is not there
		stdout, _ := b.run(0, "logbook", "tide-log", "--format", "json")
		assert.Contains(t, stdout, `"despite": [
        "page-unpublished"
      ]`)

		b.write("tide-log/stack.toml", strings.Replace(text, "/absent -> /data", "/store -> /data", 1))
		b.run(1, "compare", "--fail-if-different")
		b.run(0, "deploy", "--yes")
		b.run(0, "compare", "--fail-if-different")
		// By hand: the same names and labels, but another variable and another restart policy.
		c := b.containers()["tide-log.desk"]
		require.NoError(t, b.engine.Remove(t.Context(), c.ID))
		c.Container.Env = append(slices.DeleteFunc(c.Container.Env, func(v plan.Variable) bool {
			return v.Name == "LEVEL"
		}), plan.Variable{Name: "LEVEL", Value: secret.Plain("by hand")})
		c.Container.Restart.Policy = "no"
		c.Container.Image = enginetest.Page
		id, err := b.engine.Create(t.Context(), c.Name, c.Container, c.Labels, "")
		require.NoError(t, err)
		require.NoError(t, b.engine.Start(t.Context(), id))
		stdout, _ = b.run(1, "compare", "--fail-if-different")
		assert.Regexp(t,
			`(?m)^  replace  desk\n +env.LEVEL +by hand becomes low\n +restart +no becomes unless-stopped\n$`,
			stdout)
		assert.ErrorIs(t, b.engine.Stop(t.Context(), "nobody", time.Second), engine.ErrNotFound)
	})
}
