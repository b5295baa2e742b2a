package check

import (
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

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
				if h.Survey != nil && h.Survey.Unknown["host"] != "" {
					in.reportHost(h, source.Problem{
						At:      h.At,
						Message: h.Name + " cannot be reached: " + h.Survey.Unknown["host"],
					})
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
				if strings.HasPrefix(h.Survey.Unknown["engine"], "there is no socket") {
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
				if !s.Settings.Init {
					continue
				}
				if s.Stack.Host.Survey == nil || s.Stack.Host.Survey.Engine == nil {
					in.skip("host "+s.Stack.Host.Name, "engine not surveyed")
					continue
				}
				e := s.Stack.Host.Survey.Engine
				if !slices.Contains(e.Lacks, "init") {
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
	},
}
