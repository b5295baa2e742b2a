//go:build linux

package deploy_test

import (
	"cmp"
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
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/wiring"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// TestMain lets many tests wait at the same time: they hardly do anything else.
func TestMain(m *testing.M) {
	flag.Parse()
	debug.SetGCPercent(400) // as the program itself
	if err := flag.Set("test.parallel", "40"); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

// world is an engine behind a gate, and a deployer that works through the gate.
type world struct {
	t      testing.TB
	engine *engine.Engine // past the gate, to look at what is there
	gate   *gate
	ports  [2]int
	lab    string          // its name: worlds on one engine know nothing of each other
	name   string          // of the stack: an engine has one room of names for all labs
	folder string          // FOLDER of the stacks
	nets   [2]string       // NET-A and NET-B
	server *standin.Server // nil: a real engine
	way    string          // to the gate, where it is another one than straight to its socket
	within string          // ready-within of the lab; ample, because a test machine may be busy
	events []deploy.Event
	mu     sync.Mutex
}

func newWorld(t *testing.T) *world {
	server, address := enginetest.StartStandIn(t, standin.Options{Speed: 10})
	w := worldBehind(t, address, server.Handler())
	w.server = server
	return w
}

func worldOn(t testing.TB, address string) *world {
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: "engine"})
	proxy.FlushInterval = -1
	proxy.Transport = &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", strings.TrimPrefix(address, "unix://"))
	}}
	proxy.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) {
		w.WriteHeader(http.StatusBadGateway)
	}
	return worldBehind(t, address, proxy)
}

// worldBehind has its gate before what serves the engine.
func worldBehind(t testing.TB, address string, serves http.Handler) *world {
	e, err := engine.Dial(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	w := &world{
		t:      t,
		engine: e,
		gate:   newGate(t, serves),
		within: "20s",
		lab:    "skerry-pier",
		name:   "pier-log",
		nets:   [2]string{"198.19.190.0/24", "198.19.191.0/24"},
	}
	for i := range w.ports {
		w.ports[i] = enginetest.FreePort(t)
	}
	return w
}

// deployer returns one of its own process; a dead one has a process that is gone.
func (w *world) deployer(dead bool) *deploy.Deployer {
	w.t.Helper()
	e, err := engine.Dial(w.t.Context(), cmp.Or(w.way, w.gate.address))
	require.NoError(w.t, err)
	w.t.Cleanup(func() { e.Close() })
	self := deploy.NewSelf()
	if dead {
		self.PID, self.Began = gonePID(w.t), "1"
	}
	return &deploy.Deployer{Observer: observe.Observer{Engine: e, Lab: w.lab, Host: "lamp-room"}, Self: self,
		Report: func(e deploy.Event) {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.events = append(w.events, e)
		}}
}

var gonePID = func() func(t testing.TB) int {
	var once sync.Once
	var pid int
	return func(t testing.TB) int {
		once.Do(func() {
			c := exec.Command("true")
			require.NoError(t, c.Run())
			pid = c.Process.Pid
		})
		return pid
	}
}()

// stack resolves a stack.toml; FIRST and SECOND stand for two free ports. What stands before a line "---"
// belongs to lab.toml.
func (w *world) stack(text string) *lab.Stack {
	w.t.Helper()
	text = strings.NewReplacer("FIRST", fmt.Sprint(w.ports[0]), "SECOND", fmt.Sprint(w.ports[1]), "FOLDER",
		w.folder, "NET-A", w.nets[0], "NET-B", w.nets[1]).Replace(text)
	head, text, split := strings.Cut(text, "---\n")
	if !split {
		head, text = "", head
	}
	files := map[string]string{
		"lab.toml": "lab = \"" + w.lab + "\"\n[host.lamp-room]\n[default]\nready-within = \"" +
			w.within + "\"\nstop-within = \"1s\"\n" + head,
		w.name + "/stack.toml": text,
	}
	l := lab.Resolve(declare.Read([]string{w.name}, func(path string) (string, error) {
		if text, ok := files[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	}), lab.Input{Folder: w.t.TempDir()})
	require.Empty(w.t, l.Problems)
	return l.Stack(w.name)
}

// names returns the containers by name, with their ids and whether they run.
func (w *world) names() map[string]engine.State {
	w.t.Helper()
	list, err := w.engine.Containers(context.Background(), w.lab, "")
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
	assert.Len(w.t, names, len(st.Containers()), "no lock and no leftover")
	for _, s := range st.Containers() {
		c, ok := names[s.ContainerName()]
		if !assert.True(w.t, ok && c.Running, "%s runs", s.ContainerName()) {
			continue
		}
		assert.Equal(w.t, plan.Declare(s).Digest(c.Labels[plan.LabelSalt]), c.Labels[plan.LabelDigest],
			"%s is as declared", s.Name)
		assert.Equal(w.t, s.Restart, c.Container.Restart, "%s has its own restart policy", s.Name)
		for _, n := range s.Networks {
			assert.True(w.t,
				slices.ContainsFunc(c.Container.Networks, func(a plan.Attachment) bool {
					return a.Network == n.EngineName
				}), "%s is on %s", s.Name, n.Name)
		}
	}
	networks, err := w.engine.Networks(context.Background(), "")
	require.NoError(w.t, err)
	for _, n := range wiring.NetworksOf(st) {
		i := slices.IndexFunc(networks, func(f survey.Network) bool { return f.Name == n.Name })
		if assert.GreaterOrEqual(w.t, i, 0, "the network %s is there", n.Name) && n.Subnet != "" {
			assert.Equal(w.t, []string{n.Subnet}, networks[i].Subnets)
		}
	}
}

// gate lets calls through to an engine until it is told otherwise.
type gate struct {
	enginetest.Faults
	address string
	watch   atomic.Value // of func(*http.Request), which sees each call before it is carried out; may be empty
}

func newGate(t testing.TB, engine http.Handler) *gate {
	dir, err := os.MkdirTemp("", "gate")
	require.NoError(t, err)
	g := &gate{address: "unix://" + filepath.Join(dir, "s")}
	listener, err := net.Listen("unix", filepath.Join(dir, "s"))
	require.NoError(t, err)
	server := &http.Server{Handler: g.Before(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if watch, ok := g.watch.Load().(func(*http.Request)); ok {
			watch(r)
		}
		engine.ServeHTTP(rw, r)
	}))}
	go server.Serve(listener)
	t.Cleanup(func() {
		server.Close()
		os.RemoveAll(dir)
	})
	return g
}

func TestPutBackSaysWhy(t *testing.T) {
	w := newWorld(t)
	w.within = "700ms"
	d := w.deployer(false)
	held, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer held.Close()
	for _, c := range []struct{ stack, service, says string }{
		{"[service.a]\nimage = \"registry.skerry.example/probe:exits\"\nready = { tcp = 80 }\n", "a",
			"it ended with exit code 3"},
		{"[service.a]\nimage = \"registry.skerry.example/probe:exits\"\nrestart = \"no\"\n", "a",
			"it ended with exit code 3"},
		{"[service.a]\nimage = \"registry.skerry.example/probe:never\"\nready = { log = \"open for\" }\n",
			"a", `it was not ready within 700ms: no line of its log matches "open for"`},
		{"[service.a]\nimage = \"registry.skerry.example/probe:1\"\nready = { tcp = 81 }\n", "a",
			"it was not ready within 700ms: nothing accepts connections on its port 81"},
		{"[service.a]\nimage = \"registry.skerry.example/probe:never\"\npage = \"8080/\"\n", "a",
			"its page on port 8080 was not there within 700ms: it answers with status 503"},
		{fmt.Sprintf(
			"[service.a]\nimage = \"registry.skerry.example/probe:1\"\nports = [\"localhost:%d -> 8080\"]\n",
			held.Addr().(*net.TCPAddr).Port), "a", "a host port that it publishes is held by somebody else"},
	} {
		out, err := d.Deploy(t.Context(), w.stack(c.stack), deploy.Options{})
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
	out, err := w.deployer(false).Deploy(t.Context(), st, deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	before := w.names()
	ctx, cancel := context.WithCancel(t.Context())
	d := w.deployer(false)
	report := d.Report
	d.Report = func(e deploy.Event) {
		report(e)
		if e.Step == deploy.StepStart && e.State == deploy.EventDone {
			cancel()
		}
	}
	out, err = d.Deploy(ctx, w.stack(unstableTwo), deploy.Options{})
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
			out, err := d.Deploy(t.Context(), st, deploy.Options{})
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

// A deploy of another machine, or of a place whose processes cannot be seen from here, is believed to be
// alive until its time is over, unless somebody knows better.
func TestTakeOver(t *testing.T) {
	for name, elsewhere := range map[string]func(*deploy.Self){
		"another machine":       func(s *deploy.Self) { s.Boot = "another machine" },
		"another pid namespace": func(s *deploy.Self) { s.Space = "pid:[1]" },
		"of an older lantern":   func(s *deploy.Self) { s.Space = "" },
	} {
		t.Run(name, func(t *testing.T) { takeOver(t, elsewhere) })
	}
}

func takeOver(t *testing.T, elsewhere func(*deploy.Self)) {
	w := newWorld(t)
	w.begin(scenario{before: two})
	afar := w.deployer(true)
	afar.Self.Who = "ranger on boathouse"
	elsewhere(&afar.Self)
	next := w.stack(strings.Replace(two, `"low"`, `"high"`, 1))
	w.gate.Order(4, enginetest.Dies)
	afar.Deploy(t.Context(), next, deploy.Options{})
	w.gate.Order(0, enginetest.None)
	d := w.deployer(false)
	out, err := d.Deploy(t.Context(), next, deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Refused, out.Result)
	assert.Contains(t, out.Holder, "ranger on boathouse")
	what, err := d.Leftover(t.Context(), w.name)
	require.NoError(t, err)
	assert.Empty(t, what)
	out, err = d.Deploy(t.Context(), next, deploy.Options{TakeOver: true})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
	w.settled(next)
}

// A deploy that fails leaves every declared volume, also one that it has made: something may have been
// written there.
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
		out, err := d.Deploy(t.Context(), w.stack(text), deploy.Options{})
		require.NoError(t, err)
		if text == guests {
			require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
			continue
		}
		require.Equal(t, deploy.PutBack, out.Result)
		if len(w.names()) == 0 {
			assert.Equal(t, []string{"pier-log.readings"}, out.Stay, "it is said")
		} else {
			assert.Empty(t, out.Stay)
		}
	}
	w.settled(w.stack(guests))
	assert.Equal(t, []string{"pier-log.readings"}, volumes())
	_, err := d.Retire(t.Context(), "pier-log", deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"pier-log.readings"}, volumes())
	out, err := d.Deploy(t.Context(), w.stack(broken), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.PutBack, out.Result)
	assert.Equal(t, []string{"pier-log.readings"}, volumes(), "it was there before this deploy")
}

func TestPullShowsProgress(t *testing.T) {
	w := newWorld(t)
	st := w.stack("[service.a]\nimage = \"registry.skerry.example/probe:pulled\"\nready = { log = \"open\" }\n")
	out, err := w.deployer(false).Deploy(t.Context(), st, deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	assert.True(t,
		slices.ContainsFunc(w.events, func(e deploy.Event) bool {
			return e.Step == deploy.StepPull && e.State == deploy.EventDone
		}))

	_, err = w.deployer(false).Deploy(t.Context(),
		w.stack("[service.a]\nimage = \"registry.skerry.example/nobody:1\"\n"), deploy.Options{})
	require.Error(t, err, "an error means that nothing was changed")
	assert.Contains(t, err.Error(), "its registry does not have this image")
	w.settled(st)
}

func TestStatus(t *testing.T) {
	w := newWorld(t)
	st := w.stack(two +
		"[service.broken]\nimage = \"registry.skerry.example/probe:exits\"\nready = { tcp = 80 }\n" +
		"[service.job]\nimage = \"registry.skerry.example/probe:1\"\n" +
		"[service.import]\nimage = \"registry.skerry.example/probe:job\"\nrestart = \"no\"\n" +
		"[service.short]\nimage = \"registry.skerry.example/probe:job\"\n")
	d := w.deployer(false)
	out, err := d.Deploy(t.Context(), w.stack(two), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	// By hand: a container that is not declared any more, one that ended with an error, one that was stopped.
	labels := func(service string) map[string]string {
		return map[string]string{
			plan.LabelLab:     "skerry-pier",
			plan.LabelStack:   "pier-log",
			plan.LabelService: service,
		}
	}
	made := func(service, image, restart string) string {
		l := labels(service)
		l[plan.LabelRestart] = restart
		id, err := w.engine.Create(t.Context(), "pier-log."+service,
			plan.Container{Image: image, Networks: []plan.Attachment{{Network: "pier-log.net"}}}, l, "")
		require.NoError(t, err)
		require.NoError(t, w.engine.Start(t.Context(), id))
		return id
	}
	made("broken", enginetest.Exits, "no")
	made("gone", enginetest.Page, "no")
	made("import", enginetest.Job, "no")
	made("short", enginetest.Job, "unless-stopped")
	require.NoError(t, w.engine.Stop(t.Context(), "pier-log.store", time.Second))
	require.Eventually(t, func() bool {
		now := w.names()
		return !now["pier-log.broken"].Running && !now["pier-log.import"].Running && !now["pier-log.short"].Running
	}, 30*time.Second, 10*time.Millisecond)

	list, err := d.Status(t.Context(), "pier-log", st, func() *lab.Stack { return nil })
	require.NoError(t, err)
	got := map[string]string{}
	for _, s := range list {
		got[s.Service] = fmt.Sprintf("%s changed=%t outdated=%t well=%t %s",
			s.State, s.Changed, s.Outdated, s.Well(), s.Detail)
	}
	assert.Equal(t, map[string]string{
		"store":  "stopped changed=false outdated=false well=false ",
		"desk":   "ready changed=false outdated=false well=true ",
		"broken": "failed changed=true outdated=false well=false it ended with exit code 3",
		"job":    "missing changed=false outdated=false well=false ",
		"import": "done changed=true outdated=false well=true ",
		"short":  "stopped changed=true outdated=false well=false ",
		"gone":   "running changed=false outdated=true well=true no longer in the files",
	}, got)
}

// Nothing that is not of this lab is ever taken, not even for its name.
func TestForeignNames(t *testing.T) {
	w := newWorld(t)
	other := map[string]string{plan.LabelLab: "another-lab", plan.LabelStack: "pier-log", plan.LabelService: "desk"}
	_, err := w.engine.CreatePlaceholder(t.Context(), "pier-log.desk", enginetest.Page, other)
	require.NoError(t, err)
	d := w.deployer(false)
	out, err := d.Deploy(t.Context(), w.stack(two), deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, deploy.PutBack, out.Result)
	assert.Contains(t, out.Failure.Message, "a container that is not of this lab has its name")
	assert.Empty(t, w.names())
	_, err = d.Retire(t.Context(), "pier-log", deploy.Options{})
	require.NoError(t, err)
	_, err = w.engine.Inspect(t.Context(), "pier-log.desk")
	require.NoError(t, err)

	_, err = w.engine.CreatePlaceholder(t.Context(), "pier-log.deploying", enginetest.Page, other)
	require.NoError(t, err)
	out, err = d.Deploy(t.Context(), w.stack(two), deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, deploy.Refused, out.Result)
	assert.Contains(t, out.Holder, "not of this lab")

	require.NoError(t, w.engine.Remove(t.Context(), "pier-log.deploying"))
	_, err = w.engine.CreateNetwork(t.Context(), plan.Network{
		Name: "pier-log.net",
	}, map[string]string{plan.LabelLab: "another-lab"})
	require.NoError(t, err)
	out, err = d.Deploy(t.Context(), w.stack(two), deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, deploy.PutBack, out.Result)
	assert.Contains(t, out.Failure.Message,
		"the network pier-log.net: a network pier-log.net is there that is not of this lab")
	networks, err := w.engine.Networks(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, networks, 2, "and it is still there")
}
