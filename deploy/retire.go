package deploy

import (
	"context"
	"errors"
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
	containers, networks, err := d.Retiring(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	var volumes []string
	if withVolumes {
		if volumes, err = d.Volumes(ctx, stack); err != nil {
			return Outcome{}, err
		}
	}
	if len(containers)+len(networks)+len(volumes) == 0 {
		return Outcome{Result: NothingToDo}, nil
	}
	mine, err := d.mine(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	l := &lock{}
	if len(mine) > 0 {
		if l.Entry, err = d.lastEntry(ctx, stack, mine); err != nil {
			return Outcome{}, err
		}
		l.Entry = max(l.Entry, d.After) + 1
		if held, err := d.takeLock(ctx, stack, mine[0].ImageID, 10*time.Minute, l); err != nil || held.Result != "" {
			return held, err
		}
	}
	slices.SortFunc(mine, func(a, b engine.State) int { return b.Started.Compare(a.Started) })
	out := Outcome{Result: Done, Entry: l.Entry, Plan: &plan.Stack{Stack: &lab.Stack{Name: stack}}}
	for _, c := range engine.GuestsFirst(mine) {
		service := c.Labels[plan.LabelService]
		out.Plan.Services = append(out.Plan.Services, plan.Service{Name: service, Action: plan.Remove})
		d.event(stack, service, StepStop, Begun, "")
		err := d.stopOwn(ctx, c.ID, c.Container.StopWithin)
		if err == nil || errors.Is(err, engine.ErrNotFound) {
			if err = d.remove(ctx, c.ID); withVolumes && err == nil {
				volumes = append(volumes, c.Unnamed...)
			}
		}
		if err != nil {
			d.event(stack, service, StepRemove, Failed, err.Error())
			out.Result = NeedsAHand
			out.Hand = append(out.Hand, "the container "+c.Name+" is still there ("+err.Error()+"); run lantern retire "+stack+" again")
			continue
		}
		if !withVolumes {
			out.Left = append(out.Left, c.Unnamed...)
		}
		d.event(stack, service, StepRemove, StepDone, "")
	}
	ctx = context.WithoutCancel(ctx)
	if out.Result == Done {
		if err := d.removeUnused(ctx, stack, nil); err != nil {
			out.Result = NeedsAHand
			if errors.Is(err, engine.ErrMiscounted) {
				out.Hand = append(out.Hand, err.Error()+"; lantern sweep removes it then")
			} else {
				out.Hand = append(out.Hand, "something else uses it: "+err.Error())
			}
		}
	}
	if out.Result == Done {
		for _, v := range volumes {
			if err := errors.Join(d.Engine.RemoveVolume(ctx, v, d.Lab, false), d.Engine.RemoveVolume(ctx, v, d.Lab, true)); err != nil {
				out.Result = NeedsAHand
				out.Hand = append(out.Hand, "the volume "+v+" is still there: "+err.Error())
				continue
			}
			d.event(stack, "", StepRemove, StepDone, "the volume "+v)
		}
	}
	if l.ID != "" {
		if err := d.remove(ctx, l.ID); err != nil {
			out.Result = NeedsAHand
			out.Hand = append(out.Hand, "remove the container "+stack+plan.SuffixLock+" by hand: "+err.Error())
		}
	}
	return out, nil
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
	Changed  bool      `json:"changed"` // differs from the files
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
	containers, err := d.mine(ctx, name)
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
			st.Changed = !there || c.Labels[plan.LabelDigest] != plan.Declare(s).Digest(c.Labels[plan.LabelSalt])
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
	case ended0(c):
		st.State = StateDone
	case c.ExitCode == 0 || c.ExitCode == 143 || c.ExitCode == 137:
		st.State = StateStopped
	default:
		st.State, st.Detail = StateFailed, "it "+ended(c)
	}
}
