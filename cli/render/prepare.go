package render

import (
	"fmt"
	"io"
	"strings"

	"proudlantern.example/lantern/core/prepare"
)

// Changes shows what changes in folders, path by path.
func Changes(w io.Writer, p Paint, changes []prepare.Change) {
	if len(changes) == 0 {
		fmt.Fprintln(w, "nothing to prepare: all services can work in their folders")
		return
	}
	host, path := "", ""
	for _, c := range changes {
		if c.Host != host {
			fmt.Fprintln(w, p.Head(Harmless(c.Host)))
			host, path = c.Host, ""
		}
		if c.Path != path {
			fmt.Fprintf(w, "  %s\n", Harmless(c.Path))
			path = c.Path
		}
		text := Harmless(c.To)
		switch {
		case c.Action != prepare.Make && c.From == "":
			text += p.Faint("  new")
		case c.From != "":
			text += p.Faint("  was " + Harmless(c.From))
		}
		lines := p.Lines(text, 14)
		for i, l := range lines {
			name := c.Action
			if i > 0 {
				name = ""
			}
			fmt.Fprintln(w, strings.TrimRight("    "+p.Look(fmt.Sprintf("%-8s", name))+"  "+l, " "))
		}
		for _, l := range p.Lines(Harmless(c.Why), 14) {
			fmt.Fprintln(w, "              "+p.Faint(l))
		}
	}
}
