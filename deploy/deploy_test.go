package deploy_test

import (
	"context"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// TestMain lets many tests wait at the same time: they hardly do anything else.
func TestMain(m *testing.M) {
	flag.Parse()
	if err := flag.Set("test.parallel", "16"); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

// world is an engine behind a gate, and a deployer that works through the gate.
type world struct {
	t      *testing.T
	engine *engine.Engine // past the gate, to look at what is there
	gate   *gate
	ports  [2]int
	within string // ready-within of the lab; ample, because a test machine may be busy
	events []deploy.Event
	mu     sync.Mutex
}

func newWorld(t *testing.T) *world {
	return worldOn(t, enginetest.StandIn(t, standin.Options{}))
}

func worldOn(t *testing.T, address string) *world {
	e, err := engine.Dial(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	w := &world{t: t, engine: e, gate: newGate(t, address), within: "20s"}
	for i := range w.ports {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		w.ports[i] = l.Addr().(*net.TCPAddr).Port
		defer l.Close()
	}
	return w
}

// deployer returns one of its own process; a dead one has a process that is gone.
func (w *world) deployer(dead bool) *deploy.Deployer {
	w.t.Helper()
	e, err := engine.Dial(w.t.Context(), w.gate.address)
	require.NoError(w.t, err)
	w.t.Cleanup(func() { e.Close() })
	self := deploy.NewSelf()
	if dead {
		self.PID, self.Began = gonePID(w.t), "1"
	}
	return &deploy.Deployer{Engine: e, Lab: "skerry-pier", Host: "lamp-room", Self: self, Report: func(e deploy.Event) {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.events = append(w.events, e)
	}}
}

var gonePID = func() func(t *testing.T) int {
	var once sync.Once
	var pid int
	return func(t *testing.T) int {
		once.Do(func() {
			c := exec.Command("true")
			require.NoError(t, c.Run())
			pid = c.Process.Pid
		})
		return pid
	}
}()

// stack resolves a stack.toml; FIRST and SECOND stand for two free ports.
func (w *world) stack(text string) *lab.Stack {
	w.t.Helper()
	text = strings.NewReplacer("FIRST", fmt.Sprint(w.ports[0]), "SECOND", fmt.Sprint(w.ports[1])).Replace(text)
	files := map[string]string{"lab.toml": "lab = \"skerry-pier\"\n[host.lamp-room]\n[default]\nready-within = \"" + w.within + "\"\nstop-within = \"1s\"\n", "pier-log/stack.toml": text}
	l := lab.Resolve(declare.Read([]string{"pier-log"}, func(path string) (string, error) {
		if text, ok := files[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	}), lab.Input{Folder: w.t.TempDir()})
	require.Empty(w.t, l.Problems)
	return l.Stack("pier-log")
}

// names returns the containers by name, with their ids and whether they run.
func (w *world) names() map[string]engine.State {
	w.t.Helper()
	list, err := w.engine.Containers(context.Background(), "skerry-pier")
	require.NoError(w.t, err)
	names := map[string]engine.State{}
	for _, c := range list {
		names[c.Name] = c
	}
	return names
}

// settled fails unless exactly the declared services run, under their own names, as the stack declares them.
func (w *world) settled(st *lab.Stack) {
	w.t.Helper()
	names := w.names()
	assert.Len(w.t, names, len(st.Services), "no lock and no leftover")
	for _, s := range st.Services {
		c, ok := names[s.ContainerName()]
		if !assert.True(w.t, ok && c.Running, "%s runs", s.ContainerName()) {
			continue
		}
		assert.Equal(w.t, plan.Declare(s).Digest(c.Labels[plan.LabelSalt]), c.Labels[plan.LabelDigest], "%s is as declared", s.Name)
		assert.Equal(w.t, s.Restart, c.Container.Restart, "%s has its own restart policy", s.Name)
	}
}

// gate lets calls through to an engine until it is told otherwise.
type gate struct {
	address string

	mu      sync.Mutex
	changes int // calls so far that change something
	at      int // the call that goes wrong; 0: none
	fault   fault
	shut    bool
}

// fault is what goes wrong at a call that changes something.
type fault string

const (
	none  fault = ""
	death fault = "death" // the call is carried out; then nobody is there any more
	cut   fault = "cut"   // the call is carried out, but its answer never comes
	fails fault = "fails" // the engine refuses, nothing is carried out
)

func newGate(t *testing.T, engineAddress string) *gate {
	dir, err := os.MkdirTemp("", "gate")
	require.NoError(t, err)
	g := &gate{address: "unix://" + filepath.Join(dir, "s")}
	listener, err := net.Listen("unix", filepath.Join(dir, "s"))
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: "engine"})
	proxy.FlushInterval = -1
	proxy.Transport = &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", strings.TrimPrefix(engineAddress, "unix://"))
	}}
	proxy.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) }
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch g.judge(r) {
		case fails:
			http.Error(w, `{"message":"the lamp is out"}`, http.StatusInternalServerError)
		case cut:
			proxy.ServeHTTP(&nowhere{http.Header{}}, r)
			panic(http.ErrAbortHandler)
		case death:
			panic(http.ErrAbortHandler)
		default:
			proxy.ServeHTTP(w, r)
		}
	})}
	go server.Serve(listener)
	t.Cleanup(func() {
		server.Close()
		os.RemoveAll(dir)
	})
	return g
}

// judge decides about a call.
func (g *gate) judge(r *http.Request) fault {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut {
		return death
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return none
	}
	g.changes++
	if g.changes != g.at {
		return none
	}
	if g.fault == death {
		g.shut = true
		return none
	}
	return g.fault
}

// set arms the gate: the n-th change from now on goes wrong.
func (g *gate) set(n int, f fault) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.changes, g.at, g.fault, g.shut = 0, n, f, false
}

func (g *gate) count() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.changes
}

// nowhere takes an answer that nobody gets.
type nowhere struct{ header http.Header }

func (n *nowhere) Header() http.Header         { return n.header }
func (n *nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (n *nowhere) WriteHeader(int)             {}

const (
	two = `
[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { log = "open for" }
[service.desk]
image = "registry.skerry.example/probe:1"
ports = ["localhost:FIRST -> 8080"]
page  = "8080/"
after = ["store"]
ready = { http = "8080/" }
env.LEVEL = "low"
restart = "on-failure 2"
`
	// One lives in the other's network, and is replaced with it.
	guests = `
[volume.readings]
[service.vane]
image = "registry.skerry.example/probe:1"
mounts = ["volume readings -> /readings"]
ready = { http = "8080/" }
env.LEVEL = "low"
[service.cups]
image = "registry.skerry.example/probe:1"
shares-network-with = "vane"
env.PROBE_PAGE = "8081"
ready = { http = "8081/" }
`
	// The new one runs beside the old one; then it gets its port and its names.
	overlapping = `
[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { log = "open for" }
[service.desk]
image = "registry.skerry.example/probe:1"
ports = ["localhost:FIRST -> 8080"]
aliases = ["tides"]
overlap = true
ready = { http = "8080/" }
env.LEVEL = "low"
restart = "on-failure 2"
`
	// The ports of desk and pier change places; store goes.
	swapBefore = `
[service.desk]
image = "registry.skerry.example/probe:1"
ports = ["localhost:FIRST -> 8080"]
ready = { http = "8080/" }
[service.pier]
image = "registry.skerry.example/probe:1"
ports = ["localhost:SECOND -> 8080"]
ready = { tcp = 8080 }
[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 5432 }
`
	swapAfter = `
[service.desk]
image = "registry.skerry.example/probe:2"
ports = ["localhost:SECOND -> 8080"]
ready = { http = "8080/" }
[service.pier]
image = "registry.skerry.example/probe:1"
ports = ["localhost:FIRST -> 8080"]
ready = { tcp = 8080 }
after = ["desk"]
`
)

var (
	changed          = strings.NewReplacer(`"low"`, `"high"`, "probe-store:1", "probe:2").Replace(two)
	overlappingMoved = strings.NewReplacer(`"low"`, `"high"`, "FIRST", "SECOND").Replace(overlapping)
	moved            = strings.Replace(guests, `"low"`, `"high"`, 1)
	unstable         = strings.NewReplacer(`"low"`, `"high"`, "probe:1", "probe:never", `ready = { http = "8080/" }`, `ready = { http = "8080/", within = "700ms" }`).Replace(two)
)

// A process that dies after any of its calls leaves neither neither old nor new, and the next one brings the stack to what is declared. The same
// when a call fails or its answer is lost.
func TestDeathAtEveryCall(t *testing.T) {
	for _, scenario := range []struct {
		name, before, after string
		retire              bool
	}{
		{name: "first deploy", after: two},
		{name: "replacing", before: two, after: changed},
		{name: "replacing beside", before: overlapping, after: overlappingMoved},
		{name: "ports change places", before: swapBefore, after: swapAfter},
		{name: "a guest and its host", before: guests, after: moved},
		{name: "put back", before: two, after: unstable},
		{name: "retire", before: two, retire: true},
	} {
		attempt := func(t *testing.T, n int, f fault) *world {
			w := newWorld(t)
			if scenario.before != "" {
				out, err := w.deployer(false).Deploy(t.Context(), w.stack(scenario.before))
				require.NoError(t, err)
				require.Equal(t, deploy.Done, out.Result)
			}
			before := w.names()
			w.gate.set(n, f)
			if scenario.retire {
				w.deployer(true).Retire(t.Context(), "pier-log")
			} else {
				w.deployer(true).Deploy(t.Context(), w.stack(scenario.after))
				w.neverNeither(before, scenario.after, n)
			}
			return w
		}
		t.Run(scenario.name, func(t *testing.T) {
			points := attempt(t, 0, none).gate.count()
			require.Greater(t, points, 5)
			for _, f := range []fault{death, cut, fails} {
				for n := 1; n <= points; n++ {
					t.Run(fmt.Sprintf("%s/%d", f, n), func(t *testing.T) {
						t.Parallel()
						w := attempt(t, n, f)
						require.GreaterOrEqual(t, w.gate.count(), n)
						w.gate.set(0, none)
						w.recovers(scenario.before, scenario.after, scenario.retire, n)
					})
				}
			}
		})
	}
}

// The same on real engines, at a sample of the calls: a stack of two is replaced, and its ports change places.
func TestDeathOnRealEngines(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("TestDeathAtEveryCall does more")
		}
		t.Parallel() // most of it is waiting, and the engines know nothing of each other
		for _, scenario := range []struct {
			name, before, after string
			every               int // of how many calls one is tried
		}{
			{"replacing", two, changed, 5}, {"replacing beside", overlapping, overlappingMoved, 3},
			{"ports change places", swapBefore, swapAfter, 5}, {"a guest and its host", guests, moved, 5},
		} {
			points := 0
			w := worldOn(t, target.Address)
			for n := 2; ; n += scenario.every {
				out, err := w.deployer(false).Deploy(t.Context(), w.stack(scenario.before))
				require.NoError(t, err)
				require.Contains(t, []string{deploy.Done, deploy.NothingToDo}, out.Result, "%v", out.Failure)
				before := w.names()
				w.gate.set(n, death)
				w.deployer(true).Deploy(t.Context(), w.stack(scenario.after))
				reached := w.gate.count() >= n
				w.gate.set(0, none)
				w.neverNeither(before, scenario.after, n)
				w.recovers(scenario.before, scenario.after, false, n)
				out, err = w.deployer(false).Retire(t.Context(), "pier-log")
				require.NoError(t, err)
				require.Equal(t, deploy.Done, out.Result)
				if t.Failed() || !reached {
					break
				}
				points++
			}
			t.Logf("%s: %d points", scenario.name, points)
			assert.Greater(t, points, 2)
		}
	})
}

// neverNeither fails when a service that ran before and is still declared has no container at all.
func (w *world) neverNeither(before map[string]engine.State, after string, n int) {
	w.t.Helper()
	now := w.names()
	for _, s := range w.stack(after).Services {
		if _, ran := before[s.ContainerName()]; !ran {
			continue
		}
		some := slices.ContainsFunc([]string{"", ".next", ".previous"}, func(suffix string) bool { _, ok := now[s.ContainerName()+suffix]; return ok })
		assert.True(w.t, some, "change %d: neither old nor new %s is there", n, s.Name)
	}
}

// recovers lets another process finish: one run ends as declared, or as before where what is declared does not work.
func (w *world) recovers(before, after string, retire bool, n int) {
	w.t.Helper()
	d := w.deployer(false)
	switch {
	case retire:
		out, err := d.Retire(w.t.Context(), "pier-log")
		require.NoError(w.t, err)
		assert.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result)
		assert.Empty(w.t, w.names())
	case after == unstable:
		out, err := d.Deploy(w.t.Context(), w.stack(after))
		require.NoError(w.t, err)
		require.Equal(w.t, deploy.PutBack, out.Result, "change %d: %v %v", n, out.Failure, out.Hand)
		w.settled(w.stack(before))
	default:
		out, err := d.Deploy(w.t.Context(), w.stack(after))
		require.NoError(w.t, err)
		require.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result, "change %d: %v %v", n, out.Failure, out.Hand)
		w.settled(w.stack(after))
	}
}

func TestPutBackSaysWhy(t *testing.T) {
	w := newWorld(t)
	w.within = "700ms"
	d := w.deployer(false)
	held, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer held.Close()
	for _, c := range []struct{ stack, service, says string }{
		{"[service.a]\nimage = \"registry.skerry.example/probe:exits\"\nready = { tcp = 80 }\n", "a", "it ended with exit code 3"},
		{"[service.a]\nimage = \"registry.skerry.example/probe:exits\"\nrestart = \"no\"\n", "a", "it ended with exit code 3"},
		{"[service.a]\nimage = \"registry.skerry.example/probe:never\"\nready = { log = \"open for\" }\n", "a", `it was not ready within 700ms: no line of its log matches "open for"`},
		{"[service.a]\nimage = \"registry.skerry.example/probe:1\"\nready = { tcp = 81 }\n", "a", "it was not ready within 700ms: nothing accepts connections on its port 81"},
		{"[service.a]\nimage = \"registry.skerry.example/probe:never\"\npage = \"8080/\"\n", "a", "its page on port 8080 was not there within 700ms: it answers with status 503"},
		{fmt.Sprintf("[service.a]\nimage = \"registry.skerry.example/probe:1\"\nports = [\"localhost:%d -> 8080\"]\n", held.Addr().(*net.TCPAddr).Port), "a", "a host port that it publishes is held by somebody else"},
	} {
		out, err := d.Deploy(t.Context(), w.stack(c.stack))
		require.NoError(t, err)
		assert.Equal(t, deploy.PutBack, out.Result)
		require.NotNil(t, out.Failure, c.says)
		assert.Equal(t, c.service, out.Failure.Service)
		assert.Contains(t, out.Failure.Message, c.says)
		assert.Empty(t, w.names(), "nothing ran before, so nothing is left")
		if strings.Contains(c.says, "exit code 3") {
			assert.Equal(t, []string{"the probe starts", "the lens is cracked"}, out.Failure.Log)
		}
	}
}

// Interrupting puts back, and nothing is left half done.
func TestInterrupt(t *testing.T) {
	w := newWorld(t)
	st := w.stack(two)
	out, err := w.deployer(false).Deploy(t.Context(), st)
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	before := w.names()
	ctx, cancel := context.WithCancel(t.Context())
	d := w.deployer(false)
	report := d.Report
	d.Report = func(e deploy.Event) {
		report(e)
		if e.Step == deploy.StepStart && e.State == deploy.StepDone {
			cancel()
		}
	}
	out, err = d.Deploy(ctx, w.stack(unstable))
	require.NoError(t, err)
	assert.Equal(t, deploy.PutBack, out.Result)
	w.settled(st)
	for name, c := range w.names() {
		assert.Equal(t, before[name].ID, c.ID)
	}
}

func TestTwoAtOnce(t *testing.T) {
	w := newWorld(t)
	st := w.stack(two)
	results := make(chan deploy.Outcome, 2)
	for range 2 {
		d := w.deployer(false)
		go func() {
			out, err := d.Deploy(t.Context(), st)
			assert.NoError(t, err)
			results <- out
		}()
	}
	a, b := <-results, <-results
	if a.Result != deploy.Refused {
		a, b = b, a
	}
	assert.Equal(t, deploy.Refused, a.Result)
	assert.Contains(t, a.Holder, fmt.Sprintf("(pid %d) is changing this stack since", os.Getpid()))
	assert.Equal(t, deploy.Done, b.Result)
	w.settled(st)
}

// A first deploy that fails leaves no volume behind; one that replaces leaves those alone that were there.
func TestVolumesOfAFailedDeploy(t *testing.T) {
	w := newWorld(t)
	d := w.deployer(false)
	broken := strings.Replace(guests, "probe:1", "probe:exits", 1)
	volumes := func() []string {
		names, err := d.Volumes(t.Context(), "pier-log")
		require.NoError(t, err)
		return names
	}
	for _, text := range []string{broken, guests, broken} {
		out, err := d.Deploy(t.Context(), w.stack(text))
		require.NoError(t, err)
		if text == guests {
			require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
			continue
		}
		require.Equal(t, deploy.PutBack, out.Result)
		if len(w.names()) == 0 {
			assert.Empty(t, volumes())
		}
	}
	w.settled(w.stack(guests))
	assert.Equal(t, []string{"pier-log.readings"}, volumes())
	_, err := d.Retire(t.Context(), "pier-log")
	require.NoError(t, err)
	assert.Equal(t, []string{"pier-log.readings"}, volumes())
	out, err := d.Deploy(t.Context(), w.stack(broken))
	require.NoError(t, err)
	require.Equal(t, deploy.PutBack, out.Result)
	assert.Equal(t, []string{"pier-log.readings"}, volumes(), "it was there before this deploy")
}

func TestPullShowsProgress(t *testing.T) {
	w := newWorld(t)
	st := w.stack("[service.a]\nimage = \"registry.skerry.example/probe:pulled\"\nready = { log = \"open\" }\n")
	out, err := w.deployer(false).Deploy(t.Context(), st)
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	assert.True(t, slices.ContainsFunc(w.events, func(e deploy.Event) bool { return e.Step == deploy.StepPull && e.State == deploy.StepDone }))

	_, err = w.deployer(false).Deploy(t.Context(), w.stack("[service.a]\nimage = \"registry.skerry.example/nobody:1\"\n"))
	require.Error(t, err, "an error means that nothing was changed")
	assert.Contains(t, err.Error(), "its registry does not have this image")
	w.settled(st)
}

func TestStatus(t *testing.T) {
	w := newWorld(t)
	st := w.stack(two + "[service.broken]\nimage = \"registry.skerry.example/probe:exits\"\nready = { tcp = 80 }\n[service.job]\nimage = \"registry.skerry.example/probe:1\"\n")
	d := w.deployer(false)
	out, err := d.Deploy(t.Context(), w.stack(two))
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	// By hand: a container that is not declared any more, one that ended with an error, one that was stopped.
	labels := func(service string) map[string]string {
		return map[string]string{plan.LabelLab: "skerry-pier", plan.LabelStack: "pier-log", plan.LabelService: service}
	}
	made := func(service, image string) string {
		id, err := w.engine.Create(t.Context(), "pier-log."+service, plan.Container{Image: image, Networks: []plan.Attachment{{Network: "pier-log.net"}}}, labels(service), "")
		require.NoError(t, err)
		require.NoError(t, w.engine.Start(t.Context(), id))
		return id
	}
	made("broken", enginetest.Exits)
	made("gone", enginetest.Page)
	require.NoError(t, w.engine.Stop(t.Context(), "pier-log.store"))
	require.Eventually(t, func() bool { return !w.names()["pier-log.broken"].Running }, 5*time.Second, 10*time.Millisecond)

	list, err := d.Status(t.Context(), "pier-log", st)
	require.NoError(t, err)
	got := map[string]string{}
	for _, s := range list {
		got[s.Service] = fmt.Sprintf("%s changed=%t well=%t %s", s.State, s.Changed, s.Well(), s.Detail)
	}
	assert.Equal(t, map[string]string{
		"store":  "stopped changed=false well=false ",
		"desk":   "ready changed=false well=true ",
		"broken": "failed changed=true well=false it ended with exit code 3",
		"job":    "missing changed=true well=false ",
		"gone":   "running changed=true well=true no longer in the files",
	}, got)
}

// Nothing that is not of this lab is ever taken, not even for its name.
func TestForeignNames(t *testing.T) {
	w := newWorld(t)
	other := map[string]string{plan.LabelLab: "another-lab", plan.LabelStack: "pier-log", plan.LabelService: "desk"}
	require.NoError(t, w.engine.CreateMark(t.Context(), "pier-log.desk", enginetest.Page, other))
	d := w.deployer(false)
	out, err := d.Deploy(t.Context(), w.stack(two))
	require.NoError(t, err)
	assert.Equal(t, deploy.PutBack, out.Result)
	assert.Contains(t, out.Failure.Message, "a container that is not of this lab has its name")
	assert.Empty(t, w.names())
	_, err = d.Retire(t.Context(), "pier-log")
	require.NoError(t, err)
	_, err = w.engine.Inspect(t.Context(), "pier-log.desk")
	require.NoError(t, err)

	require.NoError(t, w.engine.CreateMark(t.Context(), "pier-log.deploying", enginetest.Page, other))
	out, err = d.Deploy(t.Context(), w.stack(two))
	require.NoError(t, err)
	assert.Equal(t, deploy.Refused, out.Result)
	assert.Contains(t, out.Holder, "not of this lab")

	require.NoError(t, w.engine.Remove(t.Context(), "pier-log.deploying"))
	_, err = w.engine.CreateNetwork(t.Context(), plan.Network{Name: "pier-log.net"}, map[string]string{plan.LabelLab: "another-lab"})
	require.NoError(t, err)
	out, err = d.Deploy(t.Context(), w.stack(two))
	require.NoError(t, err)
	assert.Equal(t, deploy.PutBack, out.Result)
	assert.Contains(t, out.Failure.Message, "the network pier-log.net: a network pier-log.net is there that is not of this lab")
	networks, err := w.engine.Networks(t.Context())
	require.NoError(t, err)
	assert.Len(t, networks, 2, "and it is still there")
}
