package declare

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/source"
)

// A card that somebody has made to do harm is a finding, and is not used.
func TestHostileCards(t *testing.T) {
	const card = "card = \"registry.skerry.example/desk\"\n"
	for name, text := range map[string]string{
		"huge":                 card + strings.Repeat("# so it goes\n", MostCard/8),
		"deep lists":           card + "about = " + strings.Repeat("[", 20_000) + strings.Repeat("]", 20_000),
		"deep tables":          card + strings.Repeat("a.", 5_000) + "b = 1\n",
		"a deep header":        card + "[" + strings.Repeat("a.", 5_000) + "b]\n",
		"many entries":         card + "values = [" + strings.Repeat("1,", 20_000) + "]\n",
		"many variables":       card + manyVariables(MostEntries+1),
		"an escape":            card + "about = \"a\\u001b[2J\"\n",
		"an override":          card + "about = \"a\\u202eb\"\n",
		"an escape in a path":  card + "[data.\"/a\\u001b\"]\n",
		"no UTF-8":             card + "about = \"\xff\"\n",
		"a reference":          card + "[variable.A]\ndefault = \"${shell.HOME}\"\n",
		"a reference in ready": card + "ready = { command = [\"${shell.HOME}\"] }\n",
		"wrong types":          card + "port = 1\ndata = []\nvariable = \"a\"\nready = 5\nanswers-to = \"a\"\n",
		"not a card":           "lab = \"skerry-light\"\n",
		"nothing":              "",
	} {
		c, problems := ParseCard(source.NewFile("cards/a.toml", text))
		assert.Nil(t, c, name)
		require.NotEmpty(t, problems, name)
		for _, p := range problems {
			assert.Equal(t, "card-invalid", p.Rule, name)
		}
	}
}

func manyVariables(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString("[variable.A" + strings.Repeat("b", i%7) + string(rune('A'+i%26)) + strings.Repeat("c", i/26) + "]\n")
	}
	return b.String()
}

// Which card is an image's.
func TestCardOf(t *testing.T) {
	parse := func(text string) *Card {
		c, problems := ParseCard(source.NewFile("cards/a.toml", text))
		require.Empty(t, problems, text)
		return c
	}
	all := parse("card = \"registry.skerry.example/desk\"\n")
	two := parse("card = \"registry.skerry.example/desk\"\nversions = \">= 2, < 3\"\n")
	short := parse("card = \"store\"\n")
	cards := []*Card{all, two, short}
	for image, want := range map[string]*Card{
		"registry.skerry.example/desk": all, "registry.skerry.example/desk:1.9": all, "registry.skerry.example/desk:2.0": two,
		"registry.skerry.example/desk:2.9.1-small": two, "registry.skerry.example/desk:3": all, "registry.skerry.example/desk:latest": all,
		"registry.skerry.example/desk@sha256:" + strings.Repeat("a", 64): all, "registry.skerry.example/desks:2": nil,
		"store:4": short, "elsewhere.example/store:4": nil, "not A name": nil, "": nil,
	} {
		assert.Same(t, want, CardOf(cards, image), image)
	}
}
