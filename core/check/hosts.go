package check

import "proudlantern.example/lantern/core/source"

var hostRules = []Rule{
	{
		Name: "host-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "a stack for a host that lab.toml does not have",
		Text:    "With several hosts, each stack says which one it is for.",
		Mistake: `host = "lamproom"`,
		Mended:  `host = "lamp-room"`,
		Find:    resolverFinds,
	}, {
		Name: "engine-unreachable", Severity: Error, Needs: Host,
		Title:   "the engine of a host does not answer",
		Text:    "Without its engine nothing can be deployed to a host, and the rules that need it are skipped.",
		Mistake: `engine = "unix:///var/run/engin.sock"`,
		Mended:  `engine = "unix:///var/run/engine.sock"`,
		Find: func(in *Input) {
			for _, h := range in.Lab.Hosts {
				if h.Survey == nil || h.Survey.Unknown["engine"] == "" {
					continue
				}
				in.report(nil, source.Problem{At: h.At, Message: "the engine of " + h.Name + " does not answer: " + h.Survey.Unknown["engine"]})
				in.result.Findings[len(in.result.Findings)-1].Host = h.Name
			}
		},
	},
}
