package render

import (
	"fmt"
	"io"
	"strings"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/interchange"
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

// AddedToLab shows tables that are added to lab.toml.
func AddedToLab(w io.Writer, p Paint, tables string) {
	if tables != "" {
		fmt.Fprintln(w)
		NewFiles(w, p, []app.NewFile{{Path: "lab.toml, added", Text: strings.TrimPrefix(tables, "\n")}})
	}
}

// ImportNotes tells what of an imported file has no counterpart, or needs a look, each with its line.
func ImportNotes(w io.Writer, p Paint, notes []app.DraftNote) {
	if len(notes) == 0 {
		return
	}
	fmt.Fprintln(w)
	for _, n := range notes {
		fmt.Fprintf(w, "%s  %s\n", p.Head(fmt.Sprintf("%s:%d", Harmless(n.At.File), n.At.Line)), p.Look(Harmless(n.Element)))
		for _, row := range p.Lines(Harmless(n.Text), 4) {
			fmt.Fprintln(w, "    "+row)
		}
	}
}

// ImportReference writes what becomes of each element of the specification, as Markdown.
func ImportReference(w io.Writer, elements []interchange.Element) {
	fmt.Fprint(w, "# Importing stacks\n\nPrinted by `lantern about --all import`. `lantern import FILE --stack NAME` reads the open "+
		"Compose Specification (the text at github.com/compose-spec/compose-spec). lantern implements that text, and no "+
		"program. Short and long forms, anchors and merges, interpolation with the file `.env` beside it, and profiles are "+
		"understood. Names that begin with `x-` stay as comments.\n\n| element | becomes | instead |\n| --- | --- | --- |\n")
	for _, e := range elements {
		fmt.Fprintf(w, "| `%s` | %s | %s |\n", e.Path, strings.ReplaceAll(e.Becomes, "|", `\|`), strings.ReplaceAll(e.Instead, "|", `\|`))
	}
}
