//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

const filesText = `[let]
horn-password = { env-file = "fog.env", key = "HORN_PASSWORD" }
[service.front]
image = "%s"
ports = ["localhost:%d -> 8080"]
run-as = "%d:%d"
files = [
  "./front.conf -> /etc/front/front.conf, fill",
  "./site -> /srv/site, mode 0640",
  "./start.sh -> /start.sh, owner 0:0",
]
env.PROBE_FILES = "/etc/front/front.conf /srv/site /srv/site/deep/page.html"
ready = { http = "8080/", within = "5s" }
page = "8080/"
%s
`

const reloadText = `reload = "SIGHUP"`

// filesInside goes through the life of files that are in a container.
func filesInside(b *bench, address, stack string) {
	t := b.t
	front := freePort(t)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
	b.write(stack+"/fog.env", "HORN_PASSWORD=no-ship-in-sight\n")
	write := func(more string) {
		b.write(stack+"/stack.toml", fmt.Sprintf(filesText, enginetest.Tools, front, b.uid, b.gid, more))
	}
	conf := func(text string) {
		b.write(stack+"/front.conf", text+"\npassword = ${horn-password}\nhost = ${host.name}\n")
	}
	conf("level = 1")
	b.write(stack+"/site/index.html", "fog\n")
	b.write(stack+"/site/deep/page.html", "deep fog\n")
	b.write(stack+"/start.sh", "#!/bin/sh\n")
	require.NoError(t, os.Chmod(filepath.Join(b.dir, stack+"/start.sh"), 0o755))
	write("")
	b.run(0, "check", "--strict")
	b.run(0, "deploy", "--yes")
	page := b.page(front)
	assert.Equal(t, "level = 1\npassword = no-ship-in-sight\nhost = lamp-room\n", page.Files["/etc/front/front.conf"])
	assert.Equal(t, "deep index.html", page.Files["/srv/site"])
	assert.Equal(t, "deep fog\n", page.Files["/srv/site/deep/page.html"])
	stdout, _ := b.run(0, "shell", stack+"/front", "--", "ls", "-lnd", "/etc/front/front.conf", "/srv/site", "/srv/site/index.html", "/start.sh")
	var is []string
	for line := range strings.Lines(stdout) {
		f := strings.Fields(line)
		is = append(is, strings.Join([]string{f[0], f[2], f[3], f[len(f)-1]}, " "))
	}
	own := fmt.Sprintf("%d %d", b.uid, b.gid)
	assert.Equal(t, []string{"-rw------- " + own + " /etc/front/front.conf", "drwxr-x--- " + own + " /srv/site",
		"-rw-r----- " + own + " /srv/site/index.html", "-rwxr-xr-x 0 0 /start.sh"}, is)
	stdout, _ = b.run(0, "compare")
	assert.NotContains(t, stdout, "replace")
	first := b.containers()[stack+".front"].ID

	// Without reload, another content replaces.
	conf("level = 2")
	stdout, _ = b.run(0, "compare")
	assert.Contains(t, stdout, "replace")
	assert.Contains(t, stdout, "other content from line 1 on")
	assert.NotContains(t, stdout, "no-ship-in-sight")
	b.run(0, "deploy", "--yes")
	second := b.containers()[stack+".front"].ID
	assert.NotEqual(t, first, second)

	// With it, the same container gets to know of it; one that cannot do with it has what it had before.
	write(reloadText)
	b.run(0, "compare")
	conf("level = 3")
	stdout, _ = b.run(0, "compare")
	assert.Contains(t, stdout, "reload")
	b.run(0, "deploy", "--yes")
	assert.Equal(t, second, b.containers()[stack+".front"].ID)
	assert.Contains(t, b.page(front).Files["/etc/front/front.conf"], "level = 3")
	stdout, _ = b.run(0, "logs", stack)
	assert.Contains(t, stdout, "looked at its files again")
	b.run(0, "compare")
	write("reload = [\"/bin/kill\", \"-HUP\", \"1\"]")
	conf("level = broken")
	b.run(4, "deploy", "--yes")
	assert.Equal(t, second, b.containers()[stack+".front"].ID)
	assert.Contains(t, b.page(front).Files["/etc/front/front.conf"], "level = 3")

	// A file that goes or comes makes another container.
	conf("level = 3")
	require.NoError(t, os.Remove(filepath.Join(b.dir, stack+"/site/index.html")))
	b.run(0, "deploy", "--yes")
	assert.NotEqual(t, second, b.containers()[stack+".front"].ID)
	assert.Equal(t, "deep", b.page(front).Files["/srv/site"])
	b.run(0, "status")

	// The way back brings files of then along.
	b.run(0, "revert", stack, "1", "--yes")
	assert.Equal(t, "level = 1\npassword = ${horn-password}\nhost = ${host.name}\n", b.read(stack+"/front.conf"))
	assert.Equal(t, "fog\n", b.read(stack+"/site/index.html"))
	assert.Contains(t, b.page(front).Files["/etc/front/front.conf"], "level = 1")
	b.run(0, "retire", stack, "--yes")
}
