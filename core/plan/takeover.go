package plan

import (
	"slices"
	"strings"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/wiring"
)

// DefaultNetworks are the networks that engines put a container on when nobody says which.
var DefaultNetworks = []string{"bridge", "podman"}

// defaultStopWithin is how long engines wait for a container that does not say how long it may take to stop.
const defaultStopWithin = 10 * time.Second

// shortID is how many digits of a container's id engines take for a host name that nobody has declared.
const shortID = 12

// takeOver compares a container of somebody else with the declaration that takes its place. What only tells whose it
// is, is one difference.
func takeOver(r Running, declared Container, s *lab.Service) []Difference {
	d := []Difference{{"takes-over", r.Name + " (not of this lab)", s.ContainerName()}}
	if r.ImageUnknown {
		return d
	}
	return append(d, Differences(r.asOurs(declared, s.Stack.Name), declared)...)
}

// asOurs returns a container as it would be if lantern had made it: on the network of the stack instead of the
// engine's, and with what engines do where nothing is said.
func (r Running) asOurs(declared Container, stack string) Container {
	c := r.Container
	if c.StopWithin == 0 {
		c.StopWithin = defaultStopWithin
	}
	if c.Restart.Policy == "" {
		c.Restart.Policy = "no"
	}
	if c.LogLimit.Size > 0 && c.LogLimit.Files == 0 {
		c.LogLimit.Files = 1
	}
	if UnnamedHost(c.Hostname, r.ID) || c.Mode == "host" {
		c.Hostname = declared.Hostname
	}
	if !strings.Contains(c.User, ":") && c.User != "" && strings.HasPrefix(declared.User, c.User+":") {
		c.User = declared.User // the group that the engine looks up by itself
	}
	c.Settings.Labels = slices.DeleteFunc(slices.Clone(c.Settings.Labels), marks(c.Settings.Labels))
	own := wiring.NetworkName(stack)
	c.Networks = slices.DeleteFunc(slices.Clone(c.Networks), func(a Attachment) bool {
		return slices.Contains(DefaultNetworks, a.Network)
	})
	for _, want := range declared.Networks {
		i := slices.IndexFunc(c.Networks, func(a Attachment) bool { return a.Network == want.Network })
		switch {
		case i < 0 && want.Network == own:
			c.Networks = append(c.Networks, want)
		case i >= 0:
			names := append(slices.Clone(c.Networks[i].Aliases), r.Name) // its name is one that it answers to
			if slices.ContainsFunc(names, func(n string) bool { return !slices.Contains(want.Aliases, n) }) {
				c.Networks[i].Aliases = names
			} else {
				c.Networks[i].Aliases = want.Aliases
			}
		}
	}
	return c
}

// UnnamedHost reports whether a host name is the one that an engine gives to a container without one.
func UnnamedHost(name, id string) bool {
	return name == "" || len(name) >= shortID && strings.HasPrefix(id, name)
}

// Marks returns the beginnings of labels by which another program finds its containers again, such as
// "example.tool.": it would take a container that bears them for its own.
func Marks(labels []lab.Pair) []string {
	var all []string
	for _, l := range labels {
		i := strings.LastIndexByte(l.Name, '.')
		if i < 0 || !slices.Contains([]string{"project", "config-hash", "container-number", "stack.namespace"}, l.Name[i+1:]) {
			continue
		}
		if prefix := l.Name[:i+1]; !slices.Contains(all, prefix) {
			all = append(all, prefix)
		}
	}
	return all
}

// marks returns a function that reports whether a label is one of those.
func marks(labels []lab.Pair) func(lab.Pair) bool {
	prefixes := Marks(labels)
	return func(l lab.Pair) bool {
		return slices.ContainsFunc(prefixes, func(p string) bool { return strings.HasPrefix(l.Name, p) })
	}
}

// WithoutMarks returns labels without those by which another program finds its containers again.
func WithoutMarks(labels []lab.Pair) []lab.Pair {
	return slices.DeleteFunc(slices.Clone(labels), marks(labels))
}

// Taking is a container of somebody else whose place a service takes. The lock of a deploy tells of it: the container
// itself bears no sign.
type Taking struct {
	Service, ID, Name string
	Restart           declare.Restart
	Up                bool
}

// Takings returns the containers whose place a plan takes.
func (p Stack) Takings() []Taking {
	var all []Taking
	for _, v := range p.Services {
		if r := v.Running; r != nil && r.Taken && v.Action == Replace {
			all = append(all, Taking{v.Name, r.ID, r.Name, r.Container.Restart, r.Up})
		}
	}
	return all
}

// Lost is something that a container was made with and that has no counterpart in stack.toml.
type Lost struct{ Element, Text string }
