package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"proudlantern.example/lantern/app"
)

// Fixes writes edits for people, one a line.
func Fixes(w io.Writer, p Paint, all []app.Fixed) {
	for _, f := range all {
		what := quoted(f.Old) + " becomes " + quoted(f.New)
		switch {
		case f.Old == "":
			what = "adds " + quoted(f.New)
		case f.New == "":
			what = "takes out " + quoted(f.Old)
		}
		fmt.Fprintf(w, "%s %s  %s  %s\n", p.Good("fixed"), p.Head(Harmless(f.At.String())), f.Rule, Harmless(what))
	}
	if len(all) > 0 {
		fmt.Fprintln(w)
	}
}

// quoted returns a text on one line, without the blank lines around it, and cut where it is long.
func quoted(s string) string {
	const most = 100
	text := []rune(oneLine(strings.Trim(s, "\n")))
	if len(text) > most {
		text = append(text[:most], '…')
	}
	return `"` + string(text) + `"`
}

// Diff writes what becomes of a file as a unified diff that patch -p0 takes. Lines that show says otherwise
// than they are, such as those with secrets, patch would put into the file as they are shown: where they
// stand around a change they are left out, and changes of them stand above the diff, where patch reads
// nothing. It returns how many.
func Diff(w io.Writer, p Paint, path, old, new string, show func(string) string) (apart int, err error) {
	differs := func(line string) bool { text := strings.TrimSuffix(line, "\n"); return show(text) != text }
	edits := udiff.Lines(old, new)
	var lines []string
	for around := 3; around >= 0; around-- {
		text, err := udiff.ToUnified(path, path, old, edits, around)
		if err != nil {
			return 0, err
		}
		lines = strings.SplitAfter(text, "\n")
		if !slices.ContainsFunc(lines, func(line string) bool {
			return strings.HasPrefix(line, " ") && differs(line)
		}) {
			break
		}
	}
	var hunks [][]string
	for _, line := range lines[2:] {
		if strings.HasPrefix(line, "@@") {
			hunks = append(hunks, nil)
		}
		if n := len(hunks); line != "" {
			hunks[n-1] = append(hunks[n-1], line)
		}
	}
	hunks = slices.DeleteFunc(hunks, func(h []string) bool {
		if !slices.ContainsFunc(h, differs) {
			return false
		}
		for _, line := range h[1:] {
			if line[0] == '-' || line[0] == '+' {
				fmt.Fprintln(w, p.Faint("# "+show(path)+": "+show(strings.TrimSuffix(line, "\n"))))
				apart++
			}
		}
		return true
	})
	if len(hunks) == 0 {
		return apart, nil
	}
	fmt.Fprintf(w, "--- %s\n+++ %s\n", show(path), show(path))
	for _, h := range hunks {
		fmt.Fprintln(w, p.Faint(header(h)))
		for _, line := range h[1:] {
			text := strings.TrimSuffix(line, "\n")
			switch line[0] {
			case '-':
				text = p.Bad(text)
			case '+':
				text = p.Good(text)
			}
			fmt.Fprintln(w, text)
		}
	}
	return apart, nil
}

// header returns the header of a hunk with counts that are right also where one side has no line: its number
// is that of the line before then.
func header(hunk []string) string {
	var old, new, had, has int
	_, right, _ := strings.Cut(hunk[0], "+")
	fmt.Sscanf(hunk[0], "@@ -%d", &old)
	fmt.Sscanf(right, "%d", &new)
	for _, line := range hunk[1:] {
		switch line[0] {
		case '-':
			had++
		case '+':
			has++
		case ' ':
			had++
			has++
		}
	}
	if had == 0 {
		old--
	}
	if has == 0 {
		new--
	}
	return fmt.Sprintf("@@ -%d,%d +%d,%d @@", old, had, new, has)
}
