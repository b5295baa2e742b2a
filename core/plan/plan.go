package plan

import (
	"slices"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// Running is a container of this lab as the engine shows it.
type Running struct {
	ID, Name, Service string
	Digest, Salt      string // from its labels
	ImageID           string
	Up                bool
	Done              bool      // ended without an error, and is not to be started again
	Container         Container // as read back, without what only the image says
	ImageUnknown      bool      // what runs cannot be told from what its image says
	Taken             bool      // somebody else's, whose place the service takes
	Fleeing           bool      // the engine removes it as soon as it ends
}

// Action is what a deploy does with a service.
type Action string

const (
	// Create makes what is not there.
	Create Action = "create"
	// Replace makes a new container in place of one that differs.
	Replace Action = "replace"
	// Reload puts new files into one that runs, and makes that known to it.
	Reload Action = "reload"
	// Start starts one that is as declared but does not run.
	Start Action = "start"
	// Keep leaves one as it is.
	Keep Action = "keep"
	// Remove takes away one that is no longer declared.
	Remove Action = "remove"
)

// Stack is what a deploy does with one stack.
type Stack struct {
	Stack    *lab.Stack
	Services []Service // in the order in which they start; what is removed comes last
	Networks []Resource
	Volumes  []Resource
	Sites    []Difference // what the gate is told otherwise than it knows

	// Unasked are images that are to be fetched at each deploy, and whose registry did not say whether they
	// have moved: a deploy fetches them, and may replace what runs.
	Unasked []string

	Builds       []Build // images that are made first, in that order
	BuildProblem error   // why it is not known which; for the person

	// Unfinished tells that another deploy is at work, or has died and left something in between.
	Unfinished bool
}

// Service is what a deploy does with one service.
type Service struct {
	Name        string
	Service     *lab.Service // nil when it is removed
	Action      Action
	Container   Container
	Running     *Running // nil when it is created
	Level       int      // services of one level do not wait for each other
	Differences []Difference

	// LeftOut tells that it stays as it is because others were named, whatever its files say.
	LeftOut bool

	// Asks are values that a person has to give before it can be deployed.
	Asks []*lab.Later
	// StopFirst tells that its container holds a host port that another service is about to take, or lives in
	// the network of one that goes.
	StopFirst bool
	// Overlap tells that its new container runs beside the old one until it is proven, and only then gets its
	// names.
	Overlap bool
}

// Asks reports whether a person has to say yes: something is to be done, or may turn out to be.
func (p Stack) Asks() bool { return p.Changes() || len(p.Unasked) > 0 }

// Changes reports whether anything is to be done at all.
func (p Stack) Changes() bool {
	return len(p.Sites) > 0 || len(p.Builds) > 0 || p.ChangesHost()
}

// ChangesHost reports whether anything of the engine is to be changed.
func (p Stack) ChangesHost() bool {
	changed := func(r Resource) bool { return r.Action == Replace }
	return slices.ContainsFunc(p.Services, func(v Service) bool { return v.Action != Keep }) ||
		slices.ContainsFunc(p.Networks, changed) || slices.ContainsFunc(p.Volumes, changed)
}

// Found is what a host has of a stack.
type Found struct {
	Lab      string
	Made     map[*lab.Later]string // values that services have made by now
	Running  []Running
	Networks []survey.Network        // all of the host
	Volumes  []survey.Volume         // all of the host
	Images   map[string]survey.Image // that are on the host, by their references; only for stacks that build some
}

// Make plans a deploy of a stack. Images gives the id that an image's reference has on the host now, "" where
// it is not there. The order of services must have no circle.
func Make(stack *lab.Stack, found Found, images func(reference string) string) Stack {
	p := Stack{Stack: stack, Networks: compareNetworks(stack, found), Volumes: compareVolumes(stack, found)}
	running := found.Running
	levels := Levels(stack)
	for _, s := range stack.Containers() {
		v := Service{Name: s.Name, Service: s, Container: Declare(s), Level: levels[s], Action: Create}
		if i := slices.IndexFunc(running, func(r Running) bool { return r.Service == s.Name }); i >= 0 {
			v.Running = &running[i]
			now := v.Container
			now.fill(found.Made)
			if running[i].Taken {
				v.Action, v.Differences = Replace, takeOver(running[i], now, s)
			} else {
				v.Action, v.Differences = compare(running[i], now, images(v.Container.Image))
				if same, known := now.SameDigest(running[i].Digest, running[i].Salt); v.Action == Replace && s.Reload != nil &&
					running[i].Up && same && known && onlyContents(running[i].Container, now, v.Differences) {
					v.Action = Reload
				}
			}
		}
		p.Services = append(p.Services, v)
	}
	slices.SortStableFunc(p.Services, func(a, b Service) int { return a.Level - b.Level })
	p.BuildProblem = p.builds(found.Images)
	p.togetherWithNetworks()
	p.togetherWithShared()
	for i, r := range running {
		if stack.Service(r.Service) == nil {
			p.Services = append(p.Services, Service{
				Name:      r.Service,
				Action:    Remove,
				Running:   &running[i],
				Container: r.Container,
			})
		}
	}
	for i := range p.Services {
		v := &p.Services[i]
		v.StopFirst = v.StopFirst || p.givesPortAway(*v)
		v.Overlap = v.Action == Replace && v.Service.Overlap && !v.StopFirst && v.Running.Up && !v.Running.Taken &&
			besides(v.Running.Container, v.Container)
	}
	p.ask()
	return p
}

// besides reports whether two containers can run at the same time: they share no host port, no network of
// another one and nothing that both write to.
func besides(a, b Container) bool {
	if b.Mode == "host" || b.NetworkOf != "" {
		return false
	}
	files := slices.ContainsFunc(a.Mounts, func(m Mount) bool {
		return m.Source != "" && !m.ReadOnly &&
			slices.ContainsFunc(b.Mounts, func(o Mount) bool {
				return o.Kind == m.Kind && o.Source == m.Source && !o.ReadOnly
			})
	})
	return !a.SharesHostPort(b) && !files
}

func compare(r Running, declared Container, imageID string) (Action, []Difference) {
	moved := imageID != "" && imageID != r.ImageID
	var d []Difference
	if !r.ImageUnknown {
		// Also when the fingerprint is the same: somebody may have changed it by hand.
		d = Differences(r.Container, declared)
	}
	if moved && r.Container.Image == declared.Image {
		d = append([]Difference{{"image", declared.Image + " " + short(r.ImageID),
			declared.Image + " " + short(imageID)}}, d...)
	}
	same, known := declared.SameDigest(r.Digest, r.Salt)
	switch {
	case known && !same || r.Digest == "" || moved || len(d) > 0:
		return Replace, d
	case !r.Up && !r.Done:
		return Start, nil
	}
	return Keep, nil
}

// short shortens an image's id for the eye.
func short(id string) string {
	id = strings.TrimPrefix(id, "sha256:")
	return id[:min(12, len(id))]
}

// Levels returns for each service how many others in a row have to be ready before it.
func Levels(stack *lab.Stack) map[*lab.Service]int {
	level := make(map[*lab.Service]int, len(stack.Services))
	// A chain is at most as long as there are services: a circle ends here, too.
	for range stack.Services {
		for _, s := range stack.Services {
			for _, a := range s.After {
				if a.Service.Stack == s.Stack {
					level[s] = min(max(level[s], level[a.Service]+1), len(stack.Services))
				}
			}
			if s.NetworkOf != nil {
				level[s] = min(max(level[s], level[s.NetworkOf]+1), len(stack.Services))
			}
		}
	}
	for _, s := range stack.Services {
		for _, c := range s.Copies()[1:] {
			level[c] = level[s]
		}
	}
	return level
}

// togetherWithShared lets a service that lives in another one's network be replaced with it: the network goes
// with its container.
func (p Stack) togetherWithShared() {
	for i := range p.Services {
		v := &p.Services[i]
		if v.Running == nil || v.Service.NetworkOf == nil {
			continue
		}
		j := slices.IndexFunc(p.Services, func(o Service) bool { return o.Service == v.Service.NetworkOf })
		if j < 0 || p.Services[j].Action == Keep || p.Services[j].Action == Reload {
			continue
		}
		v.StopFirst = v.Running.Up
		if v.Action != Replace {
			v.Action = Replace
			v.Differences = append(v.Differences, Difference{
				Field:    "shares-network-with",
				Running:  v.Container.NetworkOf,
				Declared: v.Container.NetworkOf + ", which is new",
			})
		}
	}
}

// togetherWithNetworks lets the services on a network that changes stop together and be replaced: each gets
// another address there, and some keep those of their neighbours for as long as they run.
func (p Stack) togetherWithNetworks() {
	for _, n := range p.Networks {
		if n.Action != Replace {
			continue
		}
		for i := range p.Services {
			v := &p.Services[i]
			on := func(c Container) bool {
				return slices.ContainsFunc(c.Networks, func(a Attachment) bool { return a.Network == n.Name })
			}
			if v.Running == nil || !on(v.Running.Container) && !on(v.Container) {
				continue
			}
			v.StopFirst = v.Running.Up
			if v.Action != Replace {
				v.Action = Replace
				v.Differences = append(v.Differences, Difference{
					Field:    "networks",
					Running:  n.Name,
					Declared: n.Name + ", which is made again",
				})
			}
		}
	}
}

// givesPortAway reports whether another service of the plan is about to take a host port that v's running
// container holds.
func (p Stack) givesPortAway(v Service) bool {
	if v.Running == nil || !v.Running.Up || (v.Action != Replace && v.Action != Remove) {
		return false
	}
	return slices.ContainsFunc(p.Services, func(o Service) bool {
		if o.Name == v.Name || (o.Action != Create && o.Action != Replace) {
			return false
		}
		return o.Container.SharesHostPort(v.Running.Container)
	})
}
