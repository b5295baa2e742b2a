// Package deploy carries a plan out: in order, proven, or put back.
package deploy

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// What a deploy ends with.
const (
	Done        = "done"
	NothingToDo = "nothing-to-do"
	Refused     = "refused"
	PutBack     = "put-back"
	NeedsManual = "needs-a-hand"
)

// Steps of a deploy.
const (
	StepCheck   = "check"
	StepPull    = "pull"
	StepBuild   = "build"
	StepCreate  = "create"
	StepStop    = "stop"
	StepStart   = "start"
	StepReload  = "reload"
	StepProve   = "prove"
	StepRemove  = "remove"
	StepRoute   = "route"
	StepPutBack = "put-back"
)

// States of a step.
const (
	EventBegun    = "begun"
	EventProgress = "progress"
	EventDone     = "done"
	EventFailed   = "failed"
)

// Event is one thing that happened.
type Event struct {
	Time    time.Time `json:"time"`
	Host    string    `json:"host"`
	Stack   string    `json:"stack"`
	Service string    `json:"service,omitempty"`
	Step    string    `json:"step"`
	State   string    `json:"state"`
	Detail  string    `json:"detail,omitempty"`
	Line    string    `json:"line,omitempty"` // prove: the last line that the service has logged; build: what a step says

	// Of a pull: how much is transferred, of how much.
	Bytes      int64 `json:"bytes,omitempty"`
	Total      int64 `json:"total,omitempty"`
	Layers     int   `json:"layers,omitempty"`
	LayersDone int   `json:"layers-done,omitempty"`
}

// Failure says why a deploy did not succeed, for the person.
type Failure struct {
	Service string
	Message string
	Log     []string // last lines of the container's log
}

func (f *Failure) Error() string { return f.Service + ": " + f.Message }

// Outcome is how a deploy or a retirement of one stack ended.
type Outcome struct {
	Result      string
	Failure     *Failure    // why it was put back, or needs a hand
	Holder      string      // Refused: who holds the lock, or what is in the way
	ManualSteps []string    // NeedsAHand: what is to be done
	Entry       int         // number of this deploy; 0 when nothing was changed
	Plan        *plan.Stack // what was carried out
	Left        []string    // volumes that were made for an image and that nothing uses any more
	Stay        []string    // PutBack: declared volumes that this deploy has made
}

// end takes over how the last part of a deploy ended.
func (o *Outcome) end(last Outcome) {
	o.Result, o.ManualSteps, o.Left, o.Stay = last.Result, last.ManualSteps, last.Left, last.Stay
	if o.Failure == nil {
		o.Failure = last.Failure
	}
}

// Options are what holds for one call.
type Options struct {
	// the highest number that a deploy of the stack is known to have had; the engine may know of a higher one
	After       int
	TakeOver    bool // a lock of another machine is not waited for
	WithVolumes bool // of a retirement: the stack's volumes go, too, and all that they hold
	// services that are deployed, with what they need; all when empty, see [plan.Stack.Only]
	Only []string
	// services whose image is pulled again, as if they were fetched at each deploy
	Refresh []string
}

// Deployer works on one host.
type Deployer struct {
	observe.Observer
	From string // the place that this lab is deployed from, see [Place]; "" for none
	// volumes that the lab says are somebody else's: they are never removed, whatever their labels say
	Existing []string
	Self     Self
	Report   func(Event)
	// told when a stack is being changed from now on, and when that has ended; nil: no caller wants to know
	Hold func(bool)
	// Route tells gates where the services of a stack are now; without any containers, that they are nowhere. Requests that
	// are under way to containers that are left out get so long to finish. nil: there are no gates
	Route func(ctx context.Context, stack string, containers []engine.State, drain time.Duration) error
	// LoadGate gives the engine the image of its gate; nil: it has none
	LoadGate func(ctx context.Context) error
	// ReconnectTimeout is how long an engine that has gone in the middle of a deploy is waited for before
	// what ran before is put back: it may be starting again.
	ReconnectTimeout time.Duration

	options Options        // of the call under way
	away    *awayFromGates // containers that gates are not to ask, by the call under way
	// services whose files were changed while they ran, by the call under way
	reloaded *reloads
	takes    map[string]plan.Taking // containers of somebody else that the call under way takes the place of, by id
}

// during returns the deployer of one call.
func (d *Deployer) during(o Options) *Deployer {
	one := *d
	one.options, one.reloaded, one.away = o, &reloads{}, &awayFromGates{}
	return &one
}

func (d *Deployer) event(stack, service, step, state, detail string) {
	d.Report(Event{
		Time:    time.Now().UTC(),
		Host:    d.Host,
		Stack:   stack,
		Service: service,
		Step:    step,
		State:   state,
		Detail:  detail,
	})
}

// holds tells the caller, if it wants to know, that a lock is held from now on, or no longer.
func (d *Deployer) holds(held bool) {
	if d.Hold != nil {
		d.Hold(held)
	}
}

// Deploy brings a stack to what is declared, or leaves what ran before running. An error means that nothing
// was changed; what went wrong afterwards is in the outcome. Interrupting ctx puts back.
func (d *Deployer) Deploy(ctx context.Context, stack *lab.Stack, o Options) (Outcome, error) {
	d = d.during(o)
	found, err := d.Snapshot(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	unfinished := slices.ContainsFunc(found.Containers, observe.IsTransitional)
	if held, err := d.recover(ctx, stack.Name, &found.Containers); err != nil || held.Result != "" {
		return held, err
	}
	fetched, err := d.fetch(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	built, err := d.build(ctx, stack, found.Images)
	if err != nil {
		return Outcome{}, err
	}
	if unfinished || fetched || built {
		if found, err = d.Snapshot(ctx, stack); err != nil {
			return Outcome{}, err
		}
	}
	p, err := d.planFrom(stack, found)
	if err != nil {
		return Outcome{}, err
	}
	if !p.Changes() {
		return Outcome{Result: NothingToDo}, nil
	}
	if why, err := d.obstacle(ctx, p); err != nil || why != "" {
		return Outcome{Result: Refused, Holder: why}, err
	}
	if err := d.pull(ctx, p); err != nil {
		return Outcome{}, err
	}
	lock, held, err := d.lock(ctx, p)
	if err != nil || held.Result != "" {
		return held, err
	}
	defer d.holds(false)
	// Somebody may have been faster between the plan and the lock; only what is planned under the lock holds.
	if found, err = d.Snapshot(ctx, stack); err == nil {
		p, err = d.planFrom(stack, found)
	}
	same := func(a, b plan.Taking) bool { return a.ID == b.ID && a.Service == b.Service }
	if err == nil && !slices.EqualFunc(p.Takings(), lock.Takes, same) {
		err = errors.New("a container that is to be taken over has changed meanwhile; try again")
	}
	if err != nil {
		return Outcome{}, errors.Join(err, d.remove(context.WithoutCancel(ctx), lock.ID))
	}
	d = d.taking(lock.Takes)
	return d.underLock(ctx, p, lock), nil
}

// planFrom is [observe.Observer.PlanFrom] for the services of the call.
func (d *Deployer) planFrom(stack *lab.Stack, found observe.Snapshot) (plan.Stack, error) {
	p, err := d.PlanFrom(stack, found)
	if err != nil {
		return p, err
	}
	return p.Only(d.options.Only)
}

// underLock carries a plan out, proves it, and makes it the one that counts, or puts back what ran before.
func (d *Deployer) underLock(ctx context.Context, p plan.Stack, lock *lock) Outcome {
	name := p.Stack.Name
	out := Outcome{Entry: lock.Entry, Plan: &p}
	out.Failure = d.carryOut(ctx, p, lock)
	if out.Failure == nil {
		out.Failure = d.provePages(ctx, p)
	}
	// From here on it cannot be interrupted: half a commit or half a way back must not be left behind.
	ctx = context.WithoutCancel(ctx)
	if out.Failure == nil {
		if err := d.rename(ctx, lock.ID, d.markName(name, plan.SuffixProven)); err != nil {
			// Whether it has got that name decides which way is left, so nothing is undone before that is
			// known.
			out.Failure = &Failure{Message: err.Error()}
			switch c, lost := d.own(ctx, lock.ID); {
			case lost == nil && c.Name == d.markName(name, plan.SuffixProven):
				out.Failure = nil
			case lost != nil && !errors.Is(lost, engine.ErrNotFound):
				out.Result, out.ManualSteps = NeedsManual,
					[]string{fmt.Sprintf(
						"everything is proven and runs, but the engine does not answer (%s); run "+
							"lantern deploy %s once it does", lost, name)}
				return out
			}
		}
	}
	if out.Failure == nil {
		out.end(d.commit(ctx, name))
		d.probeLinks(ctx, p)
	} else {
		undone := d.reloadBack(ctx, name)
		out.end(d.putBack(ctx, name, lock))
		if undone != nil {
			out.Result = NeedsManual
			out.ManualSteps = append(out.ManualSteps, undone.Error())
		}
	}
	return out
}

// carryOut replaces level by level; services of one level at the same time.
func (d *Deployer) carryOut(ctx context.Context, p plan.Stack, lock *lock) *Failure {
	name := p.Stack.Name
	if err := d.makeResources(ctx, p, lock); err != nil {
		return &Failure{Message: err.Error()}
	}
	for _, s := range slices.Backward(p.Services) {
		if s.StopFirst || s.Action == plan.Remove {
			d.leaveGates(ctx, p.Stack, s)
			if err := d.stepAside(ctx, name, s); err != nil {
				return d.explain(ctx, s.Name, "", err)
			}
		}
	}
	for _, m := range lock.Moves {
		if err := d.move(ctx, name, m, m.Is); err != nil {
			return &Failure{Message: err.Error()}
		}
	}
	for level := 0; ; level++ {
		var services []plan.Service
		later := false
		for _, s := range p.Services {
			if s.Level == level && s.Action != plan.Remove {
				services = append(services, s)
			}
			later = later || s.Level > level
		}
		rows := inTurn(services)
		var wait sync.WaitGroup
		failures := make([]*Failure, len(rows))
		for i, row := range rows {
			wait.Go(func() {
				for _, s := range row {
					if failures[i] = d.replace(ctx, name, s, lock); failures[i] != nil {
						return
					}
				}
			})
		}
		wait.Wait()
		for _, f := range failures {
			if f != nil {
				return f
			}
		}
		if !later {
			return nil
		}
	}
}

// stepAside stops a container and gives its name free. Its policy then makes an engine that restarts in
// the middle bring back what ran before.
func (d *Deployer) stepAside(ctx context.Context, stack string, s plan.Service) error {
	if s.Running.Taken {
		return d.stop(ctx, stack, s) // it keeps its name, by which it is known
	}
	current, err := d.own(ctx, s.Running.ID)
	if err != nil {
		return err
	}
	if strings.HasSuffix(current.Name, plan.SuffixPrevious) {
		return nil // did so before the others started
	}
	if err := d.stop(ctx, stack, s); err != nil {
		return err
	}
	return d.rename(ctx, s.Running.ID, s.Running.Name+plan.SuffixPrevious)
}

// stop stops what runs so far.
func (d *Deployer) stop(ctx context.Context, stack string, s plan.Service) error {
	// What somebody else made comes back with the engine only where it did so before.
	returns := !s.Running.Taken || s.Running.Container.Restart.Policy != "" && s.Running.Container.Restart.Policy != "no"
	if s.Running.Up && d.Engine.CanUpdate() && returns {
		if err := d.setRestart(ctx, s.Running.ID, declare.Restart{Policy: "always"}); err != nil {
			return err
		}
	}
	d.event(stack, s.Name, StepStop, EventBegun, "")
	if err := d.stopOwn(ctx, s.Running.ID, s.Running.Container.StopWithin); err != nil {
		d.event(stack, s.Name, StepStop, EventFailed, err.Error())
		return err
	}
	d.event(stack, s.Name, StepStop, EventDone, "")
	return nil
}

// replace brings one service to what is declared and waiting for ready.
func (d *Deployer) replace(ctx context.Context, stack string, s plan.Service, lock *lock) *Failure {
	proof := plan.ProofOf(s.Service)
	if s.Action == plan.Keep {
		return nil
	}
	if f := d.awaitOthers(ctx, stack, s.Service); f != nil {
		return f
	}
	if s.Action == plan.Reload {
		return d.reload(ctx, stack, s, proof)
	}
	id := ""
	if s.Action == plan.Start {
		id = s.Running.ID
	} else {
		d.event(stack, s.Name, StepCreate, EventBegun, s.Container.Image)
		var err error
		if id, err = d.create(ctx, s, proof, lock); err != nil {
			d.event(stack, s.Name, StepCreate, EventFailed, err.Error())
			return d.explain(ctx, s.Name, "", err)
		}
		if why := d.cannotRun(ctx, s, id); why != "" {
			d.event(stack, s.Name, StepCreate, EventFailed, why)
			return &Failure{Service: s.Name, Message: why}
		}
		d.event(stack, s.Name, StepCreate, EventDone, "")
		if s.Overlap {
			return d.replaceBeside(ctx, stack, s, id, proof)
		}
		if s.Action == plan.Replace {
			d.leaveGates(ctx, s.Service.Stack, s)
			err := d.stepAside(ctx, stack, s)
			if err == nil {
				err = d.rename(ctx, id, s.Service.ContainerName())
			}
			if err != nil {
				return d.explain(ctx, s.Name, "", err)
			}
		}
	}
	if f := d.startAndProve(ctx, stack, s.Name, id, proof); f != nil {
		return f
	}
	if proof.PagePort > 0 && s.Action == plan.Replace && s.Service.HasCopies() {
		// The next copy stops when this one does its work.
		if f := d.provePage(ctx, stack, s.Name, proof); f != nil {
			return f
		}
	}
	d.backToGates(ctx, stack, s)
	return nil
}

func (d *Deployer) startAndProve(ctx context.Context, stack, service, id string, proof plan.Proof) *Failure {
	d.event(stack, service, StepStart, EventBegun, "")
	since := time.Now()
	if err := d.start(ctx, id); err != nil {
		d.event(stack, service, StepStart, EventFailed, err.Error())
		return d.explain(ctx, service, id, err)
	}
	d.event(stack, service, StepStart, EventDone, "")
	return d.proveReady(ctx, stack, service, id, proof, since)
}

// replaceBeside proves the new container while the old one goes on with its work. Then the new one gets the
// names, and is proven with them, before the old one stops.
func (d *Deployer) replaceBeside(ctx context.Context, stack string, s plan.Service, id string,
	proof plan.Proof) *Failure {
	if f := d.startAndProve(ctx, stack, s.Name, id, proof); f != nil {
		return f
	}
	since := time.Now()
	err := d.rename(ctx, s.Running.ID, s.Running.Name+plan.SuffixPrevious)
	if err == nil {
		err = d.rename(ctx, id, s.Service.ContainerName())
	}
	if err == nil {
		err = d.onOwn(ctx, id, func() error { return d.Engine.Rejoin(ctx, id, s.Container.Networks) })
	}
	if err != nil {
		return d.explain(ctx, s.Name, id, err)
	}
	if f := d.proveReady(ctx, stack, s.Name, id, proof, since); f != nil {
		return f
	}
	if len(s.Service.Sites) > 0 {
		return nil // the gate leads to the old one until all is proven, see commit
	}
	if err := d.stop(ctx, stack, s); err != nil {
		return d.explain(ctx, s.Name, id, err)
	}
	return nil
}

// cannotRun looks, while what ran before still runs, whether a new command can be run at all; "" when nothing
// speaks against it. One that is as before needs no look.
func (d *Deployer) cannotRun(ctx context.Context, s plan.Service, id string) string {
	if s.Action != plan.Replace || !slices.ContainsFunc(s.Differences, func(f plan.Difference) bool {
		return slices.Contains([]string{"image", "platform", "command", "entrypoint", "working-dir"}, f.Field)
	}) {
		return ""
	}
	why, err := d.Engine.Runnable(ctx, id)
	if err != nil || why == "" {
		return "" // the start will tell
	}
	return "its command cannot be run: " + why
}

// create makes the new container beside the old one.
func (d *Deployer) create(ctx context.Context, s plan.Service, proof plan.Proof, lock *lock) (string, error) {
	salt := make([]byte, 16)
	rand.Read(salt)
	key := hex.EncodeToString(salt)
	if s.Running != nil && s.Running.Salt != "" {
		key = s.Running.Salt
	}
	made := d.Made(ctx, []*lab.Service{s.Service}, nil)
	c, missing := s.Complete(made)
	if missing != nil {
		return "", notKnown(missing)
	}
	if s.Overlap {
		// Its names are those of the old one until it is proven.
		c.Networks = slices.Clone(c.Networks)
		for i := range c.Networks {
			c.Networks[i].Aliases = nil
		}
	}
	if d.Engine.CanUpdate() {
		// Until it is proven, a restart of the engine must not start it beside what ran before.
		c.Restart = declare.Restart{Policy: "no"}
	}
	networkOf := ""
	if s.Service.NetworkOf != nil {
		partner, err := d.own(ctx, s.Service.NetworkOf.ContainerName())
		if err != nil {
			return "", err
		}
		networkOf = partner.ID
	}
	name := s.Service.ContainerName()
	if s.Action == plan.Replace {
		name += plan.SuffixNext
	}
	labels := map[string]string{
		plan.LabelLab: d.Lab, plan.LabelStack: s.Service.Stack.Name, plan.LabelService: s.Name,
		plan.LabelEntry: lock.entry(), plan.LabelFrom: d.From, plan.LabelSecret: namesLabel(s.Container.Secret),
		plan.LabelNames: attachments(s.Container.Networks), plan.LabelDigest: s.Container.Digest(key),
		plan.LabelSalt: key, plan.LabelRestart: s.Container.Restart.String(), plan.LabelProof: proof.Label(),
	}
	id, err := d.Engine.Create(ctx, name, c, labels, networkOf)
	if err == nil {
		err = d.Engine.PutFiles(ctx, id, c.Files)
	}
	return id, err
}

// notKnown words that a value has not come to light.
func notKnown(l *lab.Later) error {
	if l.From == nil {
		return fmt.Errorf("the value %s was not given: %s", l.Name, l.Ask)
	}
	return fmt.Errorf("the value %s did not come to light: no line of %s in %s matches %s", l.Name, l.File,
		l.From.FullName(), l.Match)
}

// start starts a container. An engine may hold a port for a moment after its container is gone, so that is
// tried again.
func (d *Deployer) start(ctx context.Context, id string) error {
	var err error
	for range 8 {
		if err = d.onOwn(ctx, id,
			func() error { return d.Engine.Start(ctx, id) }); !errors.Is(err, engine.ErrPortInUse) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
	return err
}

func entryOf(c engine.State) int { return number(c.Labels[plan.LabelEntry]) }

func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}
