package observe

import (
	"context"
	"slices"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

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

// Well reports whether the service does what it should.
func (s Status) Well() bool {
	return s.State == StateReady || s.State == StateRunning || s.State == StateDone
}

// Status looks at the services of a stack. Stack may be one of which only containers are left: then declared
// is nil.
func (o *Observer) Status(ctx context.Context, name string, declared *lab.Stack) ([]Status, error) {
	containers, changed, err := o.declaredAndRunning(ctx, name, declared)
	if err != nil {
		return nil, err
	}
	by, services, deploying := map[string]engine.State{}, []string{}, false
	for _, c := range containers {
		by[c.Name] = c
		deploying = deploying || IsLock(c)
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
		st := Status{Host: o.Host, Stack: name, Service: service, State: StateMissing}
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
			o.describe(ctx, &st, c, proof)
		}
		if deploying {
			st.State = StateDeploying
		}
		all = append(all, st)
	}
	return all, nil
}

// declaredAndRunning returns the containers of a stack, and which of its services are not as they are
// declared, field by field: somebody may have made one again by hand, with all our labels.
func (o *Observer) declaredAndRunning(ctx context.Context, name string,
	declared *lab.Stack) ([]engine.State, map[string]bool, error) {
	if declared == nil {
		containers, err := o.Containers(ctx, name)
		return containers, nil, err
	}
	found, err := o.Snapshot(ctx, declared)
	if err != nil {
		return nil, nil, err
	}
	changed := map[string]bool{}
	p, err := o.PlanFrom(declared, found)
	for _, s := range p.Services {
		changed[s.Name] = s.Action != plan.Keep && s.Action != plan.Start
	}
	if err != nil { // who it runs as could not be looked up
		for _, c := range found.Containers {
			if s := declared.Service(c.Labels[plan.LabelService]); s != nil {
				same, known := plan.Declare(s).SameDigest(c.Labels[plan.LabelDigest], c.Labels[plan.LabelSalt])
				changed[s.Name] = known && !same
			}
		}
	}
	return found.Containers, changed, nil
}

// describe fills in what a container shows.
func (o *Observer) describe(ctx context.Context, st *Status, c engine.State, proof plan.Proof) {
	st.Since, st.Restarts, st.Image, st.Digest = c.Started, c.Restarts, c.Container.Image, c.ImageID
	if !c.Running && !c.Finished.IsZero() {
		st.Since = c.Finished
	}
	for _, p := range c.Container.Ports {
		st.Ports = append(st.Ports, p.String())
	}
	switch {
	case c.Status == "restarting":
		st.State, st.Detail = StateRestarting, "it "+HowEnded(c)
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
		if ok, _ := o.Ready(waiting, c, proof, nil, time.Now()); ok {
			st.State = StateReady
		} else {
			st.Detail = NotReady(proof, "")
		}
	case c.Status == "created":
		st.State = StateStopped
	case CompletedJob(c) && (proof.Done || !proof.Declared() && proof.PagePort == 0 && len(c.Container.Ports) == 0):
		st.State = StateDone // it is meant to end
	case c.OOMKilled:
		st.State, st.Detail = StateFailed, "it "+HowEnded(c)
	case c.ExitCode == 0 || c.ExitCode == 143 || c.ExitCode == 137:
		st.State = StateStopped
	default:
		st.State, st.Detail = StateFailed, "it "+HowEnded(c)
	}
}
