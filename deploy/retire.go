package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// Stacks returns the names of the lab's stacks that have containers on the host, sorted.
func (d *Deployer) Stacks(ctx context.Context) ([]string, error) {
	containers, err := d.Engine.Containers(ctx, d.Lab, "")
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range containers {
		names = append(names, c.Labels[plan.LabelStack])
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// Retiring returns the names of the containers and networks that a retirement of the stack removes, its volumes aside.
func (d *Deployer) Retiring(ctx context.Context, stack string) (containers, networks []string, err error) {
	mine, err := d.mine(ctx, stack)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range mine {
		containers = append(containers, c.Name)
	}
	networks, err = d.unusedNetworks(ctx, stack, mine)
	return containers, networks, err
}

// Retire stops and removes what belongs to a stack: containers, last started first, its network, and the shared ones that it was the last to use; with volumes also
// those that were made for it, and all that they hold. Host folders and everything that is not of this lab stay. The stack's folder need not be there any more.
func (d *Deployer) Retire(ctx context.Context, stack string, withVolumes bool) (Outcome, error) {
	if held, err := d.recover(ctx, stack, nil); err != nil || held.Result != "" {
		return held, err
	}
	l := &lock{}
	mine, err := d.mine(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	if len(mine) > 0 {
		if l.Entry, err = d.lastEntry(ctx, stack, mine); err != nil {
			return Outcome{}, err
		}
		l.Entry = max(l.Entry, d.After) + 1
		if held, err := d.takeLock(ctx, stack, mine[0].ImageID, 10*time.Minute, l); err != nil || held.Result != "" {
			return held, err
		}
	}
	// Only what is seen under the lock holds: a deploy may have ended just before it.
	r := retirement{Deployer: d, stack: stack, lock: l, withVolumes: withVolumes}
	r.out = Outcome{Result: Done, Entry: l.Entry, Plan: &plan.Stack{Stack: &lab.Stack{Name: stack}}}
	found, err := r.look(ctx)
	if err == nil && found {
		r.containers(ctx)
		ctx = context.WithoutCancel(ctx)
		r.networks(ctx)
		r.volumes(ctx)
	}
	if l.ID != "" {
		if unlock := d.remove(context.WithoutCancel(ctx), l.ID); unlock != nil {
			r.needs("remove the container %s by hand: %s", stack+plan.SuffixLock, unlock)
		}
		d.holds(false)
	}
	if err != nil || !found {
		return Outcome{Result: NothingToDo}, err
	}
	return r.out, nil
}

// retirement is one that is under way.
type retirement struct {
	*Deployer
	stack       string
	lock        *lock
	withVolumes bool
	mine        []engine.State
	names       []string // of volumes that go
	out         Outcome
}

func (r *retirement) needs(format string, args ...any) {
	r.out.Result = NeedsAHand
	r.out.Hand = append(r.out.Hand, fmt.Sprintf(format, args...))
}

// look finds out what there is to remove; false: nothing.
func (r *retirement) look(ctx context.Context) (bool, error) {
	all, err := r.Deployer.mine(ctx, r.stack)
	if err != nil {
		return false, err
	}
	r.mine = slices.DeleteFunc(all, func(c engine.State) bool { return c.ID == r.lock.ID })
	networks, err := r.unusedNetworks(ctx, r.stack, all)
	if err != nil {
		return false, err
	}
	if r.withVolumes {
		r.names, err = r.Volumes(ctx, r.stack)
	}
	return len(r.mine)+len(networks)+len(r.names) > 0, err
}

// containers stops and removes them, last started first.
func (r *retirement) containers(ctx context.Context) {
	slices.SortFunc(r.mine, func(a, b engine.State) int { return b.Started.Compare(a.Started) })
	for _, c := range engine.GuestsFirst(r.mine) {
		service := c.Labels[plan.LabelService]
		r.out.Plan.Services = append(r.out.Plan.Services, plan.Service{Name: service, Action: plan.Remove})
		r.event(r.stack, service, StepStop, Begun, "")
		err := r.stopOwn(ctx, c.ID, c.Container.StopWithin)
		if err == nil || errors.Is(err, engine.ErrNotFound) {
			err = r.remove(ctx, c.ID)
		}
		if err != nil {
			r.event(r.stack, service, StepRemove, Failed, err.Error())
			r.needs("the container %s is still there (%s); run lantern retire %s again", c.Name, err, r.stack)
			continue
		}
		if r.withVolumes {
			r.names = append(r.names, c.Unnamed...)
		} else {
			r.out.Left = append(r.out.Left, c.Unnamed...)
		}
		r.event(r.stack, service, StepRemove, StepDone, "")
	}
}

func (r *retirement) networks(ctx context.Context) {
	if r.out.Result != Done {
		return
	}
	err := r.removeUnused(ctx, r.stack, nil)
	switch {
	case errors.Is(err, engine.ErrMiscounted):
		r.needs("%s; lantern sweep removes it then", err)
	case err != nil:
		r.needs("something else uses it: %s", err)
	}
}

func (r *retirement) volumes(ctx context.Context) {
	if r.out.Result != Done {
		return
	}
	for _, v := range r.names {
		if err := errors.Join(r.Engine.RemoveVolume(ctx, v, r.Lab, false), r.Engine.RemoveVolume(ctx, v, r.Lab, true)); err != nil {
			r.needs("the volume %s is still there: %s", v, err)
			continue
		}
		r.event(r.stack, "", StepRemove, StepDone, "the volume "+v)
	}
}

// States of a service.
const (
	StateReady      = "ready"      // runs, and ready holds now
	StateStarting   = "starting"   // runs, and ready does not hold
	StateRunning    = "running"    // runs, and declares no ready
	StateRestarting = "restarting" // the engine starts it again and again
	StateDone       = "done"       // a job that ended without an error
	StateStopped    = "stopped"
	StateFailed     = "failed" // ended with an error
	StateMissing    = "missing"
	StateDeploying  = "deploying" // a deploy is in the middle of it, or died there
)

// Status is how a service is.
type Status struct {
	Host     string    `json:"host"`
	Stack    string    `json:"stack"`
	Service  string    `json:"service"`
	About    string    `json:"about,omitempty"`
	State    string    `json:"state"`
	Changed  bool      `json:"changed"` // differs from the files, or was changed by hand
	Since    time.Time `json:"since,omitzero"`
	Restarts int       `json:"restarts"`
	Image    string    `json:"image,omitempty"`
	Digest   string    `json:"digest,omitempty"` // of the image: its id on the host
	Ports    []string  `json:"ports,omitempty"`
	Links    []string  `json:"links,omitempty"`

	Detail string `json:"-"` // for the person: why it is not well
}

// Well tells whether the service does what it should.
func (s Status) Well() bool {
	return s.State == StateReady || s.State == StateRunning || s.State == StateDone
}

// Status looks at the services of a stack. Stack may be one of which only containers are left: then declared is nil.
func (d *Deployer) Status(ctx context.Context, name string, declared *lab.Stack) ([]Status, error) {
	containers, changed, err := d.lookFor(ctx, name, declared)
	if err != nil {
		return nil, err
	}
	by, services, deploying := map[string]engine.State{}, []string{}, false
	for _, c := range containers {
		by[c.Name] = c
		deploying = deploying || isLock(c)
	}
	if declared != nil {
		for _, s := range declared.Services {
			services = append(services, s.Name)
		}
	}
	for _, c := range containers {
		if s := c.Labels[plan.LabelService]; s != "" && !slices.Contains(services, s) {
			services = append(services, s)
		}
	}
	var all []Status
	for _, service := range services {
		st := Status{Host: d.Host, Stack: name, Service: service, State: StateMissing}
		var s *lab.Service
		if declared != nil {
			s = declared.Service(service)
		}
		c, there := by[name+"."+service]
		if s != nil {
			st.Links, st.About = s.Links(), s.About
			st.Changed = !there || changed[service]
		} else {
			st.Changed, st.Detail = true, "no longer in the files"
		}
		if there {
			proof := plan.ReadProof(c.Labels[plan.LabelProof])
			if s != nil {
				proof = plan.ProofOf(s) // its label may be older than the files
			}
			d.describe(ctx, &st, c, proof)
		}
		if deploying {
			st.State = StateDeploying
		}
		all = append(all, st)
	}
	return all, nil
}

// lookFor returns the containers of a stack, and which of its services are not as they are declared, field by field: somebody may have made one anew by hand, with all our labels.
func (d *Deployer) lookFor(ctx context.Context, name string, declared *lab.Stack) ([]engine.State, map[string]bool, error) {
	if declared == nil {
		containers, err := d.mine(ctx, name)
		return containers, nil, err
	}
	found, err := d.look(ctx, declared)
	if err != nil {
		return nil, nil, err
	}
	changed := map[string]bool{}
	p, err := d.planFrom(declared, found)
	for _, s := range p.Services {
		changed[s.Name] = s.Action != plan.Keep && s.Action != plan.Start
	}
	if err != nil { // who it runs as could not be looked up
		for _, c := range found.containers {
			if s := declared.Service(c.Labels[plan.LabelService]); s != nil {
				same, known := plan.Declare(s).SameDigest(c.Labels[plan.LabelDigest], c.Labels[plan.LabelSalt])
				changed[s.Name] = known && !same
			}
		}
	}
	return found.containers, changed, nil
}

// describe fills in what a container shows.
func (d *Deployer) describe(ctx context.Context, st *Status, c engine.State, proof plan.Proof) {
	st.Since, st.Restarts, st.Image, st.Digest = c.Started, c.Restarts, c.Container.Image, c.ImageID
	if !c.Running && !c.Finished.IsZero() {
		st.Since = c.Finished
	}
	for _, p := range c.Container.Ports {
		st.Ports = append(st.Ports, p.String())
	}
	switch {
	case c.Status == "restarting":
		st.State, st.Detail = StateRestarting, "it "+ended(c)
	case c.Running && !proof.Declared():
		st.State = StateRunning
	case c.Running && proof.Done:
		st.State = StateStarting // a job at work
	case c.Running && proof.Log != "":
		st.State = StateReady // held at its deploy; a log is not read again from the start
	case c.Running:
		waiting, cancel := context.WithTimeout(ctx, 4*time.Second)
		defer cancel()
		st.State = StateStarting
		if ok, _ := d.ready(waiting, c, proof, nil, time.Now()); ok {
			st.State = StateReady
		} else {
			st.Detail = notReady(proof)
		}
	case c.Status == "created":
		st.State = StateStopped
	case ended0(c) && (proof.Done || !proof.Declared() && proof.PagePort == 0 && len(c.Container.Ports) == 0):
		st.State = StateDone // it is meant to end
	case c.OOMKilled:
		st.State, st.Detail = StateFailed, "it "+ended(c)
	case c.ExitCode == 0 || c.ExitCode == 143 || c.ExitCode == 137:
		st.State = StateStopped
	default:
		st.State, st.Detail = StateFailed, "it "+ended(c)
	}
}
