package check

import (
	"regexp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
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
		case !m.certain(l, f, basis[f.Rule]) || declared[f.Rule] && !known(l, f):
			text := f.Mend.Text
			if r.Findings[i].Mend = nil; declared[f.Rule] { // else what it says rests on the same facts
				r.Findings[i].Mend = &source.Mend{Text: text + "; which of the two is right, is for you to say"}
			} else if h := l.Host(f.Host); strings.HasPrefix(f.Rule, "port-") && basis[f.Rule] == Holders && h != nil && h.Survey.SeesHolders() {
				r.Findings[i].Mend = &source.Mend{Text: "check --fix picks a free port once nothing else keeps the lab from being understood"}
			}
		}
	}
}

// declared are the rules whose mends write a name that somebody has declared, in place of one that nobody has. Which of the two is misspelt is not known by that alone.
var declared = map[string]bool{"host-unknown": true, "network-unknown": true, "volume-unknown": true, "order-unknown": true, "reference-unknown": true, "wire-unknown": true}

// word matches the names in a text.
var word = regexp.MustCompile(`[A-Za-z0-9]+(?:[-_][A-Za-z0-9]+)*`)

// known tells whether the names that a mend writes are known by more than their declaration: something else in the lab uses them, or the host has them. Where one declares a new thing, it
// takes nobody's place.
func known(l *lab.Lab, f Finding) bool {
	for _, e := range f.Mend.Edits {
		wrong := word.FindAllString(e.At.Text(), -1)
		for _, name := range word.FindAllString(e.New, -1) {
			// Most names have small letters only: then the capitals are the mistake.
			same := slices.ContainsFunc(wrong, func(w string) bool { return strings.EqualFold(w, name) }) && name == strings.ToLower(name)
			if len(wrong) > 0 && !same && !onHost(l, name) && uses(l, name) < 2 {
				return false
			}
		}
	}
	return true
}

// uses counts how often a name stands in the lab's files.
func uses(l *lab.Lab, name string) int {
	n := 0
	count := func(f *source.File) {
		if f == nil {
			return
		}
		for _, w := range word.FindAllString(f.Text, -1) {
			if w == name {
				n++
			}
		}
	}
	count(l.NameAt.File)
	if l.Stack(name) != nil {
		n++ // its folder
	}
	for _, f := range l.EnvFiles {
		if f != nil && slices.ContainsFunc(f.Entries, func(e declare.EnvEntry) bool { return e.Name == name }) {
			n++
		}
	}
	for _, st := range l.Stacks {
		count(st.File)
	}
	return n
}

// onHost tells whether a host is called so, or has a container, a volume or a network of this lab that is.
func onHost(l *lab.Lab, name string) bool {
	for _, h := range l.Hosts {
		s := h.Survey
		if s == nil {
			continue
		}
		if h.Name == name && s.Engine != nil ||
			slices.ContainsFunc(s.Containers, func(c survey.Container) bool { return c.Lab == l.Name && (c.Service == name || c.Stack == name) }) ||
			slices.ContainsFunc(s.Volumes, func(v survey.Volume) bool { return v.Name == name || strings.HasSuffix(v.Name, "."+name) }) ||
			slices.ContainsFunc(s.Networks, func(n survey.Network) bool { return n.Name == name || strings.HasSuffix(n.Name, "."+name) }) {
			return true
		}
	}
	return false
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
