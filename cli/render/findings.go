package render

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// Of more findings than fit a screen, those of one rule stand together: one in full, and where the others are.
const (
	manyFindings = 12
	alsoShown    = 3
)

// Findings writes findings for people: the place, the line with the culprit, what is true, on what it rests,
// and the mend. With verbose each of them in full, and what could not be judged. What is accepted is a line
// each.
func Findings(w io.Writer, p Paint, l *lab.Lab, r check.Result, verbose bool) {
	groups, accepted := [][]check.Finding{}, []check.Finding{}
	open := slices.DeleteFunc(slices.Clone(r.Findings), func(f check.Finding) bool {
		if f.Accepted != "" {
			accepted = append(accepted, f)
		}
		return f.Accepted != ""
	})
	for _, f := range open {
		groups = append(groups, []check.Finding{f})
	}
	many := !verbose && len(open) > manyFindings
	if many {
		groups = byRule(open)
	}
	for _, group := range groups {
		one(w, p, group[0])
		also(w, p, group[0], group[1:])
		fmt.Fprintln(w)
	}
	for _, f := range accepted {
		fmt.Fprintf(w, "%s  %s  %s\n", p.Head(placeOf(f)), f.Rule, p.Faint("accepted: "+Harmless(f.Accepted)))
	}
	if len(accepted) > 0 {
		fmt.Fprintln(w)
	}
	if many {
		summary(w, p, groups)
	}
	if verbose {
		for _, s := range r.Skipped {
			fmt.Fprintf(w,
				"%s\n", p.Faint(Harmless(fmt.Sprintf("skipped: %s for %s: %s", s.Rule, s.Subject, s.Why))))
		}
	}
	fmt.Fprintln(w, totals(p, l, r, verbose))
}

// byRule puts findings of one rule together: by severity, then in the order of the reference, which begins
// with what keeps files from being read.
func byRule(findings []check.Finding) [][]check.Finding {
	place := map[string]int{}
	for i, rule := range check.All() {
		place[rule.Name] = i
	}
	order := func(f check.Finding) int {
		return place[f.Rule] + 1000*slices.Index([]check.Severity{check.Error, check.Warning, check.Note},
			f.Severity)
	}
	sorted := slices.Clone(findings)
	slices.SortStableFunc(sorted, func(a, b check.Finding) int { return order(a) - order(b) })
	var groups [][]check.Finding
	for i, f := range sorted {
		if i == 0 || order(f) != order(sorted[i-1]) {
			groups = append(groups, nil)
		}
		groups[len(groups)-1] = append(groups[len(groups)-1], f)
	}
	return groups
}

// one writes a finding in full.
func one(w io.Writer, p Paint, f check.Finding) {
	fmt.Fprintf(w, "%s  %s  %s\n", p.Head(placeOf(f)), f.Rule, p.Severity(f.Severity))
	if line := excerpt(p, f.At); line != "" {
		fmt.Fprintln(w, "    "+line)
	}
	for _, line := range p.Lines(Harmless(f.Message), 4) {
		fmt.Fprintln(w, "    "+line)
	}
	for i, b := range f.Because {
		head := "because"
		if i > 0 {
			head = "       "
		}
		text := Harmless(b.Text)
		if !b.At.IsZero() {
			text = p.Head(b.At.Place().String()) + "   " + excerpt(p, b.At) + "   " + text
		}
		const indent = 14
		for j, line := range p.Lines(text, indent) {
			if j > 0 {
				fmt.Fprintln(w, strings.Repeat(" ", indent)+line)
			} else {
				fmt.Fprintf(w, "    %s   %s\n", p.Faint(head), line)
			}
		}
	}
	if f.Mend != nil {
		text := f.Mend.Text
		if len(f.Mend.Edits) > 0 && !strings.HasPrefix(text, "check --fix") {
			text += " (check --fix does it)"
		}
		for i, line := range strings.Split(text, "\n") {
			head := p.Good("fix")
			if i > 0 {
				head = "   "
			}
			fmt.Fprintf(w, "    %s       %s\n", head, Harmless(line))
		}
	}
}

// Found writes one finding with all that it rests on.
func Found(w io.Writer, p Paint, f check.Finding) { one(w, p, f) }

func placeOf(f check.Finding) string {
	if f.At.IsZero() {
		return "lab"
	}
	return f.At.Place().String()
}

// also writes where else the same was found, and of that only what is not said yet.
func also(w io.Writer, p Paint, first check.Finding, others []check.Finding) {
	said := map[string]bool{first.Message: true, excerpt(p, first.At): true}
	shown := others[:min(len(others), alsoShown)]
	if len(others) == alsoShown+1 {
		shown = others // one line more says as much as a line about it
	}
	for i, f := range shown {
		head := "also   "
		if i > 0 {
			head = "       "
		}
		text := ""
		for _, t := range []string{f.Message, excerpt(p, f.At)} {
			if !said[t] {
				text, said[t] = "   "+t, true
				break
			}
		}
		fmt.Fprintf(w, "    %s   %s%s\n", p.Faint(head), p.Head(placeOf(f)), text)
	}
	if left := others[len(shown):]; len(left) > 0 {
		stacks := map[string]bool{}
		for _, f := range left {
			stacks[f.Stack] = true
		}
		fmt.Fprintf(w,
			"              %s\n",
			p.Faint(fmt.Sprintf("and %d more in %s", len(left), declare.Counted(len(stacks), "stack"))))
	}
}

// summary says how often each rule was broken, and how to see less at a time.
func summary(w io.Writer, p Paint, groups [][]check.Finding) {
	words, mends := map[check.Severity][]string{}, 0
	for _, g := range groups {
		words[g[0].Severity] = append(words[g[0].Severity], fmt.Sprintf("%s %d", g[0].Rule, len(g)))
		for _, f := range g {
			if f.Mend != nil && len(f.Mend.Edits) > 0 {
				mends++
			}
		}
	}
	for _, severity := range []check.Severity{check.Error, check.Warning, check.Note} {
		if words[severity] != nil {
			fmt.Fprintf(w,
				"%s  %s\n", p.Severity(severity)+strings.Repeat(" ", len(check.Warning)-len(severity)),
				strings.Join(words[severity], ", "))
		}
	}
	hint := "check STACK shows one stack alone, --verbose each finding in full"
	if mends > 0 {
		hint = fmt.Sprintf("check --fix fixes %d of them; %s", mends, hint)
	}
	fmt.Fprintln(w, p.Faint(hint))
}

// excerpt returns the line with the culprit in « ».
func excerpt(p Paint, at source.Span) string {
	before, marked, after := at.Excerpt()
	if before+marked+after == "" {
		return ""
	}
	// Of a line of a thousand letters those around the mark are enough.
	const most = 160
	if r := []rune(before); len(r) > most {
		before = "… " + string(r[len(r)-most:])
	}
	if r := []rune(after); len(r) > most {
		after = string(r[:most]) + " …"
	}
	if r := []rune(marked); len(r) > 2*most {
		marked = string(r[:most]) + " … " + string(r[len(r)-most:])
	}
	if marked != "" {
		marked = p.Mark("«" + Harmless(marked) + "»")
	}
	return Harmless(strings.TrimLeft(before, " \t")) + marked + Harmless(strings.TrimRight(after, " \t"))
}

func totals(p Paint, l *lab.Lab, r check.Result, verbose bool) string {
	t := count(l, r)
	text := fmt.Sprintf("%s, %s, %s in %s, %s on %s",
		declare.Counted(t.Errors, "error"), declare.Counted(t.Warnings, "warning"),
		declare.Counted(t.Notes, "note"),
		declare.Counted(t.Stacks, "stack"), declare.Counted(t.Services, "service"),
		declare.Counted(t.Hosts, "host"))
	switch {
	case t.Errors > 0:
		text = p.Bad(text)
	case t.Warnings > 0:
		text = p.Look(text)
	default:
		text = p.Good(text)
	}
	if t.Accepted > 0 {
		text += fmt.Sprintf("; %d accepted", t.Accepted)
	}
	if rules := skippedRules(r); rules > 0 {
		text += "; " + declare.Counted(rules, "rule") + " skipped in part"
		if !verbose {
			text += " (--verbose says why)"
		}
	}
	return text
}

func skippedRules(r check.Result) int {
	rules := map[string]bool{}
	for _, s := range r.Skipped {
		rules[s.Rule] = true
	}
	return len(rules)
}

// sums are the totals of a check.
type sums struct {
	Errors   int `json:"error"`
	Warnings int `json:"warning"`
	Notes    int `json:"note"`
	Accepted int `json:"accepted"`
	Stacks   int `json:"stacks"`
	Services int `json:"services"`
	Hosts    int `json:"hosts"`
}

func count(l *lab.Lab, r check.Result) sums {
	t := sums{
		Errors:   r.Count(check.Error),
		Warnings: r.Count(check.Warning),
		Notes:    r.Count(check.Note),
		Accepted: r.Accepted(),
		Stacks:   len(l.Stacks),
		Hosts:    len(l.Hosts),
	}
	for _, st := range l.Stacks {
		t.Services += len(st.Services)
	}
	return t
}

// FindingsJSON writes findings for programs.
func FindingsJSON(w io.Writer, l *lab.Lab, r check.Result, fixed []app.Fixed) error {
	c := newCheck(l, r)
	c.Fixed = fixed
	return JSON(w, c)
}

// FindingsLine writes the same on one line, among the events of a deploy.
func FindingsLine(w io.Writer, l *lab.Lab, r check.Result) error {
	return json.NewEncoder(w).Encode(newCheck(l, r))
}

func newCheck(l *lab.Lab, r check.Result) Check {
	findings, skipped := []finding{}, []skip{}
	for _, f := range r.Findings {
		j := finding{
			Rule:     f.Rule,
			Severity: f.Severity,
			Host:     f.Host,
			Stack:    f.Stack,
			Service:  f.Service,
			At:       placeJSON(f.At),
			Message:  f.Message,
		}
		for _, b := range f.Because {
			j.Because = append(j.Because, because{b.Text, placeJSON(b.At)})
		}
		if f.Accepted != "" {
			j.Accepted = &f.Accepted
		}
		if f.Mend != nil {
			j.Mend = &mend{Text: f.Mend.Text}
			for _, e := range f.Mend.Edits {
				j.Mend.Edits = append(j.Mend.Edits,
					edit{e.At.File.Path, e.At.Start, e.At.End - e.At.Start, e.Says()})
			}
		}
		findings = append(findings, j)
	}
	for _, s := range r.Skipped {
		skipped = append(skipped, skip(s))
	}
	return Check{Lantern: first, Lab: l.Name, Findings: findings, Skipped: skipped, Totals: count(l, r)}
}

func placeJSON(at source.Span) *source.Place {
	if at.IsZero() {
		return nil
	}
	p := at.Place()
	return &p
}
