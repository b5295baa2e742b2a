//go:build linux

package deploy_test

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

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
	// Four services with all that a stack usually has: an order, a folder, a volume, a page, a restart policy
	// of its own.
	four = `
[volume.readings]
[service.store]
image = "registry.skerry.example/probe-store:1"
mounts = ["FOLDER -> /data", "volume readings -> /readings"]
ready = { log = "open for" }
[service.queue]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 7410 }
[service.desk]
image = "registry.skerry.example/probe:1"
ports = ["localhost:FIRST -> 8080"]
page  = "8080/"
after = ["store", "queue"]
ready = { http = "8080/" }
env.LEVEL = "low"
restart = "on-failure 2"
[service.front]
image = "registry.skerry.example/probe:1"
after = ["desk"]
ready = { tcp = 8080 }
env.LEVEL = "low"
`
	// Two of four live in the others' networks, and are replaced with them.
	guests = `
[volume.readings]
[service.vane]
image = "registry.skerry.example/probe:1"
ports = ["localhost:FIRST -> 8080"]
mounts = ["volume readings -> /readings"]
ready = { http = "8080/" }
env.LEVEL = "low"
[service.cups]
image = "registry.skerry.example/probe:1"
shares-network-with = "vane"
env.PROBE_PAGE = "8081"
ready = { http = "8081/" }
`
	moreGuests = guests + `
[service.rain]
image = "registry.skerry.example/probe:1"
shares-network-with = "vane"
env.PROBE_PAGE = "8082"
ready = { http = "8082/" }
[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { log = "open for" }
`
	// The new ones run beside the old ones; then they get their ports and their names.
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
	moreOverlapping = overlapping + `
[service.queue]
image = "registry.skerry.example/probe-store:1"
overlap = true
ready = { tcp = 7410 }
labels.LEVEL = "low"
[service.front]
image = "registry.skerry.example/probe:1"
overlap = true
after = ["desk"]
ready = { tcp = 8080 }
env.LEVEL = "low"
`
	// The network is made again, and who is on it with it.
	moored = `[network.causeway]
subnet = "NET-A"
---
networks = ["causeway"]
[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { log = "open for" }
[service.queue]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 7410 }
[service.desk]
image = "registry.skerry.example/probe:1"
aliases = ["tides"]
after = ["store"]
ready = { http = "8080/" }
[service.front]
image = "registry.skerry.example/probe:1"
after = ["desk"]
ready = { tcp = 8080 }
`
	// Copies are replaced in turn, and there is one less of them.
	copied = `
[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 7410 }
[service.desk]
image = "registry.skerry.example/probe:1"
copies = 3
page = "8080/"
after = ["store"]
ready = { http = "8080/" }
env.LEVEL = "low"
`
	// The ports of desk and pier change places; store goes, and queue gets another name.
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
ready = { tcp = 7410 }
[service.queue]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 7410 }
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
[service.line]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 7410 }
`
)

var (
	changed = strings.NewReplacer(`"low"`, `"high"`, "probe-store:1", "probe:2", "tcp = 7410",
		"tcp = 8080").Replace(four)
	overlappingMoved = strings.NewReplacer(`"low"`, `"high"`, "FIRST", "SECOND").Replace(overlapping)
	overlappingMore  = strings.NewReplacer(`"low"`, `"high"`, "FIRST", "SECOND").Replace(moreOverlapping)
	fewerCopies      = strings.NewReplacer(`"low"`, `"high"`, "copies = 3", "copies = 2").Replace(copied)
	mooredAnew       = strings.Replace(moored, "NET-A", "NET-B", 1)
	moved            = strings.Replace(moreGuests, `"low"`, `"high"`, 1)
	unstable         = strings.NewReplacer(`"low"`, `"high"`, "probe:1", "probe:never",
		`ready = { http = "8080/" }`, `ready = { http = "8080/", within = "700ms" }`).Replace(four)
	unstableTwo = strings.NewReplacer(`"low"`, `"high"`, "probe:1", "probe:never",
		`ready = { http = "8080/" }`, `ready = { http = "8080/", within = "700ms" }`).Replace(two)
)

// scenario is a change of a stack of four services.
type scenario struct {
	name, before, after string
	retire              bool
	moves               []string // services that take each other's ports
}

// A revert is a deploy of what was: it goes the very same way.
var scenarios = []scenario{
	{name: "first deploy", after: four},
	{name: "replacing", before: four, after: changed},
	{name: "replacing beside", before: moreOverlapping, after: overlappingMore},
	{name: "ports change places", before: swapBefore, after: swapAfter, moves: []string{"desk", "pier"}},
	{name: "guests and their host", before: moreGuests, after: moved},
	{name: "a network made anew", before: moored, after: mooredAnew},
	{name: "copies in turn", before: copied, after: fewerCopies},
	{name: "put back", before: four, after: unstable},
	{name: "revert", before: changed, after: four},
	{name: "retire", before: four, retire: true},
}

// Deaths after which the engine restarts, and what it made first, or last, comes first.
const restarts, restartsNewest enginetest.Fault = "restarts", "restarts newest first"

func isRestart(f enginetest.Fault) bool { return f == restarts || f == restartsNewest }

// withFolder gives the world a folder with files that no deploy may touch, and returns a fingerprint of it.
func (w *world) withFolder() func() string {
	w.folder = w.t.TempDir()
	require.NoError(w.t, os.Chmod(w.folder, 0o777))
	for name, text := range map[string]string{"tides.db": "high at four", "deep/old.log": "low at ten"} {
		path := filepath.Join(w.folder, name)
		require.NoError(w.t, os.MkdirAll(filepath.Dir(path), 0o751))
		require.NoError(w.t, os.WriteFile(path, []byte(text), 0o640))
	}
	return func() string {
		h := sha256.New()
		require.NoError(w.t, filepath.WalkDir(w.folder, func(path string, e fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := e.Info()
			fmt.Fprintln(h, path, info.Mode(), info.ModTime().UnixNano())
			if text, err := os.ReadFile(path); err == nil {
				h.Write(text)
			}
			return err
		}))
		return fmt.Sprintf("%x", h.Sum(nil))
	}
}

// begin brings the world to where the scenario begins.
func (w *world) begin(s scenario) {
	w.t.Helper()
	if s.before == "" {
		return
	}
	out, err := w.deployer(false).Deploy(w.t.Context(), w.stack(s.before), deploy.Options{})
	require.NoError(w.t, err)
	require.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result, "%v %v", out.Failure,
		out.ManualSteps)
}

// leaves takes the stack away. A connection that was cut while a container was put on a network can leave
// dockerd with a wrong count of that network's members, until it restarts; that is said, and nothing else
// may be left.
func (w *world) leaves() {
	w.t.Helper()
	out, err := w.deployer(false).Retire(w.t.Context(), w.name, deploy.Options{WithVolumes: true})
	require.NoError(w.t, err)
	if len(out.ManualSteps) == 1 && strings.Contains(out.ManualSteps[0], "lost count") {
		w.t.Log(out.ManualSteps)
		return
	}
	require.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result, "%v", out.ManualSteps)
}

// attempt lets a process carry out the scenario that will not live to see its end: something goes wrong at
// its n-th change.
func (w *world) attempt(s scenario, n int, f enginetest.Fault) { w.attemptTwo(s, n, f, 0) }

// attemptTwo lets it also die some changes later.
func (w *world) attemptTwo(s scenario, n int, f enginetest.Fault, then int) {
	w.t.Helper()
	d := w.deployer(true)
	if isRestart(f) {
		f = enginetest.Dies
	}
	if f == enginetest.Hangs || f == enginetest.Late {
		d.Engine.CallTimeout = 300 * time.Millisecond
	}
	for {
		before := w.names()
		if w.gate.Order(n, f); then > 0 {
			w.gate.OrderTwo(n, f, then)
		}
		var out deploy.Outcome
		var err error
		if s.retire {
			out, err = d.Retire(w.t.Context(), w.name, deploy.Options{})
		} else {
			out, err = d.Deploy(w.t.Context(), w.stack(s.after), deploy.Options{})
			w.neverNeither(before, s.after, n)
		}
		if then == 0 &&
			(f == enginetest.None || f == enginetest.Refuses || f == enginetest.Cuts || f == enginetest.Hangs) {
			w.isTrue(s, before, n, out, err)
		}
		if d.Engine.CallTimeout > time.Minute || w.gate.Changes() >= n || d.Engine.CallTimeout > 5*time.Second {
			return
		}
		// The machine was too busy for it, before the fault was due. What that has left, goes first.
		w.gate.Order(0, enginetest.None)
		_, err = w.deployer(false).Recover(w.t.Context(), w.name)
		require.NoError(w.t, err)
		w.begin(s)
		d.Engine.CallTimeout *= 2
	}
}

// isTrue holds what a process says of its attempt against what the engine shows. One that died says nothing,
// and what is carried out late is not there yet.
func (w *world) isTrue(s scenario, before map[string]engine.State, n int, out deploy.Outcome, err error) {
	w.t.Helper()
	about := fmt.Sprintf("change %d: %s %v %v %v", n, out.Result, out.Failure, out.ManualSteps, err)
	switch {
	case err != nil || out.Result == deploy.Refused:
		now := w.names()
		for name, was := range before {
			assert.Equal(w.t, was.ID, now[name].ID, "nothing was changed: %s", about)
			assert.Equal(w.t, was.Running, now[name].Running, "nothing was changed: %s", about)
		}
	case out.Result == deploy.NeedsManual:
		assert.NotEmpty(w.t, out.ManualSteps, about)
	case s.retire:
		assert.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result, about)
		assert.Empty(w.t, w.names(), about)
	case out.Result == deploy.PutBack && s.before == "":
		assert.Empty(w.t, w.names(), about)
	case out.Result == deploy.PutBack:
		w.settled(w.stack(s.before))
	default:
		assert.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result, about)
		assert.NotEqual(w.t, unstable, s.after, about)
		w.settled(w.stack(s.after))
	}
}

// A process that dies after any of its calls leaves neither neither old nor new, and the next one brings the
// stack to what is declared. The same when a call fails, its answer is lost or never comes, or it is carried
// out late; when an answer is lost and a death comes later (at a sample of the pairs, or at all with
// LANTERN_TEST_DEATH_PAIRS); and an engine that restarts in between brings back what ran before.
func TestDeathAtEveryCall(t *testing.T) {
	if os.Getenv("LANTERN_TEST_DOCKERD") != "" {
		t.Skip("this is about the stand-in, and keeps the machine busy: go test without real engines runs it")
	}
	step := 1
	if testing.Short() { // for the race detector, under which everything takes many times as long
		step = 15
	}
	everyPair := os.Getenv("LANTERN_TEST_DEATH_PAIRS") != ""
	for _, s := range scenarios {
		t.Run(s.name, func(t *testing.T) {
			w := newWorld(t)
			w.withFolder()
			w.begin(s)
			w.attempt(s, 0, enginetest.None)
			points := w.gate.Changes()
			require.Greater(t, points, 8)
			t.Logf("%d calls", points)
			for _, f := range []enginetest.Fault{enginetest.Dies, restarts, restartsNewest, enginetest.Cuts,
				enginetest.Refuses, enginetest.Hangs, enginetest.Late} {
				if isRestart(f) && (s.before == "" || s.retire) {
					continue // nothing has to come back
				}
				var between atomic.Int32
				if isRestart(f) && s.moves != nil {
					t.Cleanup(func() { t.Logf("%s: %d calls between two policies", f, between.Load()) })
				}
				for n := 1; n <= points; n += step {
					t.Run(fmt.Sprintf("%s/%d", f, n), func(t *testing.T) {
						t.Parallel()
						w := newWorld(t)
						print := w.withFolder()
						files := print()
						w.begin(s)
						before := w.names()
						w.attempt(s, n, f)
						if made := w.gate.Changes(); made < n && made > 0 && n > points-6 {
							t.Skip("something was tried again when the calls were counted, and not this time")
						}
						require.GreaterOrEqual(t, w.gate.Changes(), n)
						if isRestart(f) {
							torn := w.torn(s)
							w.server.Restart(f == restartsNewest)
							w.cameBack(before, s, torn)
							if torn != nil {
								between.Add(1)
							}
						}
						w.gate.Order(0, enginetest.None)
						w.recovers(s, n)
						assert.Equal(t, files, print(), "the folder is as it was")
					})
				}
			}
			for n := 1; n < points; n += step {
				for then := 1; n+then <= points+8; then++ { // undoing takes some calls more
					if !everyPair && then%31 != 1+n%7 {
						continue
					}
					t.Run(fmt.Sprintf("cuts/%d/then dies/%d", n, then), func(t *testing.T) {
						t.Parallel()
						w := newWorld(t)
						print := w.withFolder()
						files := print()
						w.begin(s)
						w.attemptTwo(s, n, enginetest.Cuts, then)
						w.gate.Order(0, enginetest.None)
						w.recovers(s, n)
						assert.Equal(t, files, print(), "the folder is as it was")
					})
				}
			}
		})
	}
}

// The same on real engines, at a sample of the calls: every 24th, or as LANTERN_TEST_DEATH_STEP says. Each
// scenario goes to and fro, so that where one attempt ended is where the next begins.
func TestDeathOnRealEngines(t *testing.T) {
	step := 24
	if s := os.Getenv("LANTERN_TEST_DEATH_STEP"); s != "" {
		var err error
		step, err = strconv.Atoi(s)
		require.NoError(t, err)
	}
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("TestDeathAtEveryCall does more")
		}
		var mu sync.Mutex
		sum := 0
		// Most of it is waiting, and the engines know nothing of each other, nor the labs.
		t.Cleanup(func() {
			t.Logf("%s: %d points", target.Name, sum)
			assert.GreaterOrEqual(t, sum, 10)
		})
		t.Parallel()
		turns := make(chan struct{}, 3)
		for i, to := range []scenario{
			{name: "first deploy and retire", after: four},
			{name: "replacing and back", before: four, after: changed},
			{name: "replacing beside", before: moreOverlapping, after: overlappingMore},
			{name: "ports change places", before: swapBefore, after: swapAfter},
			{name: "guests and their host", before: moreGuests, after: moved},
			{name: "a network made anew", before: moored, after: mooredAnew},
			{name: "put back", before: four, after: unstable},
		} {
			fro := scenario{before: to.after, after: to.before, retire: to.before == ""}
			t.Run(to.name, func(t *testing.T) {
				t.Parallel()
				turns <- struct{}{}
				defer func() { <-turns }()
				w := worldOn(t, target.Address)
				w.lab, w.name = fmt.Sprintf("skerry-pier-%d", i), fmt.Sprintf("pier-%d", i)
				if target.IsPodman() {
					w.nets = [2]string{"198.19.194.0/24", "198.19.195.0/24"}
				}
				print := w.withFolder()
				files := print()
				w.begin(to)
				directions := []scenario{to, fro}
				if to.after == unstable {
					directions = directions[:1] // it ends where it began
				}
				points := 0
				for n, reached := 5, true; reached && !t.Failed(); n += step {
					reached = false
					for k, s := range directions {
						// Here and there the answer to a call is lost first, and the death comes some calls
						// later.
						if (n/step+k)%2 == 0 || os.Getenv("LANTERN_TEST_DEATH_PAIRS") != "" {
							w.attemptTwo(s, n, enginetest.Cuts, 1+n%5)
						} else {
							w.attempt(s, n, enginetest.Dies)
						}
						if w.gate.Changes() >= n {
							reached = true
							points++
						}
						w.gate.Order(0, enginetest.None)
						w.recovers(s, n)
						assert.Equal(t, files, print(), "the folder is as it was")
					}
				}
				w.leaves()
				t.Logf("%d points", points)
				mu.Lock()
				sum += points
				mu.Unlock()
			})
		}
	})
}

// An engine that restarts in place of the next run: dockerd brings back what ran before, in whatever order
// it starts its containers. Podman's service cannot be told to, but takes nothing away either: there the next
// run does it. At one call of two scenarios on dockerd; LANTERN_TEST_RESTARTS says at how many calls of all
// of them, on both.
func TestRestartOfRealEngines(t *testing.T) {
	most, all := 1, false
	if s := os.Getenv("LANTERN_TEST_RESTARTS"); s != "" {
		var err error
		most, err = strconv.Atoi(s)
		require.NoError(t, err)
		all = true
	}
	for name, start := range map[string]func(testing.TB) *enginetest.Private{
		"dockerd": func(t testing.TB) *enginetest.Private { return enginetest.StartDockerd(t, 0) },
		"podman":  enginetest.StartPodman,
	} {
		t.Run(name, func(t *testing.T) {
			if name == "podman" && !all {
				t.Skip(
					"this service of Podman must be the only one at work: set LANTERN_TEST_RESTARTS " +
						"and run this test alone")
			}
			t.Parallel()
			own := start(t)
			points, between := 0, 0
			for k, s := range scenarios {
				if s.before == "" || s.retire || !all && k%4 != 3 {
					continue // nothing has to come back
				}
				w := worldOn(t, own.Address)
				w.lab, w.name, w.nets = "skerry-pier", "pier-stead", [2]string{"198.19.196.0/24", "198.19.197.0/24"}
				if name == "podman" {
					w.nets = [2]string{"198.19.198.0/24", "198.19.199.0/24"}
				}
				print := w.withFolder()
				files := print()
				w.begin(s)
				w.attempt(s, 1, enginetest.Dies)
				w.gate.Order(0, enginetest.None)
				w.recovers(s, 1)
				calls := w.gate.Changes() // with a few of the recovery
				for i := range most {
					w.begin(s)
					before := w.names()
					n := 1 + (i*len(scenarios)+k)*calls/(most*len(scenarios)) // another part of each
					w.attempt(s, n, enginetest.Dies)
					reached := w.gate.Changes() >= n
					w.gate.Order(0, enginetest.None)
					if !reached {
						break
					}
					points++
					torn := w.torn(s)
					if torn != nil {
						between++
					}
					for _, c := range before {
						if c.Container.NetworkOf != "" {
							// dockerd starts guests before their host as often as not, and does not try again
							torn = append(torn, c.Labels[plan.LabelService])
						}
					}
					left := w.names()
					own.Restart()
					if name == "dockerd" {
						w.cameBack(before, s, torn)
					} else {
						for name, c := range w.names() {
							assert.Equal(t, left[name].Running, c.Running, "%s: change %d: %s", s.name, n, name)
						}
					}
					w.recovers(s, n)
					assert.Equal(t, files, print(), "the folder is as it was")
				}
				w.leaves()
			}
			t.Logf("%d points, %d of them between two policies", points, between)
			assert.GreaterOrEqual(t, points, 2)
		})
	}
}

// cameBack fails unless each service that ran before runs again after a restart of the engine: the very
// container, or, once everything was proven, one of the two.
func (w *world) cameBack(before map[string]engine.State, s scenario, torn []string) {
	w.t.Helper()
	var missing []string
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
		if missing = w.missing(before, s, torn); len(missing) == 0 {
			return
		}
	}
	assert.Empty(w.t, missing, "services that do not run again")
}

// missing returns the services of those containers that did not come back.
func (w *world) missing(before map[string]engine.State, s scenario, torn []string) (missing []string) {
	now := w.names()
	_, proven := now[w.name+".proven"]
	_, locked := now[w.name+".deploying"]
	for _, old := range before {
		service := old.Labels[plan.LabelService]
		if !locked && w.stack(s.after).Service(service) == nil {
			continue // it was to go
		}
		if slices.Contains(torn, service) {
			continue // old and new of two stand in each other's way; the next run starts who is missing
		}
		runs := false
		for _, c := range now {
			runs = runs ||
				c.Running && c.Labels[plan.LabelService] == service && (proven || !locked || c.ID == old.ID)
		}
		if !runs {
			missing = append(missing, service)
		}
	}
	return missing
}

// torn returns the services that take each other's ports while they are handed over: an engine that starts
// again just then brings back new ones already, and old ones still. That is so between the first call that
// sets a policy and the last, and at no other time.
func (w *world) torn(s scenario) []string {
	now := w.names()
	old, fresh := false, false
	for _, name := range s.moves {
		old = old || now[w.name+"."+name+".previous"].Container.Restart.Policy == "always"
		fresh = fresh || now[w.name+"."+name].Container.Restart.Policy != "no"
	}
	if _, proven := now[w.name+".proven"]; !proven || !old || !fresh {
		return nil
	}
	return s.moves
}

// neverNeither fails when a service that ran before and is still declared has no container at all.
func (w *world) neverNeither(before map[string]engine.State, after string, n int) {
	w.t.Helper()
	now := w.names()
	for _, s := range w.stack(after).Containers() {
		if _, ran := before[s.ContainerName()]; !ran {
			continue
		}
		some := slices.ContainsFunc([]string{"", ".next", ".previous"}, func(suffix string) bool {
			_, ok := now[s.ContainerName()+suffix]
			return ok
		})
		assert.True(w.t, some, "change %d: neither old nor new %s is there", n, s.Name)
	}
}

// recovers lets another process finish: one run ends as declared, or as before where what is declared does
// not work.
func (w *world) recovers(s scenario, n int) {
	w.t.Helper()
	d := w.deployer(false)
	switch {
	case s.retire:
		out, err := d.Retire(w.t.Context(), w.name, deploy.Options{})
		require.NoError(w.t, err)
		assert.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result)
		assert.Empty(w.t, w.names())
	case s.after == unstable:
		out, err := d.Deploy(w.t.Context(), w.stack(s.after), deploy.Options{})
		require.NoError(w.t, err)
		require.Equal(w.t, deploy.PutBack, out.Result, "change %d: %v %v", n, out.Failure, out.ManualSteps)
		w.settled(w.stack(s.before))
	default:
		out, err := d.Deploy(w.t.Context(), w.stack(s.after), deploy.Options{})
		require.NoError(w.t, err)
		require.Contains(w.t, []string{deploy.Done, deploy.NothingToDo}, out.Result, "change %d: %v %v", n,
			out.Failure, out.ManualSteps)
		w.settled(w.stack(s.after))
	}
}

// A lock can have the name of what is proven while everything is being undone, when the engine carried out
// late what was given up on. Whatever died then: no service is lost.
func TestProvenWhileUndone(t *testing.T) {
	for n := 8; n <= 60; n++ {
		t.Run(strconv.Itoa(n), func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.withFolder()
			s := scenario{before: four, after: unstable}
			w.begin(s)
			before := w.names()
			w.attempt(s, n, enginetest.Dies)
			w.gate.Order(0, enginetest.None)
			if lock, ok := w.names()[w.name+".deploying"]; ok {
				require.NoError(t, w.engine.Rename(t.Context(), lock.ID, w.name+".proven"))
			}
			out, err := w.deployer(false).Recover(t.Context(), w.name)
			require.NoError(t, err)
			require.Equal(t, deploy.Done, out.Result, "%v", out.ManualSteps)
			now := w.names()
			for name := range before {
				assert.Contains(t, now, name, "change %d", n)
			}
			assert.Len(t, now, len(before))
			w.neverNeither(before, four, n)
		})
	}
}
