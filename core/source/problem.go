package source

import (
	"cmp"
	"slices"
	"strings"
)

// Problem is something wrong at a place, before anybody has decided how severe that is.
type Problem struct {
	Rule    string // the rule of the check that reports it
	Stack   string // whose it is; "" where it is the lab's
	Service string
	At      Span
	Message string // what is true, in the user's own words
	Because []Because
	Mend    *Mend // nil where there is nothing to offer
}

// Because is another place or fact that a problem rests on.
type Because struct {
	Text string
	At   Span // zero for a fact that stands in no file
}

// Mend says how to put something right; with Edits, also mechanically.
type Mend struct {
	Text  string
	Edits []Edit
	// MakeUp is a value in whose place a random one belongs: who applies mends makes it up. Zero: none.
	MakeUp Span
}

// Edit replaces the bytes that At marks by New.
type Edit struct {
	At  Span
	New string
	// Shown is what may be shown of New where a secret is in it; "" for all of it.
	Shown string
}

// Says returns what may be shown of the new text.
func (e Edit) Says() string { return cmp.Or(e.Shown, e.New) }

// Replace returns a mend with a single edit.
func Replace(at Span, with, text string) *Mend {
	return &Mend{Text: text, Edits: []Edit{{At: at, New: with}}}
}

// Apply carries out edits and returns the new text of each file that changes, by path. All edits refer to the
// texts as they are. An edit that overlaps an earlier one (by place, then by order) is left for a next round,
// and so are the others of its group: the edits of one mend happen together or not at all. The second result
// has the numbers of the groups applied.
func Apply(groups [][]Edit) (texts map[string]string, applied []int) {
	taken := map[*File][]Edit{}
	for n, group := range groups {
		if len(group) == 0 ||
			slices.ContainsFunc(group, func(e Edit) bool { return overlapsAny(taken[e.At.File], e) }) {
			continue
		}
		for _, e := range group {
			taken[e.At.File] = append(taken[e.At.File], e)
		}
		applied = append(applied, n)
	}
	texts = map[string]string{}
	for file, edits := range taken {
		slices.SortStableFunc(edits, func(a, b Edit) int { return cmp.Compare(a.At.Start, b.At.Start) })
		var b strings.Builder
		at := 0
		for _, e := range edits {
			b.WriteString(file.Text[at:e.At.Start])
			b.WriteString(e.New)
			at = e.At.End
		}
		b.WriteString(file.Text[at:])
		texts[file.Path] = b.String()
	}
	return texts, applied
}

// overlapsAny reports whether e touches bytes of another edit, or inserts where another one inserts: then the
// order of the two would be a guess.
func overlapsAny(edits []Edit, e Edit) bool {
	return slices.ContainsFunc(edits, func(o Edit) bool {
		if e.At.Start == o.At.Start {
			return true
		}
		return e.At.Start < o.At.End && o.At.Start < e.At.End
	})
}
