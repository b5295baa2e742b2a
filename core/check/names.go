package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/wiring"
)

var nameRules = []Rule{
	{
		Name: "name-taken", Severity: Error, Needs: Host,
		Title: "a container, network or volume of that name exists, and does not belong to this lab",
		Text: "Nothing is taken over that somebody else made. Rename or remove it on the host, or give " +
			"the stack another name; a volume or network can be used as it is with existing.",
		Mistake: `[service.sensor]    # and a container mast.sensor made by hand`,
		Mended:  `[service.wind-sensor]`,
		Find:    nameTaken,
	}, {
		Name: "takes-over", Severity: Warning, Needs: Host,
		Title: "there is no such container whose place a service could take, or two services take it",
		Text: "A service that takes over begins with the data, ports and names of the container that is there, and " +
			"that one is kept until the new one is proven. Without it the service begins anew.",
		Mistake: `takes-over = "old-vain"    # the container is called old-vane`,
		Mended:  `takes-over = "old-vane"`,
		Mends:   true,
		Find:    takesOver,
	}, {
		Name: "alias-clash", Severity: Error, Needs: Files,
		Title: "two services answer to one name on a network",
		Text: "Whichever answers first is asked. Names on a network are those of its " +
			"services and their aliases.",
		Mistake: `aliases = ["wind", "sensor"]    # there is a service sensor`,
		Mended:  `aliases = ["wind"]`,
		Find:    aliasClash,
	}, {
		Name: "network-overlap", Severity: Error, Needs: Host,
		Title:   "the addresses of a network overlap those of another network or route",
		Text:    "The engine refuses such a network, or the host's way to the other one is lost.",
		Mistake: `subnet = "198.51.100.0/24"    # another network has 198.51.100.128/26`,
		Mended:  `subnet = "198.51.100.0/26"`,
		Find:    networkOverlap,
	}, {
		Name: "stack-gone", Severity: Warning, Needs: Host,
		Title: "the host runs a service of this lab that is in no file any more",
		Text: "It runs on without anybody looking after it. lantern retire takes it away; or its " +
			"folder has to come back.",
		Mistake: `[host.lamp-room]    # it runs mast.vane, and the stack mast has no vane any more`,
		Mended:  `# after the next deploy, or lantern retire mast`,
		Find:    stackGone,
	},
}

// deployed reports whether the host has a container of a service.
func deployed(s *lab.Service, of *lab.Lab) bool {
	return slices.ContainsFunc(s.Stack.Host.Survey.Containers, func(c survey.Container) bool {
		return c.Lab == of.Name && c.Stack == s.Stack.Name && c.Service == s.Name
	})
}

// successor returns the service whose first deploy takes the place of a container of somebody else; nil: none does.
func successor(l *lab.Lab, h *lab.Host, c survey.Container) *lab.Service {
	for _, st := range l.Stacks {
		for _, s := range st.Services {
			if st.Host == h && s.TakesOver == c.Name && c.Lab != l.Name && c.Name != s.ContainerName() && !deployed(s, l) {
				return s
			}
		}
	}
	return nil
}

func takesOver(in *Input) {
	first := map[string]*lab.Service{}
	for _, s := range in.surveyed() {
		facts := s.Stack.Host.Survey
		if s.TakesOver == "" || !facts.SeesHolders() || deployed(s, in.Lab) {
			continue
		}
		key := s.Stack.Host.Name + "\x00" + s.TakesOver
		if other := first[key]; other != nil {
			in.report(s, source.Problem{
				At: s.TakesOverAt, Message: other.FullName() + " takes the place of " + s.TakesOver + " already",
				Because: []source.Because{{At: other.TakesOverAt, Text: "there"}},
			})
			continue
		}
		first[key] = s
		var names []string
		own := false
		for _, c := range facts.Containers {
			if c.Lab != in.Lab.Name {
				names = append(names, c.Name)
			}
			own = own || c.Lab == in.Lab.Name && c.Name == s.TakesOver
		}
		switch {
		case own:
			in.report(s, source.Problem{
				At: s.TakesOverAt, Message: s.TakesOver + " is of this lab: nothing has to be taken over",
			})
		case !slices.Contains(names, s.TakesOver):
			in.report(s, source.Problem{
				At:      s.TakesOverAt,
				Message: fmt.Sprintf("%s has no container %s: nothing is taken over", s.Stack.Host.Name, s.TakesOver),
				Mend:    respellEngineName(s.TakesOverAt, s.TakesOver, names, func(n string) string { return n }),
			})
		}
	}
}

func nameTaken(in *Input) {
	for _, s := range in.surveyed() {
		for _, c := range s.Stack.Host.Survey.Containers {
			if c.Name == s.ContainerName() && c.Lab != in.Lab.Name {
				in.report(s, source.Problem{
					At: s.At,
					Message: fmt.Sprintf("%s has a container %s that is not of this lab",
						s.Stack.Host.Name, c.Name),
				})
			}
		}
	}
	for _, st := range in.Lab.Stacks {
		if st.Host == nil || st.Host.Survey == nil || len(st.Services) == 0 {
			continue
		}
		facts := st.Host.Survey
		report := func(what, name, owner string, at source.Span) {
			if owner != in.Lab.Name {
				in.report(st.Services[0], source.Problem{
					At:      at,
					Message: fmt.Sprintf("%s has a %s %s that is not of this lab", st.Host.Name, what, name),
				})
			}
		}
		for _, n := range wiring.NetworksOf(st) {
			at := st.Services[0].At
			for _, shared := range in.Lab.Networks {
				if n.Shared && shared.EngineName == n.Name {
					at = shared.At
				}
			}
			if i := slices.IndexFunc(facts.Networks, func(o survey.Network) bool {
				return o.Name == n.Name
			}); i >= 0 && !n.Existing {
				report("network", n.Name, facts.Networks[i].Lab, at)
			}
		}
		for _, v := range st.Volumes {
			if i := slices.IndexFunc(facts.Volumes, func(o survey.Volume) bool {
				return o.Name == v.EngineName
			}); i >= 0 && !v.Existing {
				report("volume", v.EngineName, facts.Volumes[i].Lab, v.At)
			}
		}
	}
}

func aliasClash(in *Input) {
	type name struct {
		host          *lab.Host
		network, name string
	}
	taken := map[name]*lab.Service{}
	for _, s := range in.services() {
		reported := false
		for _, n := range wiring.Attachments(s) {
			for _, alias := range n.Aliases {
				k := name{s.Stack.Host, n.Network, alias}
				other := taken[k]
				if other == nil || other == s {
					taken[k] = s
					continue
				}
				at := s.At
				for _, a := range s.Aliases {
					if a.Name == alias {
						at = a.At
					}
				}
				if !reported {
					reported = true
					in.report(s, source.Problem{
						At: at,
						Message: fmt.Sprintf("%s and %s both answer to %s on the network %s",
							s.FullName(), other.FullName(), alias, n.Network),
						Because: []source.Because{{Text: other.FullName() + " is here", At: other.At}},
					})
				}
			}
		}
	}
}

// ownOverlap reports networks of the lab whose addresses overlap on a host that both are on.
func ownOverlap(in *Input, told map[*lab.Network]bool) {
	type placed struct {
		network *lab.Network
		subnet  netip.Prefix
	}
	on := map[*lab.Host][]placed{}
	for _, s := range in.services() {
		for _, n := range s.Networks {
			want, err := netip.ParsePrefix(n.Subnet)
			if err != nil || slices.ContainsFunc(on[s.Stack.Host], func(o placed) bool { return o.network == n }) {
				continue
			}
			for _, o := range on[s.Stack.Host] {
				later, earlier := placed{n, want}, o
				if slices.Index(in.Lab.Networks, later.network) < slices.Index(in.Lab.Networks, earlier.network) {
					later, earlier = earlier, later
				}
				if o.subnet.Overlaps(want) && !told[later.network] {
					told[later.network] = true
					in.report(s, source.Problem{
						At: later.network.SubnetAt,
						Message: fmt.Sprintf("%s of %s overlaps %s of the lab's network %s on %s",
							later.subnet, later.network.Name, earlier.subnet, earlier.network.Name,
							s.Stack.Host.Name),
						Because: []source.Because{{Text: "there", At: earlier.network.SubnetAt}},
					})
				}
			}
			on[s.Stack.Host] = append(on[s.Stack.Host], placed{n, want})
		}
	}
}

func networkOverlap(in *Input) {
	told := map[*lab.Network]bool{}
	ownOverlap(in, told)
	for _, s := range in.surveyed() {
		for _, n := range s.Networks {
			want, err := netip.ParsePrefix(n.Subnet)
			if err != nil || told[n] {
				continue
			}
			host := s.Stack.Host
			taken := func(text, who string) {
				// The way to everything else is no network: a nearer one goes before it.
				if other, err := netip.ParsePrefix(text); err == nil && other.Bits() > 1 &&
					other.Overlaps(want) && !told[n] {
					told[n] = true
					in.report(s, source.Problem{
						At: n.SubnetAt,
						Message: fmt.Sprintf("%s of %s overlaps %s of %s on %s",
							want, n.Name, other, who, host.Name),
					})
				}
			}
			ours := []string{}
			for _, o := range host.Survey.Networks {
				ours = append(ours, o.Subnets...)
				for _, subnet := range o.Subnets {
					if o.Name != n.EngineName {
						taken(subnet, "the network "+o.Name)
					}
				}
			}
			for _, r := range host.Survey.Routes {
				// The engine's networks have routes of their own.
				if !slices.Contains(ours, r.Subnet) {
					taken(r.Subnet, "the way through "+r.Device)
				}
			}
		}
	}
}

func stackGone(in *Input) {
	for _, h := range in.Lab.Hosts {
		if h.Survey == nil {
			if slices.ContainsFunc(in.Lab.Stacks, func(st *lab.Stack) bool { return st.Host == h }) {
				in.skip("host "+h.Name, "host not surveyed")
			}
			continue
		}
		gone := map[string][]string{}
		for _, c := range h.Survey.Containers {
			if c.Lab != in.Lab.Name || c.Service == "" {
				continue
			}
			st := in.Lab.Stack(c.Stack)
			if st == nil || st.Host != h && st.Host != nil ||
				!in.mistaken(c.Stack) && st.Service(c.Service) == nil {
				gone[c.Stack] = append(gone[c.Stack], c.Service)
			}
		}
		for _, name := range sortedKeys(gone) {
			what := fmt.Sprintf(
				"%s runs %s of the stack %s, which is in no file for it: lantern retire %s takes it away",
				h.Name, strings.Join(gone[name], " and "), name, name)
			if in.Lab.Stack(name) != nil && in.Lab.Stack(name).Host == h {
				what = fmt.Sprintf(
					"%s runs %s of %s, which its file does not have any more: the next deploy takes it away",
					h.Name, strings.Join(gone[name], " and "), name)
			}
			var because []source.Because
			if became := renamed(in.Lab, h, name); became != nil {
				because = append(because, source.Because{
					At: became.Services[0].At,
					Text: "it is probably " + became.Name +
						" now, which has the same services and images: once " + name +
						" is retired, that can be deployed",
				})
				for _, v := range h.Survey.Volumes {
					if own, ok := strings.CutPrefix(v.Name, name+"."); ok && v.Lab == in.Lab.Name &&
						v.Stack == name {
						because = append(because, source.Because{
							Text: fmt.Sprintf(
								"its volume %s stays, and %s would begin with an empty one: [volume.%s] "+
									"engine-name = %q carries it over", v.Name, became.Name, own, v.Name),
						})
					}
				}
			}
			in.reportHost(h, source.Problem{Stack: name, At: h.At, Message: what, Because: because})
		}
	}
}

// renamed returns the stack that one which is in no file any more has probably become: it has the same
// services with the same images, and runs nowhere yet.
func renamed(l *lab.Lab, h *lab.Host, gone string) *lab.Stack {
	images := map[string]string{}
	for _, c := range h.Survey.Containers {
		if c.Lab == l.Name && c.Stack == gone && c.Service != "" {
			images[c.Service] = c.Image
		}
	}
	for _, st := range l.Stacks {
		runs := slices.ContainsFunc(h.Survey.Containers, func(c survey.Container) bool {
			return c.Lab == l.Name && c.Stack == st.Name
		})
		if st.Name == gone || st.Host != h || runs || len(st.Services) != len(images) {
			continue
		}
		if !slices.ContainsFunc(st.Services, func(s *lab.Service) bool { return images[s.Name] != s.Image.Text }) {
			return st
		}
	}
	return nil
}
