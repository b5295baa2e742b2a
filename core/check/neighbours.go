package check

import (
	"cmp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/lab"
)

// Wire is a variable of a service that says where it reaches another service of the lab.
type Wire struct {
	From, To *lab.Service
	Variable string
	Port     int // inside To
}

// Wires returns the wires between the services of a lab whose port is known, each once, in the order of the lab.
func Wires(l *lab.Lab) []Wire {
	var all []Wire
	in := &Input{Lab: l, shared: share(l)}
	eachWire(in, func(w wire, names map[string]*lab.Service) {
		to := names[strings.ToLower(w.host)]
		found := Wire{w.from, to, w.variable.Name, w.port}
		if to != nil && to != w.from && w.port > 0 && !slices.Contains(all, found) {
			all = append(all, found)
		}
	})
	slices.SortStableFunc(all, func(a, b Wire) int { return cmp.Compare(a.From.FullName(), b.From.FullName()) })
	return all
}
