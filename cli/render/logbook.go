package render

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
)

// FileState is a file of an entry, and whether it is the same today.
type FileState struct {
	Path string
	Same bool
}

// Logbook writes entries, latest first.
func Logbook(w io.Writer, p Paint, list []history.Entry, stack string) {
	if len(list) == 0 {
		if stack != "" {
			stack = " of " + stack
		}
		fmt.Fprintf(w, "nothing%s was deployed from this clone of the lab yet\n", stack)
		return
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b history.Entry) int { return b.Began.Compare(a.Began) })
	var rows [][]string
	for _, e := range list {
		rows = append(rows, []string{
			e.Stack, strconv.Itoa(e.Number), e.Began.Local().Format("2006-01-02 15:04"), kind(e),
			result(p, e.Result), seconds(e.Seconds), e.Host, e.Who, p.Faint(changes(e)),
		})
	}
	columns(w, p, []string{"stack", "entry", "when", "what", "ended", "took", "host", "who", "what it did"}, rows)
}

func kind(e history.Entry) string {
	if e.RevertOf > 0 {
		return fmt.Sprintf("back to entry %d", e.RevertOf)
	}
	return e.Kind
}

func seconds(s float64) string {
	return time.Duration(s * float64(time.Second)).Round(100 * time.Millisecond).String()
}

func result(p Paint, r string) string {
	switch r {
	case deploy.Done:
		return p.Good(r)
	case deploy.PutBack:
		return p.Look(r)
	}
	return p.Bad(r)
}

// changes sums up what was done, in the words of a plan.
func changes(e history.Entry) string {
	by := map[string][]string{}
	for _, s := range e.Services {
		by[s.Action] = append(by[s.Action], s.Service)
	}
	var parts []string
	for _, a := range []plan.Action{plan.Create, plan.Replace, plan.Reload, plan.Start, plan.Remove} {
		if names := by[string(a)]; names != nil {
			parts = append(parts, string(a)+" "+strings.Join(names, ", "))
		}
	}
	if e.Why != "" {
		why := []rune(e.Why)
		if len(why) > 32 { // a terminal is not wide; the entry itself has all of it
			why = append(why[:31], '…')
		}
		parts = append(parts, string(why))
	}
	return strings.Join(parts, "; ")
}

// Entry writes one entry with all that is known of it.
func Entry(w io.Writer, p Paint, e history.Entry, files []FileState) {
	fmt.Fprintf(w, "%s %s: %s, %s\n", p.Head(e.Stack), p.Head(strconv.Itoa(e.Number)), kind(e), result(p, e.Result))
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintf(w, "  %s  %s\n", p.Faint(fmt.Sprintf("%-7s", name)), text)
		}
	}
	line("when", e.Began.Local().Format("2006-01-02 15:04:05")+", "+seconds(e.Seconds))
	line("who", e.Who)
	line("host", e.Host)
	line("despite", strings.Join(e.Despite, ", "))
	line("why", e.Why)
	if len(e.Services) > 0 {
		fmt.Fprintln(w)
		var rows [][]string
		for _, s := range e.Services {
			image := s.Image
			if s.ID != "" {
				image += p.Faint("  " + short(s.ID))
			}
			rows = append(rows, []string{action(p, plan.Action(s.Action)), s.Service, image})
		}
		columns(w, p, []string{"what", "service", "image"}, rows)
	}
	if len(files) > 0 {
		fmt.Fprintln(w)
		var rows [][]string
		for _, f := range files {
			now := p.Look("another one today")
			if strings.HasPrefix(f.Path, history.Before) {
				now = p.Faint("as it was before it was written over")
			} else if f.Same {
				now = p.Good("the same today")
			}
			rows = append(rows, []string{f.Path, now})
		}
		columns(w, p, []string{"file", "what"}, rows)
	}
}

// short shortens a digest for the eye.
func short(digest string) string {
	digest = strings.TrimPrefix(digest, "sha256:")
	return digest[:min(12, len(digest))]
}
