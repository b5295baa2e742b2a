package check

import (
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var networkRules = []Rule{
	{
		Name: "network-unknown", Severity: Error, Needs: Files, Mends: true, Rests: Names,
		Title: "a network that lab.toml does not declare",
		Text: "Networks that stacks share are declared in lab.toml, so that all mean the same one. The " +
			"nearest name is offered.",
		Mistake: `networks = ["causway"]`,
		Mended:  `networks = ["causeway"]`,
		Find:    resolverFinds,
	}, {
		Name: "network-missing", Severity: Error, Needs: Host, Mends: true, Rests: Names,
		Title: "a network that somebody else makes (existing) and that the host does not have",
		Text: "What is existing is never made by lantern. Make it on the host, correct " +
			"engine-name, or take existing out.",
		Mistake: "[network.causeway]\nexisting = true    # it does not exist",
		Mended:  "[network.causeway]\nexisting = true\nengine-name = \"old-causeway\"",
		Find:    networkMissing,
	}, {
		Name: "volume-unknown", Severity: Error, Needs: Files, Mends: true, Rests: Names,
		Title: "a volume that the stack does not declare, or one that somebody else makes (existing) and " +
			"that the host does not have",
		Text: "Volumes are declared in [volume.NAME] of the stack, so that a misspelt one does not " +
			"become a new, empty one.",
		Mistake: `mounts = ["volume reading -> /data", "volume readings -> /more", "volume old -> /old"]    # [volume.readings]`,
		Mended:  `mounts = ["volume readings -> /data"]`,
		Find: func(in *Input) {
			resolverFinds(in)
			volumeMissing(in)
		},
	},
}

func networkMissing(in *Input) {
	told := map[*lab.Network]bool{}
	for _, s := range in.services() {
		h := s.Stack.Host
		for _, n := range s.Networks {
			if n.Existing && (h.Survey == nil || h.Survey.Networks == nil) {
				in.skip("host "+h.Name, "networks not surveyed")
				continue
			}
			if !n.Existing || told[n] ||
				slices.ContainsFunc(h.Survey.Networks, func(o survey.Network) bool {
					return o.Name == n.EngineName
				}) {
				continue
			}
			told[n] = true
			in.report(s, source.Problem{
				At:      nameAt(n.EngineNameAt, n.At),
				Message: h.Name + " has no network " + n.EngineName + ", and somebody else makes it (existing)",
				Mend: respellEngineName(n.EngineNameAt, n.EngineName, h.Survey.Networks,
					func(o survey.Network) string { return o.Name }),
			})
		}
	}
}

func volumeMissing(in *Input) {
	for _, st := range in.Lab.Stacks {
		if st.Host == nil || st.Host.Survey == nil || st.Host.Survey.Volumes == nil {
			continue
		}
		for _, v := range st.Volumes {
			if !v.Existing ||
				slices.ContainsFunc(st.Host.Survey.Volumes, func(o survey.Volume) bool {
					return o.Name == v.EngineName
				}) {
				continue
			}
			in.reportStack(st, source.Problem{
				At: nameAt(v.EngineNameAt, v.At),
				Message: st.Host.Name + " has no volume " + v.EngineName +
					", and somebody else makes it (existing)",
				Mend: respellEngineName(v.EngineNameAt, v.EngineName, st.Host.Survey.Volumes,
					func(o survey.Volume) string { return o.Name }),
			})
		}
	}
}

// nameAt returns where the name on the engine stands: engine-name, else that of the table.
func nameAt(engineName, table source.Span) source.Span {
	if engineName.IsZero() {
		return table
	}
	return engineName
}

// respellEngineName offers the one name of the host that is near to one that it does not have.
func respellEngineName[T any](at source.Span, wrong string, on []T, name func(T) string) *source.Mend {
	for _, o := range on {
		if right := name(o); strings.EqualFold(right, wrong) || declare.OneLetterAway(right, wrong) {
			if at.IsZero() {
				return &source.Mend{Text: "engine-name = \"" + right + "\" names one that exists"}
			}
			if !strings.EqualFold(right, wrong) {
				return &source.Mend{Text: "change to " + right} // whose it is, only a person knows
			}
			return respellAt(at, wrong, right, "change to "+right)
		}
	}
	return nil
}
