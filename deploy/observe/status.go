package observe

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

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
	StateDone       = "done"       // meant to end, and ended without an error
	StateStopped    = "stopped"    // somebody has stopped it, or it ended though it was not meant to
	StateFailed     = "failed"     // ended with an error
	StateMissing    = "missing"
	StateDeploying  = "deploying" // a deploy is in the middle of it, or died there
)

// Status is how a service is: how it runs, whether it still is what was deployed, and whether the files have
// moved on since. Each is told by itself.
type Status struct {
	Host     string    `json:"host"`
	Stack    string    `json:"stack"`
	Service  string    `json:"service"`
	About    string    `json:"about,omitempty"`
	State    string    `json:"state"`
	Changed  bool      `json:"changed"`  // by hand: it is not what was deployed
	Outdated bool      `json:"outdated"` // its files, or its image, have changed since it was deployed
	Since    time.Time `json:"since,omitzero"`
	Restarts int       `json:"restarts"`
	Image    string    `json:"image,omitempty"`
	Digest   string    `json:"digest,omitempty"` // of the image: its id on the host
	Ports    []string  `json:"ports,omitempty"`
	Links    []string  `json:"links,omitempty"`
	// FirstLogin is how a person gets in, by the card of the image; as long as its first deploy was the only one.
	FirstLogin string `json:"first-login,omitempty"`

	Detail string `json:"-"` // for the person: why it is not well
}

// Well reports whether the service does what it should.
func (s Status) Well() bool {
	return s.State == StateReady || s.State == StateRunning || s.State == StateDone
}

// Status looks at the services of a stack. Stack may be one of which only containers are left: then declared
// is nil. Deployed returns the stack as it was last deployed, or nil where that is not known; it is only called
// when the files have changed since.
func (o *Observer) Status(ctx context.Context, name string, declared *lab.Stack,
	deployed func() *lab.Stack) ([]Status, error) {
	containers, differs, err := o.declaredAndRunning(ctx, name, declared, deployed)
	if err != nil {
		return nil, err
	}
	by, services, deploying := map[string]engine.State{}, []string{}, false
	for _, c := range containers {
		by[c.Name] = c
		deploying = deploying || IsLock(c)
	}
	if declared != nil {
		for _, s := range declared.Containers() {
			services = append(services, s.Name)
		}
	}
	for _, c := range containers {
		if s := c.Labels[plan.LabelService]; s != "" && !slices.Contains(services, s) {
			services = append(services, s)
		}
	}
	all := make([]Status, len(services))
	var work errgroup.Group
	work.SetLimit(probesAtOnce)
	for i, service := range services {
		all[i] = Status{Host: o.Host, Stack: name, Service: service, State: StateMissing}
		work.Go(func() error {
			st := &all[i]
			var s *lab.Service
			if declared != nil {
				s = declared.Service(service)
			}
			if s != nil {
				st.Links, st.About = s.Links(), s.About
				if s.CopyOf == nil {
					st.Links = append(st.Links, s.SiteLinks()...)
				}
				st.Changed, st.Outdated = differs[service].changed, differs[service].outdated
			} else {
				st.Outdated, st.Detail = true, "no longer in the files"
			}
			if c, there := by[lab.ContainerName(o.Lab, name, service)]; there {
				proof := plan.ReadProof(c.Labels[plan.LabelProof])
				if s != nil {
					proof = plan.ProofOf(s) // its label may be older than the files
				}
				o.describe(ctx, st, c, proof)
			}
			if deploying {
				st.State = StateDeploying
			}
			return nil
		})
	}
	return all, work.Wait()
}

// probesAtOnce is how many services of a stack are asked at the same time whether they are ready.
const probesAtOnce = 16

// difference is how a container differs from what it was or should be.
type difference struct{ changed, outdated bool } // as in [Status]

// declaredAndRunning returns the containers of a stack, and how those of its services differ, by service. They
// are compared field by field: somebody may have made one again by hand, with all our labels.
func (o *Observer) declaredAndRunning(ctx context.Context, name string, declared *lab.Stack,
	deployed func() *lab.Stack) ([]engine.State, map[string]difference, error) {
	if declared == nil {
		containers, err := o.Containers(ctx, name)
		return containers, nil, err
	}
	found, err := o.Snapshot(ctx, declared)
	if err != nil {
		return nil, nil, err
	}
	replaced := map[string]bool{}
	p, unknown := o.PlanFrom(declared, found) // an error: the account that it runs as could not be looked up
	for _, s := range p.Services {
		replaced[s.Name] = s.Action != plan.Keep && s.Action != plan.Start
	}
	deployed = sync.OnceValue(deployed)
	differs := map[string]difference{}
	for _, c := range found.Containers {
		service := c.Labels[plan.LabelService]
		s := declared.Service(service)
		if s == nil || IsTransitional(c) {
			continue
		}
		label, salt := c.Labels[plan.LabelDigest], c.Labels[plan.LabelSalt]
		if same, known := plan.Declare(s).SameDigest(label, salt); known && !same && label != "" {
			differs[service] = difference{changed: wasChanged(found, c, deployed()), outdated: true}
			continue
		}
		byHand := unknown == nil && found.differs(c, s)
		differs[service] = difference{changed: byHand, outdated: replaced[service] && !byHand}
	}
	return found.Containers, differs, nil
}

// wasChanged reports whether a container is not what was deployed; false where that is not known.
func wasChanged(found Snapshot, c engine.State, deployed *lab.Stack) bool {
	if deployed == nil {
		return false
	}
	s := deployed.Service(c.Labels[plan.LabelService])
	if s == nil {
		return false
	}
	same, _ := plan.Declare(s).SameDigest(c.Labels[plan.LabelDigest], c.Labels[plan.LabelSalt])
	return same && found.differs(c, s)
}

// differs reports whether a container has other fields than a declaration.
func (s Snapshot) differs(c engine.State, service *lab.Service) bool {
	declared := plan.Declare(service)
	declared.Files = nil // whether a file inside was changed or the one in the lab cannot be told
	running, known := s.readBack(c, declared)
	return known && len(plan.Differences(running, declared)) > 0
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
		quick := *o // a look starts nothing on the host
		quick.Inside = nil
		if ok, _ := quick.Ready(waiting, c, proof, nil, time.Now()); ok {
			st.State = StateReady
		} else {
			st.Detail = NotReady(proof, "")
		}
	case c.Status == "created":
		st.State = StateStopped
	case c.ExitCode == 0 && meantToEnd(c, proof):
		st.State = StateDone
	case c.OOMKilled:
		st.State, st.Detail = StateFailed, "it "+HowEnded(c)
	case c.ExitCode == 0 || c.ExitCode == 143 || c.ExitCode == 137:
		st.State = StateStopped
	default:
		st.State, st.Detail = StateFailed, "it "+HowEnded(c)
	}
}

// meantToEnd reports whether a service is one that ends: others wait for that, or its policy lets it end and it
// has nothing that others could ask it.
func meantToEnd(c engine.State, proof plan.Proof) bool {
	serves := proof.Declared() || proof.PagePort > 0 || len(c.Container.Ports) > 0
	return proof.Done || CompletedJob(c) && !serves
}
