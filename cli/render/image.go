package render

import (
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/docker/go-units"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/survey"
)

// imageFact is a line of the table of images: what it is about, and what is to be said of an image.
type imageFact struct {
	name string
	of   func(app.ImageFacts) []string // each by itself
}

// How images are laid out, in letters: the names of facts, and how narrow a column may be.
const (
	factWidth   = 11
	leastImage  = 34
	widestImage = 70
	mostTagsNow = 8 // tags that are shown
)

// ImageFacts writes what is known of images, as many side by side as there is room for.
func ImageFacts(w io.Writer, p Paint, images []app.ImageFacts, platform string, now time.Time) {
	facts := imageFacts(p, platform, now)
	abreast := max(1, (p.width-factWidth-2)/(leastImage+2))
	for i := 0; i < len(images); i += abreast {
		if i > 0 {
			fmt.Fprintln(w)
		}
		some := images[i:min(i+abreast, len(images))]
		width := math.MaxInt // where there is no terminal, lines stay whole
		if p.width > 0 {
			width = min(widestImage, (p.width-factWidth-2)/len(some)-2)
		}
		imageBlock(w, p, some, facts, width)
	}
}

func imageBlock(w io.Writer, p Paint, images []app.ImageFacts, facts []imageFact, width int) {
	line := func(name string, cells [][]string) {
		for row := range slices.Max(lengths(cells)) {
			var b strings.Builder
			fmt.Fprintf(&b, "  %s", p.Faint(fmt.Sprintf("%-*s", factWidth, name)))
			for i, cell := range cells {
				text := ""
				if row < len(cell) {
					text = cell[row]
				}
				b.WriteString(text)
				if i < len(cells)-1 {
					b.WriteString(strings.Repeat(" ", max(0, width-ansi.StringWidth(text)+2)))
				}
			}
			fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
			name = ""
		}
	}
	var heads [][]string
	for _, i := range images {
		var rows []string
		for _, row := range wrap(Harmless(i.Reference), width) {
			rows = append(rows, p.Head(row))
		}
		heads = append(heads, rows)
	}
	line("", heads)
	for _, f := range facts {
		cells, some := make([][]string, len(images)), false
		for i, image := range images {
			for _, text := range f.of(image) {
				cells[i] = append(cells[i], wrap(inCell(text), width)...)
			}
			some = some || len(cells[i]) > 0
		}
		if some {
			line(f.name, cells)
		}
	}
}

func lengths(cells [][]string) []int {
	n := []int{1}
	for _, c := range cells {
		n = append(n, len(c))
	}
	return n
}

// imageFacts are what is told of an image, the most important first.
func imageFacts(p Paint, platform string, now time.Time) []imageFact {
	one := func(text string) []string {
		if text == "" {
			return nil
		}
		return []string{text}
	}
	return []imageFact{
		{"found", func(i app.ImageFacts) []string { return imageFound(p, i, platform != "") }},
		{"about", func(i app.ImageFacts) []string {
			if i.Card != nil && i.Card.About != "" {
				return one(i.Card.About)
			}
			return one(i.About())
		}},
		{"made for", func(i app.ImageFacts) []string {
			text := strings.Join(i.Platforms, ", ")
			if !i.Fits {
				text += p.Bad("  not " + platform)
			}
			return one(text)
		}},
		{"size", func(i app.ImageFacts) []string {
			if i.Size == 0 {
				return nil
			}
			if i.Source == survey.FromRegistry {
				return one(units.HumanSize(float64(i.Size)) + p.Faint(" to pull"))
			}
			return one(units.HumanSize(float64(i.Size)))
		}},
		{"made", func(i app.ImageFacts) []string {
			if i.Created.IsZero() || i.Created.Year() < 1990 { // builds that are the same each time say 1970
				return nil
			}
			return one(ago(now.Sub(i.Created)) + p.Faint(" ago, "+i.Created.Format(time.DateOnly)))
		}},
		{"ports", func(i app.ImageFacts) []string { return one(strings.Join(i.Ports, ", ")) }},
		{"data", func(i app.ImageFacts) []string { return i.Volumes }},
		{"user", func(i app.ImageFacts) []string {
			if i.User == "" && i.Source != survey.Absent && i.Source != "" {
				return one("root" + p.Faint(" (it names none)"))
			}
			return one(i.User)
		}},
		{"variables", func(i app.ImageFacts) []string {
			var all []string
			for _, name := range slices.Sorted(maps.Keys(i.Env)) {
				all = append(all, name+p.Faint("="+i.Env[name]))
			}
			return all
		}},
		{"starts", func(i app.ImageFacts) []string { return one(strings.Join(slices.Concat(i.Entrypoint, i.Command), " ")) }},
		{"tags", func(i app.ImageFacts) []string { return imageTags(p, i) }},
		{"links", func(i app.ImageFacts) []string {
			var all []string
			for _, l := range []string{i.Links.URL, i.Links.Documentation, i.Links.Source} {
				if l != "" && !slices.Contains(all, p.Link(l)) {
					all = append(all, p.Link(l))
				}
			}
			return all
		}},
		{"card", func(i app.ImageFacts) []string { return cardLines(p, i.Card) }},
		{"digest", func(i app.ImageFacts) []string { return one(p.Faint(shortDigest(i.Digest))) }},
		{"near", func(i app.ImageFacts) []string { return i.Near }},
		{"not known", func(i app.ImageFacts) []string { return one(p.Look(i.Unknown)) }},
	}
}

func imageFound(p Paint, i app.ImageFacts, engine bool) []string {
	switch i.Source {
	case survey.FromEngine:
		return []string{p.Good("on the host")}
	case survey.FromRegistry:
		if !engine {
			return []string{p.Good("in its registry")}
		}
		return []string{p.Good("in its registry") + p.Faint(", not on the host")}
	case survey.Absent:
		return []string{p.Bad("nowhere")}
	}
	return []string{p.Look("not known")}
}

// imageTags are the newest tags; those that move are marked.
func imageTags(p Paint, i app.ImageFacts) []string {
	var words []string
	for n, t := range i.Tags {
		if n == mostTagsNow && len(i.Tags) > mostTagsNow+1 {
			words = append(words, p.Faint(fmt.Sprintf("and %d more", len(i.Tags)-n)))
			break
		}
		word := t.Tag
		if t.Moves {
			word += p.Look(" (moves)")
		}
		words = append(words, word)
	}
	if words == nil {
		return nil
	}
	return []string{strings.Join(words, ", ")}
}

// shortDigest shortens a digest for the eye.
func shortDigest(digest string) string {
	algorithm, hex, ok := strings.Cut(digest, ":")
	if !ok {
		return digest
	}
	return algorithm + ":" + hex[:min(12, len(hex))]
}

// cardLines are what a card says of an image.
func cardLines(p Paint, c *app.ImageCard) []string {
	if c == nil {
		return nil
	}
	from := c.From
	if from == app.FromRegistry {
		from = "beside it in its registry"
	}
	lines := []string{p.Good(from)}
	add := func(name string, parts ...string) {
		parts = slices.DeleteFunc(parts, func(s string) bool { return s == "" })
		if len(parts) > 0 {
			name += p.Faint("  " + strings.Join(parts, "; "))
		}
		lines = append(lines, name)
	}
	flag := func(is bool, word string) string {
		if is {
			return word
		}
		return ""
	}
	for _, port := range c.Ports {
		add("port "+port.Port, port.About, flag(port.Page != "", "a page"), flag(port.Optional, "optional"))
	}
	for _, d := range c.Data {
		add(d.Path, d.About, flag(d.Keep, "keep it"), flag(d.ReadOnly, "read-only"), flag(d.Optional, "optional"))
	}
	for _, v := range c.Variables {
		is := strings.ReplaceAll(strings.TrimSuffix(v.Is, "-of"), "-", " ")
		if v.Is == declare.IsWire {
			is = "leads to " + v.Of
		} else if v.Of != "" {
			is += " of " + v.Of
		}
		value := flag(v.Default != "", "default "+v.Default)
		add(v.Name, v.About, is, strings.Join(v.Values, ", "), value, flag(v.Required, "required"))
	}
	if c.FirstLogin != "" {
		lines = append(lines, "first login: "+c.FirstLogin)
	}
	if c.Guide != "" {
		lines = append(lines, p.Link(c.Guide))
	}
	return lines
}
