package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var clusterRules = []Rule{
	{
		Name: "cluster-setting", Severity: Error, Needs: Files,
		Title: "a service on a cluster says something that a cluster cannot do",
		Text: "A copy may run on any host of it: what belongs to one machine has no place there, and an account by its name may have " +
			"another id on each. On a single host all of this works.",
		Mistake: `network = "host"    # the stack has host = "island", which is a cluster`,
		Mended:  `ports = ["8710 -> 80"]`,
		Find:    clusterSetting,
	}, {
		Name: "cluster-store", Severity: Warning, Needs: Files,
		Title: "a service of a cluster keeps data in a volume, and may run on several hosts",
		Text: "Each host has a volume of its own under that name. When the service moves, its data stays behind, and it begins anew. " +
			"on = [\"HOST\"] holds it where its data is.",
		Mistake: `mounts = ["volume readings -> /readings"]    # on the cluster island, without on`,
		Mended:  "mounts = [\"volume readings -> /readings\"]\non = [\"lamp-room\"]",
		Find: func(in *Input) {
			eachOnCluster(in, func(s *lab.Service) {
				if len(s.RunsOn()) < 2 || s.Each {
					return
				}
				for _, m := range s.Mounts {
					if m.Kind == declare.MountVolume && !m.ReadOnly {
						in.report(s, source.Problem{
							At:      m.SourceAt,
							Message: fmt.Sprintf("%s may run on %s, and each of them has a volume %s of its own", s.FullName(), hostsOf(s), m.Volume.Name),
							Mend:    &source.Mend{Text: `on = ["` + s.RunsOn()[0].Name + `"], or another host that its data is on`},
						})
					}
				}
			})
		},
	}, {
		Name: "cluster-mount", Severity: Error, Needs: Host,
		Title:   "a folder that a service of a cluster mounts is not on every host that it may run on",
		Text:    "A copy does not start where the folder is missing. Make it there, or say with on where the service may run.",
		Mistake: `mounts = ["/srv/skerry/mast -> /data"]    # boathouse has no such folder`,
		Mended:  "mounts = [\"/srv/skerry/mast -> /data\"]\non = [\"lamp-room\"]",
		Find: func(in *Input) {
			eachOnCluster(in, func(s *lab.Service) {
				for _, m := range s.Mounts {
					if m.Kind != declare.MountPath {
						continue
					}
					var without []string
					for _, h := range s.RunsOn() {
						if h.Survey == nil {
							in.skip("host "+h.Name, "host not surveyed")
						} else if p, ok := h.Survey.Path(m.Source); ok && p.Kind == survey.Missing {
							without = append(without, h.Name)
						}
					}
					if without != nil {
						in.report(s, source.Problem{
							At:      m.SourceAt,
							Message: fmt.Sprintf("%s is not on %s, where %s may run", m.Source, listed(without), s.FullName()),
							Mend:    &source.Mend{Text: "make it there, or leave the host out of on"},
						})
					}
				}
			})
		},
	}, {
		Name: "cluster-image", Severity: Error, Needs: Image,
		Title:   "an image is not made for the processor of every host that a service of a cluster may run on",
		Text:    "A copy on such a host ends at once with a format error. Another tag may be made for both, or on says where it runs.",
		Mistake: `image = "registry.skerry.example/sensor:1.4"    # made for linux/amd64, and boathouse is linux/arm64`,
		Mended:  "image = \"registry.skerry.example/sensor:1.4\"\non = [\"lamp-room\"]",
		Find: func(in *Input) {
			eachOnCluster(in, func(s *lab.Service) {
				var wrong []string
				made := ""
				for _, h := range s.RunsOn() {
					if h.Survey == nil || s.Image.Unknown {
						in.skip("host "+h.Name, "host not surveyed")
						continue
					}
					image, ok := h.Survey.Image(s.Image.Text)
					if !ok || h.Survey.Platform == "" || len(image.Platforms) == 0 ||
						slices.ContainsFunc(image.Platforms, func(p string) bool { return samePlatform(p, h.Survey.Platform) }) {
						continue
					}
					wrong, made = append(wrong, h.Name+" ("+h.Survey.Platform+")"), strings.Join(image.Platforms, " and ")
				}
				if wrong != nil {
					in.report(s, source.Problem{
						At:      s.Image.Part(0, len(s.Image.Text)),
						Message: fmt.Sprintf("%s is made for %s, and %s may run on %s", s.Image.Text, made, s.FullName(), listed(wrong)),
						Mend:    &source.Mend{Text: "an image for both, or on without these hosts"},
					})
				}
			})
		},
	}, {
		Name: "cluster-port", Severity: Error, Needs: Files,
		Title: "a host port of a service on a cluster is taken on a host that it may run on",
		Text: "Published ports are those of the hosts where copies run. A host where the port is taken gets no copy, or, for a process " +
			"that is no container, a copy that fails.",
		Mistake: `ports = ["8712 -> 8080"]    # lampd listens on 8712 on lamp-room`,
		Mended:  `ports = ["8710 -> 8080"]`,
		Find:    clusterPort,
	}, {
		Name: "cluster-quorum", Severity: Note, Needs: Files,
		Title: "a cluster with one manager",
		Text: "With fewer than three hosts the first one alone manages: two managers would be worse than one, as both are needed to decide " +
			"anything. When it is lost, what runs goes on, and nothing can be changed until it is back.",
		Mistake: "[cluster.island]\nhosts = [\"lamp-room\", \"boathouse\"]",
		Mended:  "[cluster.island]\nhosts = [\"lamp-room\", \"boathouse\", \"slipway\"]",
		Find: func(in *Input) {
			for _, c := range in.Lab.Clusters {
				if len(c.Members) == 1 || len(c.Members) == 2 {
					in.add(source.Problem{
						At: c.At, Message: fmt.Sprintf("%s alone manages the cluster %s: when it is lost, nothing can be changed", c.Members[0].Name, c.Name),
						Mend: &source.Mend{Text: "three hosts or more: one of three may be lost"},
					})
				}
			}
		},
	},
}

// eachOnCluster calls f for each service of a stack on a cluster.
func eachOnCluster(in *Input, f func(s *lab.Service)) {
	for _, s := range in.services() {
		if s.Stack.Host.Cluster != nil {
			f(s)
		}
	}
}

// hostsOf names the hosts that a service may run on.
func hostsOf(s *lab.Service) string {
	var names []string
	for _, h := range s.RunsOn() {
		names = append(names, h.Name)
	}
	return listed(names)
}

// listed writes names as people do, and not more of them than they read.
func listed(names []string) string {
	const most = 5
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

func clusterSetting(in *Input) {
	eachOnCluster(in, func(s *lab.Service) {
		d := s.Declared()
		refuse := func(at source.Span, why string) {
			in.report(s, source.Problem{At: at, Message: fmt.Sprintf("%s runs on the cluster %s: %s", s.FullName(), s.Stack.Host.Name, why)})
		}
		texts := func(list []declare.Text, why string) {
			for _, t := range list {
				refuse(t.Part(0, len(t.Value)), why)
			}
		}
		if s.Build != nil {
			refuse(s.Build.At, "the image has to be in a registry that all of its hosts reach; build it elsewhere and push it there")
		}
		if s.RunAs != nil && !s.RunAs.Known {
			refuse(s.RunAs.At, "an account by its name may have another id on each host; write UID:GID")
		}
		for _, p := range s.Ports {
			if len(p.Addresses) > 0 {
				refuse(p.HostAt, "a port is published on all addresses of the hosts where copies run")
			}
		}
		for _, m := range s.Mounts {
			if m.Kind == declare.MountEngine {
				refuse(m.SourceAt, "the engine's socket belongs to one machine")
			}
			if m.Volume != nil && (m.Volume.Driver != "" || len(m.Volume.Options) > 0) {
				refuse(m.SourceAt, "its volumes are those of the engine's own driver, without options")
			}
		}
		for _, v := range s.Env {
			if slices.ContainsFunc(v.Later, func(l *lab.Later) bool { return l.From != nil }) {
				refuse(v.At, "a value that another service makes cannot be read there")
			}
		}
		r := d.Settings
		if r == nil {
			return
		}
		texts(r.Devices, "devices belong to one machine")
		texts(r.Sites, "a gate leads to services on hosts of its own")
		texts(r.Listens, "ports that it opens itself belong to one machine")
		for key, t := range map[string]declare.Text{
			"network": r.Network, "shares-network-with": r.SharesNetworkWith, "pid": r.PID, "ipc": r.IPC, "cgroup": r.Cgroup, "takes-over": r.TakesOver,
			"shared-memory": r.SharedMemory, "platform": r.Platform, "reload": r.Reload,
		} {
			if t.IsSet() {
				refuse(t.Part(0, len(t.Value)), key+" has no counterpart there")
			}
		}
		texts(r.ReloadCommand[:min(1, len(r.ReloadCommand))], "reload has no counterpart there")
		if declare.IsTrue(r.Privileged) {
			refuse(settingAt(s, "privileged"), "privileged has no counterpart there")
		}
	})
}

// clusterPort looks for who else has the host ports of services on a cluster.
func clusterPort(in *Input) {
	type claim struct {
		owner string
		at    source.Span
	}
	taken := map[*lab.Host]map[string]claim{}
	key := func(protocol string, n int) string { return fmt.Sprint(n, "/", protocol) }
	claimed := func(h *lab.Host) map[string]claim {
		if taken[h] == nil {
			taken[h] = map[string]claim{}
		}
		return taken[h]
	}
	each := func(s *lab.Service, f func(p lab.Port, k string)) {
		for _, p := range slices.Concat(s.Ports, s.Listens) {
			for _, proto := range p.Protocols {
				for n := p.Host.First; n > 0 && n <= p.Host.Last; n++ {
					f(p, key(proto, n))
				}
			}
		}
	}
	members := map[*lab.Host]bool{}
	for _, c := range in.Lab.Clusters {
		for _, h := range c.Members {
			members[h] = true
		}
	}
	for _, s := range in.services() {
		if members[s.Stack.Host] {
			each(s, func(p lab.Port, k string) { claimed(s.Stack.Host)[k] = claim{s.FullName(), p.HostAt} })
		}
	}
	eachOnCluster(in, func(s *lab.Service) {
		said := map[source.Span]bool{}
		each(s, func(p lab.Port, k string) {
			for _, h := range s.RunsOn() {
				if c, ok := claimed(h)[k]; ok && c.owner != s.FullName() && !said[p.HostAt] {
					said[p.HostAt] = true
					in.report(s, source.Problem{
						At: p.HostAt, Message: fmt.Sprintf("%s on %s is that of %s already", k, h.Name, c.owner), Because: []source.Because{{Text: c.owner, At: c.at}},
					})
				}
				if held := heldOn(h, s, k); held != "" && !said[p.HostAt] {
					said[p.HostAt] = true
					in.report(s, source.Problem{At: p.HostAt, Message: fmt.Sprintf("%s on %s is held by %s", k, h.Name, held)})
				}
			}
		})
		each(s, func(p lab.Port, k string) {
			for _, h := range s.RunsOn() {
				claimed(h)[k] = claim{s.FullName(), p.HostAt}
			}
		})
	})
}

// heldOn says who listens on a port of a host, beside copies of the service itself; "" for nobody.
func heldOn(h *lab.Host, s *lab.Service, key string) string {
	if h.Survey == nil {
		return ""
	}
	own := plan.ClusterName(s.Stack.Name, s.Name) + "."
	for _, c := range h.Survey.Containers {
		for _, p := range c.Ports {
			left, right, _ := strings.Cut(p, " -> ")
			_, proto, _ := strings.Cut(right, "/")
			if left[strings.LastIndexByte(left, ':')+1:]+"/"+proto != key || c.State != "running" {
				continue
			}
			if strings.HasPrefix(c.Name, own) {
				return ""
			}
			return "the container " + c.Name
		}
	}
	for _, l := range h.Survey.Listeners {
		if fmt.Sprint(l.Port, "/", l.Protocol) == key && l.Container == "" {
			return cmp.Or(l.Process, "a process")
		}
	}
	return ""
}
