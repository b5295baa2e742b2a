// Package deploy carries a plan out: in order, proven, or put back.
package deploy

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// What a deploy ends with.
const (
	Done        = "done"
	NothingToDo = "nothing-to-do"
	Refused     = "refused"
	PutBack     = "put-back"
	NeedsAHand  = "needs-a-hand"
)

// Steps of a deploy.
const (
	StepPull    = "pull"
	StepCreate  = "create"
	StepStop    = "stop"
	StepStart   = "start"
	StepProve   = "prove"
	StepRemove  = "remove"
	StepPutBack = "put-back"
)

// States of a step.
const (
	Begun    = "begun"
	Progress = "progress"
	StepDone = "done"
	Failed   = "failed"
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
	Result  string
	Failure *Failure // why it was put back, or needs a hand
	Holder  string   // Refused: who holds the lock
	Hand    []string // NeedsAHand: what is to be done
}

// Deployer works on one host.
type Deployer struct {
	Engine *engine.Engine
	Lab    string
	Host   string
	Self   Self
	Report func(Event)
}

// names of what a deploy makes for the time being.
const (
	nextSuffix     = ".next"
	previousSuffix = ".previous"
	lockSuffix     = ".deploying"
	provenSuffix   = ".proven" // the lock's name once everything is proven: from here on there is only forward
)

func (d *Deployer) event(stack, service, step, state, detail string) {
	d.Report(Event{time.Now().UTC(), d.Host, stack, service, step, state, detail})
}

// mine returns the containers of a stack of this lab.
func (d *Deployer) mine(ctx context.Context, stack string) ([]engine.State, error) {
	all, err := d.Engine.Containers(ctx, d.Lab)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(c engine.State) bool { return c.Labels[plan.LabelStack] != stack }), nil
}

// Plan compares a stack with what runs.
func (d *Deployer) Plan(ctx context.Context, stack *lab.Stack) (plan.Stack, error) {
	containers, err := d.mine(ctx, stack.Name)
	if err != nil {
		return plan.Stack{}, err
	}
	if who := unknownIdentity(stack); who != "" {
		return plan.Stack{}, errors.New(who)
	}
	names := map[string]string{} // of services, by container id
	for _, c := range containers {
		names["container:"+c.ID] = c.Labels[plan.LabelService]
	}
	var running []plan.Running
	for _, c := range containers {
		service := c.Labels[plan.LabelService]
		if service == "" || c.Name != stack.Name+"."+service {
			continue // a lock, or in between two names
		}
		var declared plan.Container
		if s := stack.Service(service); s != nil {
			declared = plan.Declare(s)
		}
		// Without its image nobody can tell what the image said; then only its fingerprint counts.
		image, err := d.Engine.Image(ctx, c.ImageID)
		if name, ok := names[c.Container.Shares]; ok {
			c.Container.Shares = name
		}
		running = append(running, plan.Running{
			Done: ended0(c), Opaque: err != nil,
			ID: c.ID, Name: c.Name, Service: service, Digest: c.Labels[plan.LabelDigest], Salt: c.Labels[plan.LabelSalt],
			ImageID: c.ImageID, Up: c.Running, Container: engine.WithoutImage(c.Container, image, declared),
		})
	}
	var failed error
	p := plan.Make(stack, running, func(reference string) string {
		image, err := d.Engine.Image(ctx, reference)
		if err != nil && !errors.Is(err, engine.ErrNotFound) {
			failed = err
		}
		return image.ID
	})
	return p, failed
}

// Deploy brings a stack to what is declared, or leaves what ran before running. An error means that nothing was changed; what went wrong
// afterwards is in the outcome. Interrupting ctx puts back.
func (d *Deployer) Deploy(ctx context.Context, stack *lab.Stack) (Outcome, error) {
	if held, err := d.recover(ctx, stack.Name); err != nil || held.Result != "" {
		return held, err
	}
	if err := d.fetch(ctx, stack); err != nil {
		return Outcome{}, err
	}
	p, err := d.Plan(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	if !p.Changes() {
		return Outcome{Result: NothingToDo}, nil
	}
	if err := d.pull(ctx, p); err != nil {
		return Outcome{}, err
	}
	lock, held, err := d.lock(ctx, p)
	if err != nil || held.Result != "" {
		return held, err
	}
	// Somebody may have been faster between the plan and the lock; only what is planned under the lock holds.
	if p, err = d.Plan(ctx, stack); err != nil {
		return Outcome{}, errors.Join(err, d.Engine.Remove(context.WithoutCancel(ctx), lock.ID))
	}
	failure := d.carryOut(ctx, p, lock)
	if failure == nil {
		failure = d.provePages(ctx, p)
	}
	// From here on nobody can interrupt: half a commit or half a way back is what must not be left behind.
	ctx = context.WithoutCancel(ctx)
	if failure == nil {
		if err := d.Engine.Rename(ctx, lock.ID, stack.Name+provenSuffix); err != nil {
			failure = &Failure{Message: err.Error()}
		}
	}
	if failure == nil {
		return d.commit(ctx, stack.Name)
	}
	out := d.putBack(ctx, stack.Name, lock)
	out.Failure = failure
	return out, nil
}

// fetch pulls what is to be pulled at each deploy, before anything is compared: a newer image is a difference.
func (d *Deployer) fetch(ctx context.Context, stack *lab.Stack) error {
	for _, s := range stack.Services {
		if s.Fetch == "each-deploy" {
			if err := d.pullOne(ctx, stack.Name, s.Name, s.Image.Text, true); err != nil {
				return err
			}
		}
	}
	return nil
}

// pull fetches the images that are not on the host, all at once.
func (d *Deployer) pull(ctx context.Context, p plan.Stack) error {
	wanted := map[string]string{} // reference to service
	for _, s := range p.Services {
		if s.Action != plan.Create && s.Action != plan.Replace {
			continue
		}
		if s.Service.Fetch == "never" {
			if _, err := d.Engine.Image(ctx, s.Container.Image); errors.Is(err, engine.ErrNotFound) {
				return fmt.Errorf(`%s is not on %s, and fetch = "never" says that it is not to be pulled`, s.Container.Image, d.Host)
			}
		} else {
			wanted[s.Container.Image] = s.Name
		}
	}
	failures := make(chan error, len(wanted))
	for _, reference := range slices.Sorted(maps.Keys(wanted)) {
		go func() { failures <- d.pullOne(ctx, p.Stack.Name, wanted[reference], reference, false) }()
	}
	var all []error
	for range wanted {
		all = append(all, <-failures)
	}
	return errors.Join(all...)
}

// pullOne pulls an image that is not on the host; with always also one that is.
func (d *Deployer) pullOne(ctx context.Context, stack, service, reference string, always bool) error {
	_, err := d.Engine.Image(ctx, reference)
	if err == nil && !always || err != nil && !errors.Is(err, engine.ErrNotFound) {
		return err
	}
	d.event(stack, service, StepPull, Begun, reference)
	last := time.Now()
	err = d.Engine.Pull(ctx, reference, func(g engine.Progress) {
		if time.Since(last) > 200*time.Millisecond {
			last = time.Now()
			d.event(stack, service, StepPull, Progress, fmt.Sprintf("%d of %d bytes", g.Current, g.Total))
		}
	})
	switch {
	case errors.Is(err, engine.ErrNotFound):
		err = fmt.Errorf("%s: its registry does not have this image", reference)
	case err != nil:
		err = fmt.Errorf("%s cannot be pulled: %w", reference, err)
	}
	if err != nil {
		d.event(stack, service, StepPull, Failed, err.Error())
		return err
	}
	d.event(stack, service, StepPull, StepDone, reference)
	return nil
}

// carryOut replaces level by level; services of one level at the same time.
func (d *Deployer) carryOut(ctx context.Context, p plan.Stack, lock *lock) *Failure {
	name := p.Stack.Name
	if err := d.makeResources(ctx, p, lock); err != nil {
		return &Failure{Message: err.Error()}
	}
	for _, s := range slices.Backward(p.Services) {
		if s.StopFirst || s.Action == plan.Remove {
			if err := d.stepAside(ctx, name, s); err != nil {
				return d.explain(ctx, s.Name, "", err)
			}
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
		var wait sync.WaitGroup
		failures := make([]*Failure, len(services))
		for i, s := range services {
			wait.Go(func() { failures[i] = d.replace(ctx, name, s, lock) })
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

// stepAside stops a container and gives its name free. Its policy then makes an engine that starts anew in the middle bring back what ran before.
func (d *Deployer) stepAside(ctx context.Context, stack string, s plan.Service) error {
	current, err := d.Engine.Inspect(ctx, s.Running.ID)
	if err != nil {
		return err
	}
	if strings.HasSuffix(current.Name, previousSuffix) {
		return nil // did so before the others started
	}
	if err := d.stop(ctx, stack, s); err != nil {
		return err
	}
	return d.Engine.Rename(ctx, s.Running.ID, s.Running.Name+previousSuffix)
}

// stop stops what runs so far.
func (d *Deployer) stop(ctx context.Context, stack string, s plan.Service) error {
	if s.Running.Up && d.Engine.CanUpdate() {
		if err := d.Engine.SetRestart(ctx, s.Running.ID, declare.Restart{Policy: "always"}); err != nil {
			return err
		}
	}
	d.event(stack, s.Name, StepStop, Begun, "")
	if err := d.Engine.Stop(ctx, s.Running.ID); err != nil {
		d.event(stack, s.Name, StepStop, Failed, err.Error())
		return err
	}
	d.event(stack, s.Name, StepStop, StepDone, "")
	return nil
}

// replace brings one service to what is declared and waits until it is ready.
func (d *Deployer) replace(ctx context.Context, stack string, s plan.Service, lock *lock) *Failure {
	proof := plan.ProofOf(s.Service)
	if s.Action == plan.Keep {
		return nil
	}
	if f := d.awaitOthers(ctx, stack, s.Service); f != nil {
		return f
	}
	id := ""
	if s.Action == plan.Start {
		id = s.Running.ID
	} else {
		d.event(stack, s.Name, StepCreate, Begun, s.Container.Image)
		var err error
		if id, err = d.create(ctx, s, proof, lock); err != nil {
			d.event(stack, s.Name, StepCreate, Failed, err.Error())
			return d.explain(ctx, s.Name, "", err)
		}
		d.event(stack, s.Name, StepCreate, StepDone, "")
		if s.Overlap {
			return d.replaceBeside(ctx, stack, s, id, proof)
		}
		if s.Action == plan.Replace {
			if err := d.stepAside(ctx, stack, s); err != nil {
				return d.explain(ctx, s.Name, "", err)
			}
		}
		if err := d.Engine.Rename(ctx, id, s.Service.ContainerName()); err != nil {
			return d.explain(ctx, s.Name, "", err)
		}
	}
	return d.startAndProve(ctx, stack, s.Name, id, proof)
}

func (d *Deployer) startAndProve(ctx context.Context, stack, service, id string, proof plan.Proof) *Failure {
	d.event(stack, service, StepStart, Begun, "")
	since := time.Now()
	if err := d.start(ctx, id); err != nil {
		d.event(stack, service, StepStart, Failed, err.Error())
		return d.explain(ctx, service, id, err)
	}
	d.event(stack, service, StepStart, StepDone, "")
	return d.proveReady(ctx, stack, service, id, proof, since)
}

// replaceBeside proves the new container while the old one goes on with its work. Then the new one gets the names, and is proven with
// them, before the old one stops.
func (d *Deployer) replaceBeside(ctx context.Context, stack string, s plan.Service, id string, proof plan.Proof) *Failure {
	if f := d.startAndProve(ctx, stack, s.Name, id, proof); f != nil {
		return f
	}
	since := time.Now()
	err := d.Engine.Rename(ctx, s.Running.ID, s.Running.Name+previousSuffix)
	if err == nil {
		err = d.Engine.Rename(ctx, id, s.Service.ContainerName())
	}
	if err == nil {
		err = d.Engine.Rejoin(ctx, id, s.Container.Networks)
	}
	if err != nil {
		return d.explain(ctx, s.Name, id, err)
	}
	if f := d.proveReady(ctx, stack, s.Name, id, proof, since); f != nil {
		return f
	}
	if err := d.stop(ctx, stack, s); err != nil {
		return d.explain(ctx, s.Name, id, err)
	}
	return nil
}

// create makes the new container beside the old one.
func (d *Deployer) create(ctx context.Context, s plan.Service, proof plan.Proof, lock *lock) (string, error) {
	salt := make([]byte, 16)
	rand.Read(salt)
	key := hex.EncodeToString(salt)
	if s.Running != nil && s.Running.Salt != "" {
		key = s.Running.Salt
	}
	c := s.Container
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
	if s.Service.Shares != nil {
		partner, err := d.Engine.Inspect(ctx, s.Service.Shares.ContainerName())
		if err != nil {
			return "", err
		}
		networkOf = partner.ID
	}
	labels := map[string]string{
		plan.LabelLab: d.Lab, plan.LabelStack: s.Service.Stack.Name, plan.LabelService: s.Name, plan.LabelEntry: lock.entry(),
		plan.LabelDigest: s.Container.Digest(key), plan.LabelSalt: key, plan.LabelRestart: s.Container.Restart.String(), plan.LabelProof: proof.Label(),
	}
	return d.Engine.Create(ctx, s.Service.ContainerName()+nextSuffix, c, labels, networkOf)
}

// start starts a container. An engine may hold a port for a moment after its container is gone, so that is tried again.
func (d *Deployer) start(ctx context.Context, id string) error {
	var err error
	for range 8 {
		if err = d.Engine.Start(ctx, id); !errors.Is(err, engine.ErrPortInUse) {
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

// commit makes the proven containers the only ones. It can be run again from any point.
func (d *Deployer) commit(ctx context.Context, stack string) (Outcome, error) {
	containers, err := d.mine(ctx, stack)
	if err != nil {
		return Outcome{Result: NeedsAHand, Hand: []string{"everything is proven, but the engine stopped answering: run the same command again"}}, nil
	}
	var problems []error
	for _, c := range containers {
		service := c.Labels[plan.LabelService]
		if service == "" || c.Name != stack+"."+service || !d.Engine.CanUpdate() {
			continue
		}
		if want, err := declare.ParseRestart(c.Labels[plan.LabelRestart]); err == nil && want != c.Container.Restart {
			problems = append(problems, d.Engine.SetRestart(ctx, c.ID, want))
		}
	}
	if err := errors.Join(problems...); err != nil {
		return Outcome{Result: NeedsAHand, Failure: &Failure{Message: err.Error()}, Hand: []string{"everything is proven and runs, but its restart policies are not set: run the same command again"}}, nil
	}
	for _, c := range engine.GuestsFirst(containers) {
		if strings.HasSuffix(c.Name, previousSuffix) {
			if err := d.Engine.Remove(ctx, c.ID); err != nil {
				problems = append(problems, err)
				continue
			}
			d.event(stack, c.Labels[plan.LabelService], StepRemove, StepDone, "what ran before")
		}
	}
	if len(problems) == 0 {
		// Somebody else's container may be on a network that no service needs any more; that is no reason to hold anything up.
		if err := d.removeUnused(ctx, stack, nil); err != nil {
			d.event(stack, "", StepRemove, Progress, "left alone: "+err.Error())
		}
	}
	for _, c := range containers {
		if err := errors.Join(problems...); err == nil && c.Name == stack+provenSuffix {
			problems = append(problems, d.Engine.Remove(ctx, c.ID))
		}
	}
	if err := errors.Join(problems...); err != nil {
		return Outcome{Result: NeedsAHand, Failure: &Failure{Message: err.Error()}, Hand: []string{"everything is proven and runs, but what ran before is still there, stopped: run the same command again"}}, nil
	}
	return Outcome{Result: Done}, nil
}

func entryOf(c engine.State) int { return number(c.Labels[plan.LabelEntry]) }

func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

// ended0 tells whether a container is a job that has done its work: ended without an error, and not to be started again.
func ended0(c engine.State) bool {
	policy := c.Labels[plan.LabelRestart]
	return !c.Running && c.Status == "exited" && c.ExitCode == 0 && (policy == "no" || strings.HasPrefix(policy, "on-failure"))
}

// unknownIdentity names an account that nobody could look up; what is started with it would run as somebody else.
func unknownIdentity(stack *lab.Stack) string {
	for _, s := range stack.Services {
		if s.RunAs != nil && !s.RunAs.Known {
			return fmt.Sprintf("%s runs as %s, and the accounts of %s could not be looked up: declare UID:GID", s.FullName(), s.RunAs.Name, stack.Host.Name)
		}
	}
	return ""
}
