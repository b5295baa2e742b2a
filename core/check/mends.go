package check

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// Basis says what has to be known for the edits of a rule to be right. Where that is not known, a finding has
// no edits: check --fix may only do what is certain.
type Basis int

const (
	// Place is what stands at the place itself, beside what the program knows.
	Place Basis = iota
	// Names are all names that could be meant: the files of the stack, and lab.toml, have no mistake in their
	// keys and names.
	Names
	// Uses is all that uses a thing: there is no mistake in lab.toml and in the stack, and no file that
	// cannot be read.
	Uses
	// Holders is also what else claims or holds it: there is no mistake in any file, and the host's engine
	// and its sockets were seen.
	Holders
)

// mistakes are the findings that must be mended before it is known what is declared.
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

// mistaken reports whether the files of a stack, or lab.toml, have a mistake that keeps them from being
// understood: what is missing there says nothing.
func (in *Input) mistaken(stack string) bool {
	return in.Lab.Broken || slices.ContainsFunc(in.Lab.Problems, func(p source.Problem) bool {
		return (p.Stack == stack || p.Stack == "") &&
			slices.ContainsFunc(in.all, func(r Rule) bool { return r.Name == p.Rule && r.Severity == Error })
	})
}

// certain takes the edits out of mends that rest on something which is not known, and those that change
// nothing.
func (r *Result) certain(l *lab.Lab, rules []Rule) {
	m := r.mistakes(l, rules)
	basis := map[string]Basis{}
	for _, rule := range rules {
		basis[rule.Name] = rule.Rests
	}
	known := sync.OnceValue(func() *knownNames { return namesOf(l) })
	for i, f := range r.Findings {
		if f.Mend == nil || len(f.Mend.Edits) == 0 {
			continue
		}
		idle := !slices.ContainsFunc(f.Mend.Edits, func(e source.Edit) bool { return e.At.Text() != e.New })
		switch {
		case idle:
			r.Findings[i].Mend = nil
		case !m.certain(l, f, basis[f.Rule]) || declared[f.Rule] && !known().all(f.Mend.Edits):
			r.Findings[i].Mend = uncertain(l, f, basis[f.Rule])
		}
	}
}

// uncertain says in words what is left of a mend that is not certain. What most of them say rests on the same
// facts, and is left out.
func uncertain(l *lab.Lab, f Finding, on Basis) *source.Mend {
	h := l.Host(f.Host)
	switch {
	case declared[f.Rule]:
		return &source.Mend{Text: f.Mend.Text + "; which of the two is right, is for you to say"}
	case on == Holders && strings.HasPrefix(f.Rule, "port-") && h != nil && h.Survey.SeesHolders():
		return &source.Mend{
			Text: "check --fix picks a free port once nothing else keeps the lab from being understood",
		}
	}
	return nil
}

// declared are the rules whose mends write a declared name in place of one that is not declared.
// Which of the two is misspelt is not known by that alone.
var declared = map[string]bool{
	"host-unknown":      true,
	"network-unknown":   true,
	"volume-unknown":    true,
	"order-unknown":     true,
	"reference-unknown": true,
	"wire-unknown":      true,
}

// word matches the names in a text.
var word = regexp.MustCompile(`[A-Za-z0-9]+(?:[-_][A-Za-z0-9]+)*`)

// knownNames are the names of a lab by how often they stand in its files, and those that its hosts have.
type knownNames struct {
	written map[string]int
	there   map[string]bool
}

func namesOf(l *lab.Lab) *knownNames {
	k := &knownNames{map[string]int{}, map[string]bool{}}
	count := func(f *source.File) {
		for _, w := range word.FindAllString(f.Text, -1) {
			k.written[w]++
		}
	}
	if l.NameAt.File != nil {
		count(l.NameAt.File)
	}
	for _, st := range l.Stacks {
		k.written[st.Name]++ // its folder
		count(st.File)
	}
	for _, f := range l.EnvFiles {
		if f == nil {
			continue
		}
		for _, e := range f.Entries {
			k.written[e.Name]++
		}
	}
	for _, h := range l.Hosts {
		if h.Survey == nil {
			continue
		}
		k.there[h.Name] = h.Survey.Engine != nil
		for _, c := range h.Survey.Containers {
			if c.Lab == l.Name {
				k.there[c.Service], k.there[c.Stack] = true, true
			}
		}
		// Names on the engine have those of the lab or of a stack in front.
		for _, v := range h.Survey.Volumes {
			k.there[v.Name[strings.LastIndexByte(v.Name, '.')+1:]] = true
		}
		for _, n := range h.Survey.Networks {
			k.there[n.Name[strings.LastIndexByte(n.Name, '.')+1:]] = true
		}
	}
	return k
}

// all reports whether the names that edits write are known by more than their declaration: something else in
// the lab uses them, or a host has them. What declares a new thing takes the place of nothing.
func (k *knownNames) all(edits []source.Edit) bool {
	for _, e := range edits {
		wrong := word.FindAllString(e.At.Text(), -1)
		for _, name := range word.FindAllString(e.New, -1) {
			// Most names have small letters only: then the capitals are the mistake.
			same := slices.ContainsFunc(wrong, func(w string) bool { return strings.EqualFold(w, name) }) &&
				name == strings.ToLower(name)
			if len(wrong) > 0 && !same && !k.there[name] && k.written[name] < 2 {
				return false
			}
		}
	}
	return true
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
