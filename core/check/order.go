package check

import (
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

var orderRules = []Rule{
	{
		Name: "order-circular", Severity: Error, Needs: Files,
		Title:   "services that wait for each other",
		Text:    "None of them could ever start. The circle is named in full.",
		Mistake: "service.desk.after = [\"store\"]\nservice.store.after = [\"desk\"]",
		Mended:  `service.desk.after = ["store"]`,
		Find:    orderCircular,
	}, {
		Name: "order-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "after names a service that the stack does not have",
		Text:    "The nearest name is offered.",
		Mistake: `after = ["stor"]`,
		Mended:  `after = ["store"]`,
		Find:    resolverFinds,
	},
}

func orderCircular(in *Input) {
	for _, st := range in.Lab.Stacks {
		done := map[*lab.Service]bool{}
		for _, s := range st.Services {
			follow(in, s, nil, done)
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
			names = append(names, w.Service.Name)
			if start+i < len(way)-1 {
				because = append(because, source.Because{Text: w.Service.Name + " waits for " + way[start+i+1].Service.Name, At: w.At})
			}
		}
		names = append(names, a.Service.Name)
		message := "a circle: " + strings.Join(names, " waits for ")
		if len(names) == 2 {
			message = s.Name + " waits for itself"
		}
		in.report(s, source.Problem{At: a.At, Message: message, Because: because})
	}
	done[s] = true
}
