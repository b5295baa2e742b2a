package app

import (
	"context"
	"slices"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
)

// Check runs all rules. Named stacks or services, or a host, narrow the result to what touches them.
func (w *Workspace) Check(named Targets, host string) check.Result {
	result := check.Run(w.Lab, check.All())
	if len(named) > 0 {
		result = result.About(named.stacks()...)
		result.Findings = slices.DeleteFunc(result.Findings, func(f check.Finding) bool {
			return f.Service != "" && named.HasStack(f.Stack) && !named.Has(f.Stack, f.Service)
		})
	}
	if host != "" {
		result.Findings = slices.DeleteFunc(result.Findings, func(f check.Finding) bool {
			return f.Host != "" && f.Host != host
		})
	}
	return result
}

// Refusal is the error of a deploy that findings keep from beginning.
type Refusal struct {
	Why    *Error
	Result check.Result
}

func (r *Refusal) Error() string { return r.Why.Error() }

func (r *Refusal) Unwrap() error { return r.Why }

// Despite returns which findings are looked past: errors of the named rules, but not what keeps the files
// from being understood.
func Despite(rules []string) (func(check.Finding) bool, error) {
	for _, name := range rules {
		var names []string
		for _, r := range check.All() {
			names = append(names, r.Name)
		}
		if !slices.Contains(names, name) {
			return nil, usage("%s", declare.Unknown("there is no rule "+name, name, names,
				" (lantern about --all rules lists them)"))
		}
	}
	return func(f check.Finding) bool { return !f.Firm() && slices.Contains(rules, f.Rule) }, nil
}

// NotFirm looks past all findings but those that keep the files from being understood.
func NotFirm(f check.Finding) bool { return !f.Firm() }

// NoneOf looks past no finding.
func NoneOf(check.Finding) bool { return false }

// Admit looks at the hosts, and lets a command go on with stacks that are declared without an error, or with
// errors that are looked past. It returns the surveyed lab and its stacks in the order in which they are
// deployed. The error may be a *[Refusal].
func (w *Workspace) Admit(ctx context.Context, named Targets, host string,
	lookPast func(check.Finding) bool) (*Workspace, []*lab.Stack, error) {
	if _, err := w.StacksOf(named, host); err != nil {
		return w, nil, err
	}
	w = w.SurveyClosely(ctx, host)
	stacks, _ := w.StacksOf(named, host)
	var names []string
	for _, st := range w.withGates(stacks, host) {
		names = append(names, st.Name)
	}
	result := check.Run(w.Lab, check.All()).About(names...)
	stacks, result.Findings, w.Missing = w.withoutMissing(stacks, result.Findings)
	// What is wrong in the files may be why a host is not reached.
	if !slices.ContainsFunc(result.Findings, func(f check.Finding) bool {
		return f.Severity == check.Error && f.Firm()
	}) {
		for _, st := range stacks {
			if st.Host != nil && w.Unreached[st.Host.Name] != nil {
				return w, nil, unreachable(st.Host.Name, w.Unreached[st.Host.Name])
			}
		}
	}
	result.Findings = slices.DeleteFunc(result.Findings, func(f check.Finding) bool {
		return f.Severity == check.Error && lookPast(f)
	})
	if n := result.Count(check.Error); n > 0 {
		result.Skipped = nil
		return w, stacks,
			&Refusal{&Error{
				Kind:    Stopped,
				Message: "nothing was changed: the check found " + declare.Counted(n, "error"),
			}, result}
	}
	return w, plan.Order(stacks), nil
}

// Broken returns what keeps the files from being understood: what they declare cannot be compared then.
func (w *Workspace) Broken() []check.Finding {
	return slices.DeleteFunc(check.Run(w.Lab, check.All()).Findings, func(f check.Finding) bool {
		return !f.Firm() || f.Severity != check.Error
	})
}
