package render

import (
	"fmt"
	"io"
	"strings"

	"proudlantern.example/lantern/app"
)

// NewFiles writes files that are new, each with its name; comments are faint.
func NewFiles(w io.Writer, p Paint, files []app.NewFile) {
	for i, f := range files {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, p.Head(f.Path))
		if f.Mode == app.SecretMode {
			fmt.Fprintln(w, "  "+p.Faint("secrets: not shown"))
			continue
		}
		for line := range strings.Lines(f.Text) {
			text, comment, found := strings.Cut(Harmless(strings.TrimRight(line, "\n")), "#")
			if found {
				comment = p.Faint("#" + comment)
			}
			for n, row := range p.Lines(text+comment, 4) {
				if n > 0 {
					row = "    " + row // it is the same line of the file
				}
				fmt.Fprintln(w, strings.TrimRight("  "+row, " "))
			}
		}
	}
}
