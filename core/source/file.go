// Package source holds files as text with positions: spans, excerpts, problems at a place, and edits that leave
// comments and layout alone.
package source

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"unicode/utf8"

	"proudlantern.example/lantern/core/secret"
)

// File is one text file of a lab.
type File struct {
	Path string // relative to the lab, with forward slashes
	Text string

	lines  []int // offsets of line starts, made on first use
	mu     sync.Mutex
	hidden []Span // under mu
}

// NewFile returns the file with that path and text.
func NewFile(path, text string) *File { return &File{Path: path, Text: text} }

// Span marks part of a file: the bytes from Start up to, not including, End. The zero Span marks nothing.
type Span struct {
	File       *File
	Start, End int
}

// Span returns the span of the file's bytes from start to end, moved inside the file where it is not.
func (f *File) Span(start, end int) Span {
	start = min(max(start, 0), len(f.Text))
	return Span{f, start, min(max(end, start), len(f.Text))}
}

// All returns the span of the whole file.
func (f *File) All() Span { return Span{f, 0, len(f.Text)} }

// IsZero reports whether the span marks nothing.
func (s Span) IsZero() bool { return s.File == nil }

// Text returns the marked text, secrets included: for computing, not for showing.
func (s Span) Text() string {
	if s.File == nil {
		return ""
	}
	return s.File.Text[s.Start:s.End]
}

// Place is a span as people count: line and column from 1, column and length in characters.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Length int    `json:"length"`
}

// String returns "file:line:column".
func (p Place) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Place returns the span in lines and characters. A span over several lines has the length of its first
// line's part.
func (s Span) Place() Place {
	if s.File == nil {
		return Place{}
	}
	line := s.File.line(s.Start)
	start := s.File.lineStarts()[line]
	marked := s.Text()
	if i := strings.IndexByte(marked, '\n'); i >= 0 {
		marked = marked[:i]
	}
	return Place{s.File.Path, line + 1, utf8.RuneCountInString(s.File.Text[start:s.Start]) + 1,
		utf8.RuneCountInString(marked)}
}

// Hide keeps the marked text, a secret, out of every excerpt.
func (s Span) Hide() {
	if s.File == nil {
		return
	}
	s.File.mu.Lock()
	defer s.File.mu.Unlock()
	if !slices.Contains(s.File.hidden, s) {
		s.File.hidden = append(s.File.hidden, s)
	}
}

// unquoted returns a text without the quotes around it, which are no part of a secret.
func unquoted(s string) string {
	if n := len(s); n > 1 && s[0] == s[n-1] && (s[0] == '"' || s[0] == '\'') {
		return s[1 : n-1]
	}
	return s
}

// Shown returns the marked text with what is hidden replaced.
func (s Span) Shown() string {
	if s.File == nil {
		return ""
	}
	return s.File.shown(s.Start, s.End)
}

// Hidden returns the texts that are kept out of excerpts, without quotes.
func (f *File) Hidden() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var all []string
	for _, h := range f.hidden {
		all = append(all, unquoted(h.Text()))
	}
	return all
}

// Excerpt returns the first line of the span in three parts: before the mark, marked, after it. Hidden text
// is replaced by its length in characters.
func (s Span) Excerpt() (before, marked, after string) {
	if s.File == nil {
		return "", "", ""
	}
	f := s.File
	// A mark inside of a secret is on all of it: its letters are not shown.
	f.mu.Lock()
	for _, h := range f.hidden {
		if h.Start < s.End && s.Start < h.End {
			s.Start, s.End = min(s.Start, h.Start), max(s.End, h.End)
		}
	}
	f.mu.Unlock()
	line := f.line(s.Start)
	start, end := f.lineStarts()[line], len(f.Text)
	if i := strings.IndexByte(f.Text[start:], '\n'); i >= 0 {
		end = start + i
	}
	stop := min(s.End, end)
	return f.shown(start, s.Start), f.shown(s.Start, stop),
		strings.TrimRight(f.shown(max(stop, s.Start), end), "\r")
}

// shown returns the text between two offsets with what is hidden replaced.
func (f *File) shown(start, end int) string {
	f.mu.Lock()
	hidden := slices.Clone(f.hidden)
	f.mu.Unlock()
	slices.SortFunc(hidden, func(a, b Span) int { return cmp.Compare(a.Start, b.Start) })
	var b strings.Builder
	at := start
	for _, h := range hidden {
		if h.End <= at || h.Start >= end {
			continue
		}
		b.WriteString(f.Text[at:max(h.Start, at)])
		if h.Start < start {
			b.WriteString("…") // its length was said where it begins
		} else {
			b.WriteString(secret.Mask(unquoted(h.Text())))
		}
		at = min(h.End, end)
	}
	b.WriteString(f.Text[at:max(at, end)])
	return strings.ToValidUTF8(b.String(), "\ufffd")
}

func (f *File) lineStarts() []int {
	if f.lines == nil {
		f.lines = []int{0}
		for i := range len(f.Text) {
			if f.Text[i] == '\n' {
				f.lines = append(f.lines, i+1)
			}
		}
	}
	return f.lines
}

// line returns the number of the line, from 0, that holds the offset.
func (f *File) line(offset int) int {
	starts := f.lineStarts()
	return sort.Search(len(starts), func(i int) bool { return starts[i] > offset }) - 1
}
