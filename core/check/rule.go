// Package check holds the rules: what can be known to go wrong before a deploy. A rule is a value in the file
// of its family and a pure function of the lab and the surveys of its hosts.
package check

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/parallel"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// Severity says how bad a finding is.
type Severity string

const (
	// Error surely breaks or loses something.
	Error Severity = "error"
	// Warning likely does.
	Warning Severity = "warning"
	// Note is worth knowing.
	Note Severity = "note"

	off Severity = "off" // in [check]: no finding at all
)

// rank orders severities, worst first.
func (s Severity) rank() int { return slices.Index([]Severity{Error, Warning, Note}, s) }

// Needs says which facts a rule looks at; they add up.
type Needs string

const (
	// Files needs the lab's files alone.
	Files Needs = "files"
	// Host needs the host's survey.
	Host Needs = "host"
	// Machine needs the files of the machine that holds the lab.
	Machine Needs = "machine"
	// Image needs what the image declares.
	Image Needs = "image"
)

// Rule is one rule. All fields but Find are its documentation, too.
type Rule struct {
	Name     string // kebab-case
	Severity Severity
	Needs    Needs
	Mends    bool   // can offer edits
	Rests    Basis  // what has to be known for them
	Title    string // what it finds, in one sentence without a full stop
	Text     string // why that matters and what to do
	Mistake  string // an example
	Mended   string // the same, right
	Find     func(in *Input)
}

// Input is what a rule sees, and where it reports.
type Input struct {
	Lab *lab.Lab

	rule     *Rule
	all      []Rule
	result   *Result // of this rule alone
	skipped  map[Skip]bool
	offered  map[*lab.Host]map[int]bool // free ports
	shared   *shared
	reported map[source.Span]bool // places that the rule has said something of, see reportOnce
}

// Finding is a problem of a rule, with whom it concerns.
type Finding struct {
	source.Problem
	Severity Severity
	Host     string
	Accepted string // the reason of its acceptance; "" when it is not accepted

	firm bool // not to be turned down
	read bool // found while the files were read
}

// Skip is a rule, or a part of it, that could not be judged.
type Skip struct{ Rule, Subject, Why string }

// Result is what a check found.
type Result struct {
	Findings []Finding // sorted by severity, file, line, column, rule
	Skipped  []Skip
}

// Firm reports whether the finding keeps the files from being understood: then it is not known what is declared.
func (f Finding) Firm() bool { return f.firm }

// Count returns how many findings have a severity; what is accepted does not count.
func (r Result) Count(s Severity) int {
	n := 0
	for _, f := range r.Findings {
		if f.Severity == s && f.Accepted == "" {
			n++
		}
	}
	return n
}

// Accepted returns how many findings somebody has said yes to.
func (r Result) Accepted() int {
	n := 0
	for _, f := range r.Findings {
		if f.Accepted != "" {
			n++
		}
	}
	return n
}

// About returns the part of a result that touches one of the stacks: what is theirs, what rests on them, and
// what is the whole lab's.
func (r Result) About(stacks ...string) Result {
	touches := func(f Finding) bool {
		if f.Stack == "" || slices.Contains(stacks, f.Stack) {
			return true
		}
		return slices.ContainsFunc(f.Because, func(b source.Because) bool {
			return !b.At.IsZero() &&
				slices.ContainsFunc(stacks, func(s string) bool { return strings.HasPrefix(b.At.File.Path, s+"/") })
		})
	}
	out := Result{Skipped: r.Skipped}
	for _, f := range r.Findings {
		if touches(f) {
			out.Findings = append(out.Findings, f)
		}
	}
	return out
}

// Run applies rules to a lab whose hosts carry their surveys, as many at a time as there are processors.
func Run(l *lab.Lab, rules []Rule) Result {
	shared := share(l)
	results := make([]Result, len(rules))
	parallel.Each(len(rules), func() func(int) {
		return func(i int) {
			rules[i].Find(&Input{
				Lab:     l,
				rule:    &rules[i],
				all:     rules,
				result:  &results[i],
				skipped: map[Skip]bool{},
				shared:  shared,
			})
		}
	})
	result := &Result{}
	for _, r := range results {
		result.Findings = append(result.Findings, r.Findings...)
		result.Skipped = append(result.Skipped, r.Skipped...)
	}
	result.understood(l)
	used := result.judge(l)
	for i := range rules {
		if rules[i].Name == acceptUnused {
			in := &Input{Lab: l, rule: &rules[i], all: rules, result: result}
			in.acceptUnused(used)
		}
	}
	result.certain(l, rules)
	slices.SortStableFunc(result.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Severity.rank(), b.Severity.rank()), cmp.Compare(pathOf(a), pathOf(b)),
			cmp.Compare(a.At.Start, b.At.Start), cmp.Compare(a.Rule, b.Rule))
	})
	return *result
}

// understood takes out what was found in a file that cannot be read to its end, or rests on one: what is
// missing there would show as mistakes elsewhere.
func (r *Result) understood(l *lab.Lab) {
	unread := map[*source.File]bool{}
	for _, st := range l.Stacks {
		if st.Broken {
			unread[st.File] = true
		}
	}
	if !l.Broken && len(unread) == 0 {
		return
	}
	r.Findings = slices.DeleteFunc(r.Findings, func(f Finding) bool {
		rests := slices.ContainsFunc(f.Because, func(b source.Because) bool { return unread[b.At.File] })
		return !f.read && (l.Broken || unread[f.At.File] || rests)
	})
}

// judge applies what the lab says of rules: their severities, and the findings that somebody has said yes to.
// What keeps the files from being understood stays: it would not be known what to deploy. It returns which of the
// lab's accepted entries cover a finding.
func (r *Result) judge(l *lab.Lab) map[int]bool {
	used := map[int]bool{}
	kept := r.Findings[:0]
	for _, f := range r.Findings {
		severity := f.Severity
		for _, s := range l.Severities {
			if s.Rule == f.Rule {
				severity = Severity(s.Severity)
			}
		}
		accepted := ""
		for i, a := range l.Accepted {
			if covers(a, f) {
				used[i], accepted = true, a.Reason
			}
		}
		if f.firm && (accepted != "" || severity != f.Severity) {
			f.Because = append(f.Because[:len(f.Because):len(f.Because)], source.Because{
				Text: "this one stays an error: without it, it is not known what to deploy",
			})
		} else {
			f.Severity, f.Accepted = severity, accepted
		}
		if f.Severity != off {
			kept = append(kept, f)
		}
	}
	r.Findings = kept
	return used
}

// acceptUnused is the rule that looks at what the others have found.
const acceptUnused = "accept-unused"

// acceptUnused reports what is accepted and not found any more. A rule that could not judge everything may
// find it elsewhere or later.
func (in *Input) acceptUnused(used map[int]bool) {
	for i, a := range in.Lab.Accepted {
		known := slices.ContainsFunc(in.all, func(r Rule) bool { return r.Name == a.Rule })
		skipped := slices.ContainsFunc(in.result.Skipped, func(s Skip) bool { return s.Rule == a.Rule })
		off := slices.ContainsFunc(in.Lab.Severities, func(s lab.Severity) bool {
			return s.Rule == a.Rule && s.Severity == "off"
		})
		if a.Reason == "" {
			in.add(source.Problem{
				Stack:   a.Stack,
				Service: a.Service,
				At:      a.At,
				Message: "this accepts nothing: give a reason",
			})
			continue
		}
		if used[i] || !known || skipped || off || in.Lab.Broken {
			continue // other findings say the rest
		}
		what := a.Rule
		if a.Subject != "" {
			what += " for " + a.Subject
		}
		p := source.Problem{
			Stack:   a.Stack,
			Service: a.Service,
			At:      a.At,
			Message: what + " is accepted, and nothing of the kind is found any more",
		}
		if line := strings.TrimSpace(lineOf(a.At)); strings.HasPrefix(line, a.At.Text()) &&
			!strings.Contains(line, "{") {
			p.Mend = source.Replace(lineSpan(a.At), "", "check --fix takes it out")
		}
		in.add(p)
	}
}

// covers reports whether what somebody has said yes to is this finding: its rule, its part of the lab, and,
// where a subject is named, one that the mark or the message has.
func covers(a lab.Accepted, f Finding) bool {
	return a.Rule == f.Rule && a.Reason != "" && (a.Stack == "" || a.Stack == f.Stack) &&
		(a.Service == "" || a.Service == f.Service) &&
		(a.Subject == "" || slices.Contains(words(f.At.Text()+" "+f.Message), a.Subject))
}

// words takes a text apart at blanks and at the signs around words.
func words(s string) []string {
	var all []string
	for _, w := range strings.Fields(s) {
		all = append(all, w, strings.Trim(w, `"',;:()`))
	}
	return all
}

func pathOf(f Finding) string {
	if f.At.IsZero() {
		return ""
	}
	return f.At.File.Path
}

// report adds a finding of the rule about a service (nil: about no service), and returns it to be changed
// until the next one is added. Its mend has an edit only where the text stands to the letter that it takes
// away.
func (in *Input) report(s *lab.Service, p source.Problem) *Finding {
	if s != nil {
		p.Service = s.Name
		return in.reportStack(s.Stack, p)
	}
	return in.add(p)
}

// reportOnce is report, but for a place that the rule has said something of already: many services share a
// line. It reports whether it was new.
func (in *Input) reportOnce(s *lab.Service, p source.Problem) bool {
	if in.reported[p.At] {
		return false
	}
	if in.reported == nil {
		in.reported = map[source.Span]bool{}
	}
	in.reported[p.At] = true
	in.report(s, p)
	return true
}

// reportStack adds a finding about a stack.
func (in *Input) reportStack(st *lab.Stack, p source.Problem) *Finding {
	p.Stack = st.Name
	f := in.add(p)
	if st.Host != nil {
		f.Host = st.Host.Name
	}
	return f
}

// reportHost adds a finding about a host.
func (in *Input) reportHost(h *lab.Host, p source.Problem) *Finding {
	f := in.add(p)
	f.Host = h.Name
	return f
}

// add adds a finding of the rule, of whatever the problem says that it is about.
func (in *Input) add(p source.Problem) *Finding {
	p.Rule = in.rule.Name
	in.result.Findings = append(in.result.Findings, Finding{Problem: p, Severity: in.rule.Severity})
	return &in.result.Findings[len(in.result.Findings)-1]
}

// skip says that the rule could not judge a subject.
func (in *Input) skip(subject, why string) {
	s := Skip{in.rule.Name, subject, why}
	if !in.skipped[s] {
		in.skipped[s] = true
		in.result.Skipped = append(in.result.Skipped, s)
	}
}

// services returns all services that have a host.
func (in *Input) services() []*lab.Service { return in.judged(in.shared.services) }

// judged leaves out the gates, unless the rule is about what a person declares of one: the rest of it is lantern's own
// making.
func (in *Input) judged(all []*lab.Service) []*lab.Service {
	if !in.shared.gates || slices.ContainsFunc(aboutGates, func(p string) bool { return strings.HasPrefix(in.rule.Name, p) }) {
		return all
	}
	return slices.DeleteFunc(slices.Clone(all), func(s *lab.Service) bool { return s.Stack.Gate != nil })
}

// aboutGates begin the names of the rules that judge a gate as any other service.
var aboutGates = []string{"port-", "host-", "engine-", "name-", "network-"}

// surveyed returns the services whose hosts have a survey; the other hosts are skipped.
func (in *Input) surveyed() []*lab.Service {
	for _, h := range in.shared.unseen {
		in.skip("host "+h.Name, "host not surveyed")
	}
	return in.judged(in.shared.surveyed)
}

// All returns every rule, in the order of the reference.
func All() []Rule {
	return slices.Concat(formatRules, hostRules, portRules, publishingRules, mountRules, targetRules,
		identityRules, zoneRules, environmentRules, secretRules, wireRules, orderRules, networkRules,
		nameRules, siteRules, imageRules, buildRules, copyRules, cardRules, fileRules, lifecycleRules, limitRules, safetyRules)
}

// Named returns the rule of that name.
func Named(name string) (Rule, bool) {
	for _, r := range All() {
		if r.Name == name {
			return r, true
		}
	}
	return Rule{}, false
}

// imageOf returns what is known of a service's image; ok is false where it is not known what it declares.
func imageOf(s *lab.Service) (survey.Image, bool) {
	if s.Stack.Host == nil || s.Stack.Host.Survey == nil || s.Image.Unknown {
		return survey.Image{}, false
	}
	image, ok := s.Stack.Host.Survey.Image(s.Image.Text)
	return image, ok && image.Declares()
}

func sortedKeys[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// resolverFinds is the function of the rules whose mistakes already show while the files are read and resolved.
func resolverFinds(in *Input) {
	for _, p := range in.Lab.Problems {
		if p.Rule != in.rule.Name {
			continue
		}
		f := in.add(p)
		f.firm, f.read = in.rule.Severity == Error, true
		if st := in.Lab.Stack(p.Stack); st != nil && st.Host != nil {
			f.Host = st.Host.Name
		}
	}
}

// rulesUnknown reports names of rules in [check] and accept that no rule has.
func rulesUnknown(in *Input) {
	var names []string
	for _, r := range in.all {
		names = append(names, r.Name)
	}
	report := func(rule, stack, service string, at source.Span) {
		if slices.Contains(names, rule) {
			return
		}
		in.add(source.Problem{
			Stack:   stack,
			Service: service,
			At:      at,
			Message: "there is no rule " + rule,
			Mend:    declare.Meant(at, rule, names, "is one"),
		}).firm = true
	}
	for _, s := range in.Lab.Severities {
		report(s.Rule, "", "", s.At)
	}
	for _, a := range in.Lab.Accepted {
		report(a.Rule, a.Stack, a.Service, a.At)
	}
}

// freePort returns the lowest port above near, then below, that neither the lab nor the host uses, and that
// the rule has not offered to somebody else.
func freePort(in *Input, h *lab.Host, near int) (int, bool) {
	taken := map[int]bool{}
	for _, u := range in.Lab.Ports(h) {
		taken[u.Port] = true
	}
	for port := range in.offered[h] {
		taken[port] = true
	}
	for port := near + 1; port <= 65535; port++ {
		if !taken[port] {
			return port, true
		}
	}
	for port := near - 1; port >= 1024; port-- {
		if !taken[port] {
			return port, true
		}
	}
	return 0, false
}

// opened reports whether a port is one that the service's program opens by itself, in the host's network.
func opened(s *lab.Service, p lab.Port) bool {
	return slices.ContainsFunc(s.Listens, func(o lab.Port) bool { return o.HostAt == p.HostAt })
}

// moveToFreePort offers another host port for a mapping of a single port.
func moveToFreePort(in *Input, s *lab.Service, p lab.Port) *source.Mend {
	// What a program opens by itself moves by no word of ours.
	if p.Host.Count() != 1 || opened(s, p) || !s.Stack.Host.Survey.SeesHolders() {
		return nil
	}
	free, ok := freePort(in, s.Stack.Host, p.Host.First)
	if !ok {
		return nil
	}
	if in.offered == nil {
		in.offered = map[*lab.Host]map[int]bool{}
	}
	if in.offered[s.Stack.Host] == nil {
		in.offered[s.Stack.Host] = map[int]bool{}
	}
	in.offered[s.Stack.Host][free] = true
	text := declare.Range{First: free, Last: free}.String()
	mend := &source.Mend{Text: text + " is free on " + s.Stack.Host.Name}
	// A port that comes out of a reference is changed where it is written, which is for the person to decide.
	if p.HostAt.Text() == p.Host.String() {
		mend.Edits = []source.Edit{{At: p.HostAt, New: text}}
	}
	return mend
}
