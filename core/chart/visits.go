package chart

import (
	"fmt"
	"math"
	"slices"
	"strconv"

	"proudlantern.example/lantern/core/sites"
)

// Kinds of the boxes of a picture of visits.
const (
	BoxPanel = "stack" // one site, as the stacks of a map
	BoxBar   = "bar"
	BoxPeak  = "peak" // the bar of the busiest hour
	BoxRule  = "rule"
)

// Sizes of a picture of visits, in pixels.
const (
	panelWidth = 940.0
	chartHigh  = 150.0
	barsWide   = 560.0
	listWide   = panelWidth - barsWide - 3*20
	panelPad   = 20.0
	lineHigh   = 20.0
	mostListed = 6
)

// DrawVisits lays out what access logs tell: a panel for each site, with the hours of the day, the answers and the paths
// that are asked for most.
func DrawVisits(title, when string, all []sites.Visits, measure Measure) Drawing {
	d := Drawing{Width: panelWidth + 2*margin}
	v := visitsPage{Drawing: &d, measure: measure}
	for _, one := range all {
		v.label = max(v.label, measure(short(niceAbove(slices.Max(one.Hours[:]))), smallSize, false)+8)
	}
	y := margin + titleSize
	v.text(margin, y, titleSize, true, Ink, title, panelWidth)
	y += lineHigh
	v.text(margin, y, nameSize, false, Faint, when, panelWidth)
	y += gap
	for _, one := range all {
		y = v.panel(y, one) + gap
	}
	d.Height = y + margin - gap
	return d
}

// visitsPage is a picture that is being laid out.
type visitsPage struct {
	*Drawing
	measure Measure
	label   float64 // how wide the numbers beside the hours are, in all panels
}

func (v visitsPage) text(x, y, size float64, bold bool, tone Tone, whole string, most float64) {
	shown := whole
	for letters := []rune(whole); v.measure(shown, size, bold) > most && len(letters) > 1; {
		letters = letters[:len(letters)-1]
		shown = string(letters) + "…"
	}
	v.Texts = append(v.Texts, Text{X: x, Y: y, W: v.measure(shown, size, bold), Size: size, Bold: bold, Tone: tone, Text: shown, Whole: whole})
}

func (v visitsPage) right(x, y, size float64, tone Tone, text string) {
	v.text(x-v.measure(text, size, false), y, size, false, tone, text, math.Inf(1))
}

func (v visitsPage) box(kind string, x, y, w, h float64) {
	v.Boxes = append(v.Boxes, Box{X: x, Y: y, W: w, H: h, Kind: kind})
}

// panel lays a site out, and returns where it ends.
func (v visitsPage) panel(top float64, one sites.Visits) float64 {
	at := len(v.Boxes)
	v.box(BoxPanel, margin, top, panelWidth, 0)
	left, y := margin+panelPad, top+panelPad+headSize
	v.text(left, y, headSize, true, Ink, one.Site, barsWide)
	y += lineHigh + 2
	if one.Requests == 0 {
		v.text(left, y, nameSize, false, Faint, "nobody was there", barsWide)
		v.Boxes[at].H = y + panelPad - top
		return y + panelPad
	}
	sum := counted(one.Requests, "request") + ", " + counted(one.Visitors, "visitor") + ", " + Amount(one.Bytes)
	v.text(left, y, nameSize, false, Faint, sum, barsWide)
	if one.Errors > 0 {
		v.text(left+v.measure(sum+"  ", nameSize, false), y, nameSize, true, Error, counted(one.Errors, "error"), barsWide)
	}
	y += 2 * gap
	bottom := v.hours(left, y, one)
	list := v.lists(margin+panelWidth-panelPad-listWide, top+panelPad+headSize, one)
	end := max(bottom, list) + panelPad
	v.Boxes[at].H = end - top
	return end
}

// hours draws the requests by the hour of the day, with a scale.
func (v visitsPage) hours(left, top float64, one sites.Visits) float64 {
	most, peak := 0, 0
	for h, n := range one.Hours {
		if n > most {
			most, peak = n, h
		}
	}
	scale := niceAbove(most)
	x0, wide := left+v.label, barsWide-v.label
	for i := range 3 {
		y := top + chartHigh*float64(i)/2
		v.box(BoxRule, x0, y-0.5, wide, 1)
		v.right(x0-8, y+4, smallSize, Faint, short(scale*(2-i)/2))
	}
	step := wide / 24
	for h, n := range one.Hours {
		high := chartHigh * float64(n) / float64(scale)
		if n > 0 {
			kind := BoxBar
			if h == peak {
				kind = BoxPeak
			}
			high = max(high, 2)
			v.box(kind, x0+step*float64(h)+step*0.16, top+chartHigh-high, step*0.68, high)
		}
		if h%3 == 0 {
			text := fmt.Sprintf("%02d", h)
			v.text(x0+step*(float64(h)+0.5)-v.measure(text, smallSize, false)/2, top+chartHigh+15, smallSize, false, Faint, text, step*3)
		}
	}
	return top + chartHigh + 18
}

// lists draws the answers and the paths that are asked for most.
func (v visitsPage) lists(x, y float64, one sites.Visits) float64 {
	classes := []struct {
		what string
		tone Tone
		n    int
	}{{"answered", Way, 0}, {"sent elsewhere, or unchanged", Faint, 0}, {"refused or not found", Warning, 0}, {"errors", Error, 0}}
	for status, n := range one.Statuses {
		if s, err := strconv.Atoi(status); err == nil && s >= 200 {
			classes[min(s/100, 5)-2].n += n
		}
	}
	y += 2
	for _, c := range classes {
		if c.n == 0 {
			continue
		}
		v.text(x, y, nameSize, false, c.tone, c.what, listWide-70)
		v.right(x+listWide, y, nameSize, c.tone, short(c.n))
		y += lineHigh
	}
	y += 8
	for _, p := range one.Paths[:min(len(one.Paths), mostListed)] {
		share := float64(p.Requests) / float64(max(one.Paths[0].Requests, 1))
		v.box(BoxRule, x, y+4, listWide, 2)
		v.box(BoxBar, x, y+4, max(2, listWide*share), 2)
		v.text(x, y, nameSize, false, Ink, p.Path, listWide-64)
		v.right(x+listWide, y, nameSize, Faint, short(p.Requests))
		y += lineHigh + 4
	}
	return y - lineHigh + 4
}

// niceAbove is a number that a scale of two steps ends with well, from so many on.
func niceAbove(n int) int {
	for scale := 2; ; scale *= 10 {
		for _, by := range []int{1, 2, 3, 5} {
			if scale*by >= n {
				return scale * by
			}
		}
	}
}

func counted(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return short(n) + " " + what
}

// short writes a number so that a person takes it in.
func short(n int) string {
	text := strconv.Itoa(n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + " " + text[i:] // a thin no-break space
	}
	return text
}

// Amount writes so many bytes.
func Amount(n int64) string {
	const units = "kMGT"
	if n < 1000 {
		return strconv.FormatInt(n, 10) + " B"
	}
	size, i := float64(n)/1000, 0
	for size >= 999.5 && i < len(units)-1 {
		size, i = size/1000, i+1
	}
	if size < 10 {
		return fmt.Sprintf("%.1f %cB", size, units[i])
	}
	return fmt.Sprintf("%.0f %cB", size, units[i])
}
