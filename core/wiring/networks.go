package wiring

import (
	"slices"

	"proudlantern.example/lantern/core/lab"
)

// Network is a network that a stack's services are on.
type Network struct {
	Name     string // on the engine
	Subnet   string // "": the engine's choice
	Internal bool
	Shared   bool // the lab's, not the stack's
	Existing bool // made by somebody else: never made and never removed
}

// NetworksOf returns the networks that a stack needs: its own first.
func NetworksOf(st *lab.Stack) []Network {
	var all []Network
	for _, s := range st.Services {
		if st.Own && s.NetworkMode == "" && s.NetworkOf == nil && len(all) == 0 {
			all = []Network{{Name: NetworkName(st.Name)}}
		}
	}
	for _, s := range st.Services {
		for _, n := range s.Networks {
			network := Network{n.EngineName, n.Subnet, n.Internal, true, n.Existing}
			if !slices.Contains(all, network) {
				all = append(all, network)
			}
		}
	}
	return all
}

// NetworkName returns the name of a stack's own network.
func NetworkName(stack string) string { return stack + ".net" }

// Attachment is a network that a container is on, and the names that it answers to there.
type Attachment struct {
	Network string // its name on the engine
	Aliases []string
}

// Attachments returns the networks that a service is on, with its names there.
func Attachments(s *lab.Service) []Attachment {
	if s.NetworkMode != "" || s.NetworkOf != nil {
		return nil
	}
	names := func(first string) []string {
		all := []string{first}
		for _, a := range s.Aliases {
			all = append(all, a.Name)
		}
		return all
	}
	var on []Attachment
	if s.Stack.Own {
		on = append(on, Attachment{NetworkName(s.Stack.Name), names(s.NetworkName())})
	}
	for _, n := range s.Networks {
		on = append(on, Attachment{n.EngineName, names(s.NetworkName() + "." + s.Stack.Name)})
	}
	return on
}
