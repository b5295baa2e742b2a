package check

import (
	"fmt"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// helps is what makes a host, or its engine, answer; nil where that is not known.
func helps(h *lab.Host) *source.Mend {
	if h.Survey.Do == "" {
		return nil
	}
	return &source.Mend{Text: h.Survey.Do}
}

var hostRules = []Rule{
	{
		Name: "host-unknown", Severity: Error, Needs: Files, Mends: true, Rests: Names,
		Title:   "a stack for a host that lab.toml does not have",
		Text:    "With several hosts, each stack says which one it is for.",
		Mistake: `host = "lamproom"`,
		Mended:  `host = "lamp-room"`,
		Find:    resolverFinds,
	}, {
		Name: "host-unreachable", Severity: Error, Needs: Host,
		Title:   "a host that cannot be reached, or that refuses the connection",
		Text:    "Nothing can be deployed to it, and nothing is known of it: the rules that need it are skipped.",
		Mistake: `engine = "tcp://boathose.example:2376"`,
		Mended:  `engine = "tcp://boathouse.example:2376"`,
		Find: func(in *Input) {
			for _, h := range in.Lab.Hosts {
				if h.Survey != nil && h.Survey.Unknown["host"] != "" && h.Survey.Unknown["host-key"] == "" {
					in.reportHost(h, source.Problem{
						At:      h.At,
						Message: h.Name + " cannot be reached: " + h.Survey.Unknown["host"],
						Mend:    helps(h),
					})
				}
			}
		},
	}, {
		Name: "host-key-changed", Severity: Error, Needs: Host,
		Title: "a host shows another key over SSH than it did",
		Text: "Either the machine was set up anew, or somebody else answers in its place, and would see all that is sent. " +
			"Nothing is sent, whoever is asked.",
		Mistake: `engine = "ssh://keeper@tower.example"    # its key is another one than in known_hosts`,
		Mended:  `engine = "ssh://keeper@tower.example"    # and known_hosts has its new key`,
		Find: func(in *Input) {
			for _, h := range in.Lab.Hosts {
				if h.Survey != nil && h.Survey.Unknown["host-key"] != "" {
					in.reportHost(h, source.Problem{At: h.At, Message: h.Survey.Unknown["host-key"], Mend: helps(h)})
				}
			}
		},
	}, {
		Name: "engine-unreachable", Severity: Error, Needs: Host,
		Title:   "the engine of a host does not answer",
		Text:    "Without its engine nothing can be deployed to a host, and the rules that need it are skipped.",
		Mistake: `engine = "unix:///run/engine.sock"    # and nothing listens there`,
		Mended:  `engine = "unix:///var/run/docker.sock"`,
		Find: func(in *Input) {
			for _, h := range in.Lab.Hosts {
				if h.Survey == nil || h.Survey.Unknown["engine"] == "" || h.Survey.Unknown["host"] != "" {
					continue
				}
				p := source.Problem{
					At:      h.At,
					Message: "the engine of " + h.Name + " does not answer: " + h.Survey.Unknown["engine"],
				}
				if p.Mend = helps(h); p.Mend == nil && strings.HasPrefix(h.Survey.Unknown["engine"], "there is no socket") {
					p.Mend = &source.Mend{Text: declare.EngineLines(h.Name, h.Survey.Sockets)}
				}
				in.reportHost(h, p)
			}
		},
	}, {
		Name: "engine-lacks", Severity: Warning, Needs: Host,
		Title:   "a key that the engine of the host does not support",
		Text:    "What is asked for is left out on that host; everything else of the service is as declared.",
		Mistake: `init = true    # on an engine without a first process of its own`,
		Mended:  `# init left out, or the engine's package for it installed`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				limited := map[string]bool{"memory": s.Settings.Memory > 0, "cpus": s.Settings.CPUs > 0, "ulimits": len(s.Settings.Ulimits) > 0}
				hosts := slices.DeleteFunc(slices.Clone(s.Settings.Capabilities), func(c string) bool { return !slices.Contains(onlyHosts, c) })
				if !s.Settings.Init && !limited["memory"] && !limited["cpus"] && !limited["ulimits"] && len(hosts) == 0 {
					continue
				}
				if s.Stack.Host.Survey == nil || s.Stack.Host.Survey.Engine == nil {
					in.skip("host "+s.Stack.Host.Name, "engine not surveyed")
					continue
				}
				e := s.Stack.Host.Survey.Engine
				for _, key := range []string{"memory", "cpus", "ulimits"} {
					mend := "let the user have that control group (cgroups of version 2, delegated by systemd), or take " + key + " out"
					if key == "ulimits" {
						mend = "take it out: processes there have the limits of the engine's own user"
					}
					if limited[key] && slices.Contains(e.Lacks, key) {
						in.report(s, source.Problem{
							At: settingAt(s, key),
							Message: fmt.Sprintf("%s is declared, and the engine of %s (%s) cannot set it without root: it is left out",
								key, s.Stack.Host.Name, e.Name),
							Mend: &source.Mend{Text: mend},
						})
					}
				}
				if e.Rootless && len(hosts) > 0 {
					in.report(s, source.Problem{
						At: s.ItemAt("capabilities", hosts[0]),
						Message: fmt.Sprintf("%s is of the host itself, and the engine of %s runs without root: nothing inside has it there",
							strings.Join(hosts, ", "), s.Stack.Host.Name),
						Mend: &source.Mend{Text: "an engine with root, or take it out"},
					})
				}
				if !s.Settings.Init || !slices.Contains(e.Lacks, "init") {
					continue
				}
				in.report(s, source.Problem{
					At: settingAt(s, "init"),
					Message: "init is declared, and the engine of " + s.Stack.Host.Name + " (" + e.Name +
						") has no such process: it is left out",
					Mend: &source.Mend{
						Text: "install the engine's helper for it on the host (Debian's package " +
							"catatonit), or take init out",
					},
				})
			}
		},
	}, {
		Name: "linger-off", Severity: Warning, Needs: Host,
		Title: "containers of an engine without root end when its user logs out",
		Text: "Without a root of its own the engine belongs to a login of its user. When the last one ends, systemd ends all that " +
			"it started, unless the user may linger.",
		Mistake: `engine = "unix:///run/user/1311/podman/podman.sock"    # and loginctl says Linger=no`,
		Mended:  `engine = "unix:///run/user/1311/podman/podman.sock"    # after: loginctl enable-linger keeper`,
		Find: func(in *Input) {
			for _, h := range in.Lab.Hosts {
				if h.Survey == nil || h.Survey.Engine == nil || h.Survey.Engine.Linger == nil || *h.Survey.Engine.Linger {
					continue
				}
				used := slices.ContainsFunc(in.services(), func(s *lab.Service) bool { return s.Stack.Host == h })
				if !used {
					continue
				}
				in.reportHost(h, source.Problem{
					At: h.At,
					Message: fmt.Sprintf("the engine of %s runs as %s, who may not linger: its containers end when %s logs out",
						h.Name, h.Survey.Engine.User, h.Survey.Engine.User),
					Mend: &source.Mend{Text: "loginctl enable-linger " + h.Survey.Engine.User},
				})
			}
		},
	},
}

// onlyHosts are capabilities that the kernel asks for on the host itself: in the user namespace of an engine without root
// nobody has them (user_namespaces(7)).
var onlyHosts = []string{"MKNOD", "SYS_MODULE", "SYS_TIME"}
