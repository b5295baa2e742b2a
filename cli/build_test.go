//go:build linux

package cli_test

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

const deskRecipe = `# a desk of one's own
ARG WORKSHOP
FROM ${WORKSHOP} AS works
ARG LEVEL=loud
COPY desk.conf /desk.conf
RUN echo level $LEVEL > /made && cat /desk.conf >> /made
FROM %s AS desk
ARG LEVEL=loud
ENV DESK_LEVEL=$LEVEL
COPY --from=works /made /made
COPY . /all
%s
FROM scratch
`

const deskStack = `[service.base]
image = "skerry.example/lens/base:%[1]s"
build = { folder = "./base" }
ready = { log = "open for", within = "30s" }

[service.desk]
image = "skerry.example/lens/desk:%[1]s"
build = { folder = "./image", recipe = "Containerfile", stage = "desk", arguments = { WORKSHOP = "%[2]s", LEVEL = "%[3]s" } }
ports = ["localhost:%[4]d -> 8080"]
env = { PROBE_FILES = "/made /all" }
ready = { http = "8080/", within = "%[5]s" }
page = "8080/"
after = ["base"]
`

// Images of one's own through their life: made, left alone, made anew for each thing that they are made of, and not at all
// where a step fails.
func TestBuild(t *testing.T) {
	enginetest.EveryAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		b.alone()
		b.buildImages(target.Address)
	})
}

// tap stands between the program and an engine at a unix socket, and tells which calls came that change something.
func tap(t *testing.T, address string) (tapped string, changes func() []string) {
	dir, err := os.MkdirTemp("", "lantern-tap") // the path of a socket has at most 107 bytes
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	var mu sync.Mutex
	var seen []string
	to := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", strings.TrimPrefix(address, "unix://"))
	}}
	server := &http.Server{Handler: &httputil.ReverseProxy{Transport: to, FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.URL.Scheme, r.Out.URL.Host = "http", "engine"
		if r.In.Method != http.MethodGet && r.In.Method != http.MethodHead {
			mu.Lock()
			defer mu.Unlock()
			seen = append(seen, r.In.Method+" "+r.In.URL.Path)
		}
	}}}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return "unix://" + socket, func() []string {
		mu.Lock()
		defer mu.Unlock()
		return slices.Clone(seen)
	}
}

func (b *bench) buildImages(address string) {
	t, port := b.t, freePort(b.t)
	workshop := enginetest.Tools
	if !b.target.Real() {
		workshop = enginetest.Page // whose page says what it has
	}
	stack := b.stack
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
	write := func(level, within string) {
		b.write(stack+"/stack.toml", fmt.Sprintf(deskStack, b.own, workshop, level, port, within))
	}
	recipe := func(more string) {
		b.write(stack+"/image/Containerfile", fmt.Sprintf(deskRecipe, "skerry.example/lens/base:"+b.own, more))
	}
	base := func(more string) { b.write(stack+"/base/Dockerfile", "FROM "+enginetest.Page+"\n"+more) }
	t.Cleanup(func() {
		for _, name := range []string{"desk", "base"} {
			reference := "skerry.example/lens/" + name + ":" + b.own
			if image, err := b.engine.Image(context.Background(), reference); err == nil {
				b.engine.RemoveImage(context.Background(), image.ID, reference)
			}
		}
	})
	ids := func() map[string]string {
		all := map[string]string{}
		for name, c := range b.containers() {
			if strings.HasPrefix(name, stack+".") { // other tests of the lab may have others
				all[name] = c.ID
			}
		}
		return all
	}
	made := func(level, conf string) {
		t.Helper()
		page := b.page(port)
		assert.Contains(t, page.Env, "DESK_LEVEL="+level)
		if b.target.Real() {
			assert.Equal(t, "level "+level+"\n"+conf, page.Files["/made"])
		}
	}
	write("quiet", "20s")
	recipe("")
	base("LABEL example.skerry.lens=first\n")
	b.write(stack+"/image/desk.conf", "lens = 1\n")
	b.write(stack+"/image/.containerignore", "recordings\n")
	b.write(stack+"/image/recordings/fog.txt", "left out")
	b.write(stack+"/image/keeper.env", "KEEPER_PASSWORD=seven-bells-and-no-more\n")

	// Nothing of it is there: base first, then what rests on it.
	b.run(0, "check", "--strict")
	stdout, _ := b.run(0, "compare")
	assert.Regexp(t, `(?s)build +skerry.example/lens/base:\S+ +not built yet.*build +skerry.example/lens/desk:\S+ +not built yet`, stdout)
	_, stderr := b.run(0, "deploy", "--yes", "--verbose")
	assert.Contains(t, strings.ToLower(stderr), "copy desk.conf /desk.conf")
	assert.NotContains(t, stderr, "seven-bells")
	made("quiet", "lens = 1\n")
	if b.target.Real() {
		assert.Equal(t, ".containerignore Containerfile desk.conf", b.page(port).Files["/all"], "no secret, and nothing that is left out")
	}
	first := ids()
	require.Len(t, first, 2)

	// What is left out is no part of it, and unchanged means no call that changes anything.
	b.write(stack+"/image/recordings/more.txt", "left out, too")
	b.write(stack+"/image/keeper.env", "KEEPER_PASSWORD=another\n")
	tapped, changes := tap(t, b.target.Address)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, tapped))
	b.run(0, "deploy", "--yes")
	assert.Empty(t, changes(), "calls that change something")
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
	assert.Equal(t, first, ids())
	b.run(0, "status")

	// Another file, another argument, another base: each makes it anew, and replaces.
	last := first
	anew := func(level, conf string, both bool) {
		t.Helper()
		stdout, _ := b.run(0, "compare")
		assert.Regexp(t, `build +skerry.example/lens/desk:\S+ +its `, stdout)
		assert.Equal(t, both, strings.Contains(stdout, "lens/base:"+b.own+"  its files"), stdout)
		assert.Regexp(t, `replace  desk\n +image +\S+ becomes \S+, built anew`, stdout)
		b.run(0, "deploy", "--yes")
		made(level, conf)
		now := ids()
		assert.NotEqual(t, last[stack+".desk"], now[stack+".desk"])
		assert.Equal(t, both, last[stack+".base"] != now[stack+".base"])
		last = now
		stdout, _ = b.run(0, "compare")
		assert.Contains(t, stdout, "up to date")
	}
	b.write(stack+"/image/notes.txt", "which no step takes")
	b.run(0, "deploy", "--yes")
	last = ids()
	stdout, _ = b.run(0, "compare")
	assert.Contains(t, stdout, "up to date")
	b.write(stack+"/image/desk.conf", "lens = 2\n")
	anew("quiet", "lens = 2\n", false)
	write("bright", "20s")
	anew("bright", "lens = 2\n", false)
	base("LABEL example.skerry.lens=second\n")
	anew("bright", "lens = 2\n", true)

	// A step that fails changes nothing, and is shown with its last lines.
	failing := `RUN ["/probe", "exit", "3"]`
	recipe(failing)
	_, stderr = b.run(4, "deploy", "--yes")
	assert.Contains(t, stderr, "nothing was changed")
	assert.Contains(t, stderr, "the lens is cracked")
	assert.Regexp(t, `(?i)step \d+/\d+ ?: ?run \["/probe", ?"exit", ?"3"\]`, stderr)
	assert.Equal(t, last, ids())
	made("bright", "lens = 2\n")
	stdout, _ = b.run(4, "--format", "json", "deploy", "--yes")
	var steps []string
	for line := range strings.Lines(stdout) {
		var e struct{ Step, State, Result string }
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		steps = append(steps, cmp.Or(e.Result, e.Step+" "+e.State))
	}
	assert.Subset(t, steps, []string{"build begun", "build failed"})
	assert.False(t, slices.ContainsFunc(steps, func(s string) bool { return strings.HasPrefix(s, "stop") }))

	// One that is built and never ready is put back.
	recipe("ENV PROBE_NEVER_READY=1")
	if b.target.Real() {
		write("bright", "3s")
		b.run(4, "deploy", "--yes")
		assert.Equal(t, last, ids())
		made("bright", "lens = 2\n")
	}

	// The way back takes the files of then.
	b.run(0, "revert", stack, "1", "--yes")
	assert.Equal(t, "lens = 1\n", b.read(stack+"/image/desk.conf"))
	made("quiet", "lens = 1\n")
	b.run(0, "retire", stack, "--yes")
}
