package source

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPlaceCountsCharacters(t *testing.T) {
	f := NewFile("mast/stack.toml", "# Wächter\nabout = \"Böe am Mast\"\n")
	s := f.Span(19, 19+len("\"Böe"))
	assert.Equal(t, Place{"mast/stack.toml", 2, 9, 4}, s.Place())
	before, marked, after := s.Excerpt()
	assert.Equal(t, []string{`about = `, `"Böe`, ` am Mast"`}, []string{before, marked, after})
	assert.Equal(t, Place{"mast/stack.toml", 3, 1, 0}, f.Span(len(f.Text), len(f.Text)+9).Place(), "behind the end")
}

func TestHiddenTextIsInNoExcerpt(t *testing.T) {
	f := NewFile("a.env", "TOKEN=moon-and-tide\nLEVEL=info")
	secret := f.Span(6, 19)
	secret.Hide()
	for name, s := range map[string]Span{
		"around":         f.Span(0, 5),
		"to the letter":  secret,
		"inside":         f.Span(10, 14),
		"over its start": f.Span(3, 9),
	} {
		before, marked, after := s.Excerpt()
		for _, part := range []string{before, marked, after} {
			assert.NotContains(t, part, "moon", name)
			assert.NotContains(t, part, "tide", name)
		}
	}
	_, marked, _ := secret.Excerpt()
	assert.Equal(t, "hidden (13 characters)", marked)
	_, marked, _ = f.Span(20, 30).Excerpt()
	assert.Equal(t, "LEVEL=info", marked, "other lines stay readable")
}

func TestApply(t *testing.T) {
	f := NewFile("a", "one two three")
	one, two, three := f.Span(0, 3), f.Span(4, 7), f.Span(8, 13)
	for name, c := range map[string]struct {
		groups [][]Edit
		want   string
		n      int
	}{
		"several in one file": {[][]Edit{{{At: three, New: "3"}}, {{At: one, New: "1"}}},
			"1 two 3", 2},
		"the later of two that overlap": {[][]Edit{
			{{At: f.Span(0, 7), New: "12"}},
			{{At: two, New: "2"}},
			{{At: three, New: "3"}},
		}, "12 3", 2},
		"a group happens together": {[][]Edit{
			{{At: two, New: "2"}},
			{{At: one, New: "1"}, {At: two, New: "zwei"}},
		}, "one 2 three", 1},
		"two insertions at the same place": {[][]Edit{
			{{At: f.Span(4, 4), New: "a "}},
			{{At: f.Span(4, 4), New: "b "}},
		}, "one a two three", 1},
		"an insertion beside a replacement": {[][]Edit{{{At: one, New: "1"}}, {{At: f.Span(3, 3), New: "!"}}},
			"1! two three", 2},
	} {
		texts, n := Apply(c.groups)
		assert.Len(t, n, c.n, name)
		assert.Equal(t, c.want, texts["a"], name)
	}
	texts, n := Apply([][]Edit{nil, {}})
	assert.Empty(t, texts)
	assert.Empty(t, n)
}
