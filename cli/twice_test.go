//go:build linux

package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine/enginetest"
)

// amount returns a number from the environment: some tests do more when they are asked to.
func amount(t *testing.T, variable string, usual int) int {
	text := os.Getenv(variable)
	if text == "" {
		return usual
	}
	n, err := strconv.Atoi(text)
	require.NoError(t, err)
	return n
}

// barrier stands before an engine and lets those who want the lock of a stack go on together only.
type barrier struct {
	mu      sync.Mutex
	waiting chan struct{} // closed when the second one has come; nil: nobody waits
}

// before serves an engine's API at a socket of its own, and returns its address.
func (b *barrier) before(t *testing.T, address string) string {
	t.Helper()
	engine := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(&url.URL{Scheme: "http", Host: "engine"}) },
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", strings.TrimPrefix(address, "unix://"))
		}},
		FlushInterval: -1, ErrorLog: log.New(io.Discard, "", 0),
	}
	socket := filepath.Join(t.TempDir(), "barrier.sock")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/containers/create") &&
			strings.HasSuffix(r.URL.Query().Get("name"), plan.SuffixLock) {
			b.wait(r.Context())
		}
		engine.ServeHTTP(w, r)
	})}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	return "unix://" + socket
}

// wait returns when two are there.
func (b *barrier) wait(ctx context.Context) {
	b.mu.Lock()
	both := b.waiting
	if both == nil {
		both = make(chan struct{})
		b.waiting = both
	} else {
		close(both)
		b.waiting = nil
	}
	b.mu.Unlock()
	select {
	case <-both:
	case <-ctx.Done():
	}
}

// Two processes deploy one stack from two clones, and reach for its lock at the same moment: one wins, the
// other is told by whom, and what runs is never a mix.
func TestTwoProcesses(t *testing.T) {
	times := amount(t, "LANTERN_TEST_TWICE", 3)
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		clone := *b
		clone.dir = t.TempDir()
		text := ""
		for _, s := range []string{"store", "queue", "desk"} {
			text += "[service." + s +
				"]\nimage = \"registry.skerry.example/probe:1\"\nenv.LEVEL = \"%[1]s\"\nready = { tcp = 8080 }\n"
		}
		path, err := program()
		require.NoError(t, err)
		address := (&barrier{}).before(t, target.Address)
		for i := range times {
			var runs []*exec.Cmd
			for side, where := range []*bench{b, &clone} {
				where.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
				where.write("tide-log/stack.toml", fmt.Sprintf(text, fmt.Sprintf("%d-%d", i, side)))
				cmd := exec.CommandContext(t.Context(), path, "--lab", where.dir, "deploy", "--yes", "--same-lab")
				cmd.Stderr = &bytes.Buffer{}
				runs = append(runs, cmd)
				require.NoError(t, cmd.Start())
			}
			var codes []int
			winner := 0
			for side, cmd := range runs {
				cmd.Wait()
				codes = append(codes, cmd.ProcessState.ExitCode())
				said := cmd.Stderr.(*bytes.Buffer).String()
				switch codes[side] {
				case 0:
					winner = side
				case 1:
					other := runs[1-side].Process.Pid
					assert.Regexp(t,
						fmt.Sprintf(
							`nothing was changed: (.*\(pid %d\) is changing this stack since|another deploy, which has just ended)`, other), said)
				default:
					assert.Fail(t, "neither won nor told", "%d: %s", codes[side], said)
				}
			}
			slices.Sort(codes)
			assert.Equal(t, []int{0, 1}, codes, "time %d", i)
			containers := b.containers()
			assert.Len(t, containers, 3, "no lock and no leftover")
			levels := map[string]bool{}
			for name, c := range containers {
				assert.True(t, c.Running, name)
				for _, v := range c.Container.Env {
					if v.Name == "LEVEL" {
						levels[v.Value.Reveal()] = true
					}
				}
			}
			assert.Len(t, levels, 1, "never a mix")
			assert.True(t, levels[fmt.Sprintf("%d-%d", i, winner)], "what the winner declares")
		}
	})
}

// cutting is a registry that breaks off some transfers of layers in the middle.
type cutting struct {
	http.Handler
	left atomic.Int32
}

func (c *cutting) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodGet && strings.Contains(r.URL.Path, "/blobs/") && r.Header.Get("Range") == "" &&
		c.left.Add(-1) >= 0 {
		c.Handler.ServeHTTP(&half{ResponseWriter: w, room: 1 << 20}, r)
		return
	}
	c.Handler.ServeHTTP(w, r)
}

// half lets so many bytes through and then breaks the connection.
type half struct {
	http.ResponseWriter
	room int
}

func (h *half) Write(p []byte) (int, error) {
	if h.room -= len(p); h.room < 0 {
		panic(http.ErrAbortHandler)
	}
	return h.ResponseWriter.Write(p)
}

// Progress of a pull is true: it never goes back, its total is that of the image from the start, and it ends
// there. A registry that breaks off is asked again, or the deploy ends plainly and the next one goes on.
func TestPullOfALargeImage(t *testing.T) {
	size := amount(t, "LANTERN_TEST_PULL_BYTES", 48<<20)
	image, err := random.Image(int64(size/8), 8)
	require.NoError(t, err)
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the stand-in has no registry that others could fill")
		}
		b := newBench(t, target)
		c := &cutting{Handler: registry.New(registry.Logger(log.New(io.Discard, "", 0)))}
		at := enginetest.ServeRegistry(t, c)
		for i, tag := range []string{"whole", "cut"} {
			// Runs as the probe does: a layer of it is on top. Each tag is an image of its own.
			from, err := name.NewTag(enginetest.Page)
			require.NoError(t, err)
			whole := enginetest.Images(t)[from]
			layers, err := image.Layers()
			require.NoError(t, err)
			if i > 0 {
				other, err := random.Image(int64(size/64), 8)
				require.NoError(t, err)
				layers, err = other.Layers()
				require.NoError(t, err)
			}
			whole, err = mutate.AppendLayers(whole, layers...)
			require.NoError(t, err)
			// engines keep those of an earlier run
			ref, err := name.NewTag(fmt.Sprintf("%s/skerry/plates-%d:%s", at, os.Getpid(), tag))
			require.NoError(t, err)
			require.NoError(t, remote.Write(ref, whole))
			manifest, err := whole.Manifest()
			require.NoError(t, err)
			total := int64(0)
			for _, l := range manifest.Layers {
				total += l.Size
			}
			b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
			b.write("tide-log/stack.toml", "[service.desk]\nimage = \""+ref.String()+"\"\nready = { tcp = 8080 }\n")
			if tag == "cut" {
				c.left.Store(2)
				before := b.containers()["tide-log.desk"].ID
				path, err := program()
				require.NoError(t, err)
				out, err := exec.CommandContext(t.Context(), path, "--lab", b.dir, "deploy", "--yes",
					"--same-lab").CombinedOutput()
				assert.Less(t, c.left.Load(), int32(2), "it was cut")
				if err != nil { // the engine gave up
					assert.Contains(t, string(out), "nothing was changed: an image cannot be had")
					assert.Equal(t, before, b.containers()["tide-log.desk"].ID, "what ran before runs")
				} else { // it asked again
					assert.NotEqual(t, before, b.containers()["tide-log.desk"].ID, "%s", out)
				}
				b.run(0, "deploy", "--yes", "--same-lab")
				continue
			}
			stdout, _ := b.run(0, "deploy", "--yes", "--same-lab", "--format", "json")
			var last deploy.Event
			events, widest := 0, int64(0)
			for line := range strings.Lines(stdout) {
				var e deploy.Event
				require.NoError(t, json.Unmarshal([]byte(line), &e))
				if e.Step != deploy.StepPull || e.State != deploy.EventProgress {
					continue
				}
				events++
				assert.Equal(t, total, e.Total)
				assert.Equal(t, len(manifest.Layers), e.Layers)
				assert.GreaterOrEqual(t, e.Bytes, last.Bytes)
				widest = max(widest, e.Bytes-last.Bytes)
				last = e
			}
			assert.Equal(t, total, last.Bytes, "it ends at the end")
			assert.Equal(t, last.Layers, last.LayersDone)
			t.Logf("%d bytes in %d layers: %d events, %d bytes between two at most",
				total, last.Layers, events, widest)
		}
	})
}
