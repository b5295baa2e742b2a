package app

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
)

// Missing is a host that could not be reached while others were: what is on it was left out.
type Missing struct {
	Host   string
	Stacks []string
	Err    *Error
}

// MissingError words the hosts that could not be reached as one error; nil for none.
func MissingError(all []Missing) error {
	switch len(all) {
	case 0:
		return nil
	case 1:
		return all[0].Err
	}
	var names, because []string
	var errs []error
	for _, m := range all {
		names = append(names, m.Host)
		because = append(because, m.Err.Error())
		errs = append(errs, m.Err)
	}
	return &Error{
		Kind: Unreachable, Message: fmt.Sprintf("%d hosts cannot be reached: %s", len(all), strings.Join(names, ", ")),
		Because: strings.Join(because, "; "), Err: errors.Join(errs...),
	}
}

// missing returns an error as one of a host.
func missing(host string, stacks []string, err error) Missing {
	var known *Error
	if !errors.As(err, &known) {
		known = &Error{Kind: Unreachable, Message: "the engine of " + host, Because: err.Error(), Err: err}
	}
	return Missing{Host: host, Stacks: stacks, Err: known}
}

// withoutMissing leaves out the stacks on hosts that were not reached, and what was found about those hosts. Where no
// stack remains, or none was left out, it changes nothing.
func (w *Workspace) withoutMissing(stacks []*lab.Stack, found []check.Finding) ([]*lab.Stack, []check.Finding, []Missing) {
	var reached []*lab.Stack
	var all []Missing
	for _, st := range stacks {
		if st.Host == nil || w.Unreached[st.Host.Name] == nil {
			reached = append(reached, st)
			continue
		}
		i := slices.IndexFunc(all, func(m Missing) bool { return m.Host == st.Host.Name })
		if i < 0 {
			i = len(all)
			all = append(all, missing(st.Host.Name, nil, unreachable(st.Host.Name, w.Unreached[st.Host.Name])))
		}
		all[i].Stacks = append(all[i].Stacks, st.Name)
	}
	if len(reached) == 0 {
		return stacks, found, nil
	}
	found = slices.DeleteFunc(slices.Clone(found), func(f check.Finding) bool {
		return slices.ContainsFunc(all, func(m Missing) bool {
			return f.Host == m.Host || slices.Contains(m.Stacks, f.Stack)
		})
	})
	return reached, found, all
}
