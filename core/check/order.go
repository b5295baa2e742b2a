package check

import (
	"maps"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

var orderRules = []Rule{
	{
		Name: "order-circular", Severity: Error, Needs: Files,
		Title: "services that wait for each other",
		Text:  "None of them could ever start. The circle is named in full.",
		Mistake: "after = [\"store done\"]    # desk of tide-log\n" +
			"after = [\"mast/sensor\"]    # its store\nafter = [\"tide-log/desk\"]    # and sensor of mast",
		Mended: `# store without after`,
		Find:   orderCircular,
	}, {
		Name: "order-unknown", Severity: Error, Needs: Files, Mends: true, Rests: Names,
		Title:   "after, or shares-network-with, names a service or a stack that does not exist",
		Text:    "The nearest name is offered.",
		Mistake: `after = ["gauges"]`,
		Mended:  `after = ["gauge"]`,
		Find:    resolverFinds,
	},
}

func orderCircular(in *Input) {
	done := map[*lab.Service]bool{}
	for _, st := range in.Lab.Stacks {
		for _, s := range st.Services {
			follow(in, s, nil, done)
		}
	}
	stacksInCircles(in)
}

// stacksInCircles reports stacks that wait for each other though none of their services does: a stack is
// deployed as a whole.
func stacksInCircles(in *Input) {
	waits := map[*lab.Stack]map[*lab.Stack]lab.After{}
	for _, s := range in.services() {
		for _, a := range s.After {
			if other := a.Service.Stack; other != s.Stack {
				if waits[s.Stack] == nil {
					waits[s.Stack] = map[*lab.Stack]lab.After{}
				}
				waits[s.Stack][other] = a
			}
		}
	}
	place := map[*lab.Stack]int{}
	for i, st := range in.Lab.Stacks {
		place[st] = i
	}
	for _, st := range in.Lab.Stacks {
		for _, other := range slices.SortedFunc(maps.Keys(waits[st]), func(a, b *lab.Stack) int {
			return place[a] - place[b]
		}) {
			there, back := waits[st][other], waits[other][st]
			if back.Service == nil || place[other] < place[st] {
				continue
			}
			reported := slices.ContainsFunc(in.result.Findings, func(f Finding) bool {
				return f.At == there.At || f.At == back.At
			})
			if !reported {
				in.report(there.Service.Stack.Services[0], source.Problem{
					At: back.At,
					Message: "the stacks " + st.Name + " and " + other.Name +
						" wait for each other, and each is deployed as a whole",
					Because: []source.Because{{Text: st.Name + " waits for " + other.Name + " here", At: there.At}},
				})
			}
		}
	}
}

// follow walks along after and reports each circle once, at the entry that closes it.
func follow(in *Input, s *lab.Service, way []lab.After, done map[*lab.Service]bool) {
	if done[s] {
		return
	}
	for _, a := range s.After {
		way := append(way[:len(way):len(way)], lab.After{Service: s, At: a.At})
		start := -1
		for i, w := range way {
			if w.Service == a.Service {
				start = i
			}
		}
		if start < 0 {
			follow(in, a.Service, way, done)
			continue
		}
		names := make([]string, 0, len(way)-start+1)
		var because []source.Because
		for i, w := range way[start:] {
			names = append(names, nameIn(s.Stack, w.Service))
			if start+i < len(way)-1 {
				because = append(because, source.Because{
					Text: nameIn(s.Stack, w.Service) + " waits for " + nameIn(s.Stack, way[start+i+1].Service),
					At:   w.At,
				})
			}
		}
		names = append(names, nameIn(s.Stack, a.Service))
		message := "a circle: " + strings.Join(names, " waits for ")
		if len(names) == 2 {
			message = s.Name + " waits for itself"
		}
		in.report(s, source.Problem{At: a.At, Message: message, Because: because})
	}
	done[s] = true
}

// nameIn names a service for somebody who reads the files of a stack.
func nameIn(st *lab.Stack, s *lab.Service) string {
	if s.Stack == st {
		return s.Name
	}
	return s.FullName()
}
