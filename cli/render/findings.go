package render

import (
	"fmt"
	"io"
	"strings"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// Findings writes findings for people: the place, the line with the culprit, what is true, on what it rests, and the mend.
func Findings(w io.Writer, p Paint, l *lab.Lab, r check.Result, verbose bool) {
	for _, f := range r.Findings {
		place := "lab"
		if !f.At.IsZero() {
			place = f.At.Place().String()
		}
		severity := p.Severity(f.Severity)
		if f.Accepted != "" {
			severity = p.Faint("accepted " + string(f.Severity))
		}
		fmt.Fprintf(w, "%s  %s  %s\n", p.Head(place), f.Rule, severity)
		if line := excerpt(p, f.At); line != "" {
			fmt.Fprintln(w, "    "+line)
		}
		fmt.Fprintln(w, "    "+f.Message)
		for i, b := range f.Because {
			head := "because"
			if i > 0 {
				head = "       "
			}
			if b.At.IsZero() {
				fmt.Fprintf(w, "    %s   %s\n", p.Faint(head), b.Text)
			} else {
				fmt.Fprintf(w, "    %s   %s   %s   %s\n", p.Faint(head), p.Head(b.At.Place().String()), excerpt(p, b.At), b.Text)
			}
		}
		switch {
		case f.Accepted != "":
			fmt.Fprintf(w, "    %s  %s\n", p.Faint("accepted"), f.Accepted)
		case f.Mend != nil:
			text := f.Mend.Text
			if len(f.Mend.Edits) > 0 && !strings.HasPrefix(text, "check --fix") {
				text += "; check --fix writes it here"
			}
			fmt.Fprintf(w, "    %s      %s\n", p.Good("mend"), text)
		}
		fmt.Fprintln(w)
	}
	if verbose {
		for _, s := range r.Skipped {
			fmt.Fprintf(w, "%s\n", p.Faint(fmt.Sprintf("skipped: %s for %s: %s", s.Rule, s.Subject, s.Why)))
		}
	}
	fmt.Fprintln(w, totals(p, l, r, verbose))
}

// excerpt returns the line with the culprit in « ».
func excerpt(p Paint, at source.Span) string {
	before, marked, after := at.Excerpt()
	if before+marked+after == "" {
		return ""
	}
	if marked != "" {
		marked = p.Mark("«" + marked + "»")
	}
	return strings.TrimLeft(before, " \t") + marked + strings.TrimRight(after, " \t")
}

func totals(p Paint, l *lab.Lab, r check.Result, verbose bool) string {
	t := count(l, r)
	text := fmt.Sprintf("%s, %s, %s in %s, %s on %s", counted(t.Errors, "error"), counted(t.Warnings, "warning"), counted(t.Notes, "note"),
		counted(t.Stacks, "stack"), counted(t.Services, "service"), counted(t.Hosts, "host"))
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
		text += "; " + counted(rules, "rule") + " skipped in part"
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
	t := sums{Errors: r.Count(check.Error), Warnings: r.Count(check.Warning), Notes: r.Count(check.Note), Accepted: r.Accepted(), Stacks: len(l.Stacks), Hosts: len(l.Hosts)}
	for _, st := range l.Stacks {
		t.Services += len(st.Services)
	}
	return t
}

// FindingsJSON writes findings for programs.
func FindingsJSON(w io.Writer, l *lab.Lab, r check.Result) error {
	findings, skipped := []finding{}, []skip{}
	for _, f := range r.Findings {
		j := finding{Rule: f.Rule, Severity: f.Severity, Host: f.Host, Stack: f.Stack, Service: f.Service, At: placeJSON(f.At), Message: f.Message}
		for _, b := range f.Because {
			j.Because = append(j.Because, because{b.Text, placeJSON(b.At)})
		}
		if f.Accepted != "" {
			j.Accepted = &f.Accepted
		}
		if f.Mend != nil {
			j.Mend = &mend{Text: f.Mend.Text}
			for _, e := range f.Mend.Edits {
				j.Mend.Edits = append(j.Mend.Edits, edit{e.At.File.Path, e.At.Start, e.At.End - e.At.Start, e.New})
			}
		}
		findings = append(findings, j)
	}
	for _, s := range r.Skipped {
		skipped = append(skipped, skip(s))
	}
	return JSON(w, Check{first, l.Name, findings, skipped, count(l, r)})
}

func placeJSON(at source.Span) *source.Place {
	if at.IsZero() {
		return nil
	}
	p := at.Place()
	return &p
}
