package adopt

import (
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/interchange"
	"proudlantern.example/lantern/core/plan"
)

// Group is containers that belong together.
type Group struct {
	Name       string // that its stack gets
	Containers []Container
}

// Groups puts containers together that a label of the program that made them, a network of somebody's choice or the
// network of one of them joins. Each group gets a name that is not taken.
func Groups(all []Container, taken func(string) bool) []Group {
	at := make([]int, len(all)) // the group of each container
	for i := range at {
		at[i] = i
	}
	for i := range all {
		for j := range i {
			if joined(all[i], all[j]) {
				old, now := at[i], at[j]
				for k := range at {
					if at[k] == old {
						at[k] = now
					}
				}
			}
		}
	}
	var groups []Group
	used := map[string]bool{}
	for i := range all {
		var g Group
		for j, c := range all {
			if at[j] == i {
				g.Containers = append(g.Containers, c)
			}
		}
		if g.Containers == nil {
			continue
		}
		g.Name = stackName(g.Containers, func(n string) bool { return used[n] || taken(n) })
		used[g.Name] = true
		groups = append(groups, g)
	}
	return groups
}

// project returns the value of the label by which a program finds the containers of one project; "" for none.
func project(c Container) string {
	for _, prefix := range plan.Marks(c.Settings.Labels) {
		for _, l := range c.Settings.Labels {
			if (l.Name == prefix+"project" || l.Name == prefix+"stack.namespace") && l.Value != "" {
				return l.Value
			}
		}
	}
	return ""
}

func joined(a, b Container) bool {
	if p := project(a); p != "" && p == project(b) {
		return true
	}
	if a.NetworkOf == "container:"+b.ID || b.NetworkOf == "container:"+a.ID {
		return true
	}
	return slices.ContainsFunc(userNetworks(a), func(n plan.Attachment) bool {
		return slices.ContainsFunc(userNetworks(b), func(o plan.Attachment) bool { return o.Network == n.Network })
	})
}

// stackName names a group after its project, else after its network, else after its first container.
func stackName(group []Container, taken func(string) bool) string {
	there := ""
	for _, c := range group {
		if there = project(c); there != "" {
			break
		}
	}
	if on := userNetworks(group[0]); there == "" && len(group) > 1 && len(on) > 0 {
		there = on[0].Network
	}
	if there == "" {
		there = group[0].Name
	}
	return interchange.ServiceName(there, func(name string) bool {
		// The container of a service must not be called as one that is there.
		return taken(name) || !declare.IsName(name) || slices.ContainsFunc(group, func(c Container) bool {
			return strings.HasPrefix(c.Name, name+".")
		})
	})
}
