package check

import (
	"slices"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// Basis says what has to be known for the edits of a rule to be right. Where that is not known, a finding has no edits: check --fix may only do what is certain.
type Basis int

const (
	// Place is what stands at the place itself, beside what the program knows.
	Place Basis = iota
	// Names are all names that could be meant: the files of the stack, and lab.toml, have no mistake in their keys and names.
	Names
	// Uses is all that uses a thing: there is no mistake in lab.toml and in the stack, and no file that cannot be read.
	Uses
	// Holders is also what else claims or holds it: there is no mistake in any file, and the host's engine and its sockets were seen.
	Holders
)

// mistakes are the findings without whose mending nobody knows what is declared.
type mistakes struct {
	unread bool                      // a file that cannot be read
	all    bool                      // any at all
	of     map[string]map[Basis]bool // by stack ("": lab.toml), what their own mends rest on
}

func (r *Result) mistakes(l *lab.Lab, rules []Rule) mistakes {
	m := mistakes{unread: l.Broken, of: map[string]map[Basis]bool{}}
	for _, st := range l.Stacks {
		m.unread = m.unread || st.Broken
	}
	basis := map[string]Basis{}
	for _, rule := range rules {
		basis[rule.Name] = rule.Rests
	}
	for _, f := range r.Findings {
		if f.firm {
			if m.of[f.Stack] == nil {
				m.of[f.Stack] = map[Basis]bool{}
			}
			m.of[f.Stack][basis[f.Rule]], m.all = true, true
		}
	}
	return m
}

// mistaken tells whether the files of a stack, or lab.toml, have a mistake that keeps them from being understood: what is missing there says nothing.
func (in *Input) mistaken(stack string) bool {
	return in.Lab.Broken || slices.ContainsFunc(in.Lab.Problems, func(p source.Problem) bool {
		return (p.Stack == stack || p.Stack == "") && slices.ContainsFunc(in.all, func(r Rule) bool { return r.Name == p.Rule && r.Severity == Error })
	})
}

// certain takes the edits out of mends that rest on something which is not known, and those that change nothing.
func (r *Result) certain(l *lab.Lab, rules []Rule) {
	m := r.mistakes(l, rules)
	basis := map[string]Basis{}
	for _, rule := range rules {
		basis[rule.Name] = rule.Rests
	}
	for i, f := range r.Findings {
		if f.Mend == nil || len(f.Mend.Edits) == 0 {
			continue
		}
		idle := !slices.ContainsFunc(f.Mend.Edits, func(e source.Edit) bool { return e.At.Text() != e.New })
		switch {
		case idle:
			r.Findings[i].Mend = nil
		case !m.certain(l, f, basis[f.Rule]):
			r.Findings[i].Mend = nil // what it says rests on the same facts
		}
	}
}

func (m mistakes) certain(l *lab.Lab, f Finding, on Basis) bool {
	own, lab := m.of[f.Stack], m.of[""]
	switch on {
	case Names:
		return !own[Place] && !lab[Place] && !l.Broken
	case Uses:
		return len(own) == 0 && len(lab) == 0 && !m.unread && (f.Stack != "" || !m.all)
	case Holders:
		host := l.Host(f.Host)
		return !m.all && !m.unread && host != nil && host.Survey.SeesHolders()
	}
	return true
}
