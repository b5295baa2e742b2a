package app

import "proudlantern.example/lantern/core/chart"

// Map is a lab as a picture shows it.
type Map = chart.Map

// Map returns the lab as a picture shows it: the named stacks, or those of a host, or all, with what the check finds.
func (w *Workspace) Map(named Targets, onHost string) (Map, error) {
	if _, err := w.StacksOf(named, onHost); err != nil {
		return Map{}, err
	}
	hosts := map[string]bool{}
	for _, st := range w.Stacks {
		if st.Host != nil && named.HasStack(st.Name) {
			hosts[st.Host.Name] = true
		}
	}
	return chart.Of(w.Lab, w.Check(named, onHost), func(host string) bool {
		return (onHost == "" || host == onHost) && (len(named) == 0 || hosts[host])
	}, named.HasStack), nil
}
