package chart

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"proudlantern.example/lantern/core/sites"
)

// No text of a picture of visits meets another one, all stands in its panel, and a bar is as high as its number says.
func TestDrawVisits(t *testing.T) {
	long := sites.Visits{Site: "a-name-of-a-domain-that-is-as-long-as-nobody-would-write-it.rooms.skerry.example/and/a/path", Requests: 1234567, Visitors: 4321, Bytes: 5e12,
		Errors: 99, Statuses: map[string]int{"101": 1, "200": 1234000, "308": 400, "404": 68, "502": 99, "odd": 1}}
	for i := range 10 {
		long.Paths = append(long.Paths, sites.PathCount{Path: fmt.Sprintf("/%d/a/path/that/is/as/long/as/nobody/would/write/it", i), Requests: 100000 - i})
	}
	for h := range long.Hours {
		long.Hours[h] = h * 10
	}
	none := sites.Visits{Site: "skerry.example"}
	for _, all := range [][]sites.Visits{nil, {none}, {long}, {long, none, long}} {
		d := DrawVisits("Visits of skerry-light", "requests by the hour of the day", all, everyLetter)
		page := rectangle{0, 0, d.Width, d.Height}
		for i, a := range d.Texts {
			assert.True(t, page.holds(textArea(a)), a.Text)
			for _, b := range d.Texts[:i] {
				assert.False(t, textArea(a).meets(textArea(b)), "%q and %q", a.Text, b.Text)
			}
		}
		for _, b := range d.Boxes {
			assert.True(t, page.holds(boxArea(b)), "%+v", b)
		}
	}
	d := DrawVisits("", "", []sites.Visits{long}, everyLetter)
	var highs []float64
	for _, b := range d.Boxes {
		if b.W > 10 && b.W < 30 && (b.Kind == BoxBar || b.Kind == BoxPeak) {
			highs = append(highs, b.H)
		}
	}
	assert.Len(t, highs, 23, "a bar for each hour in which somebody was there")
	assert.InDelta(t, 23, highs[22]/highs[0], 0.01)
	for n, want := range map[int]int{0: 2, 2: 2, 3: 4, 7: 10, 11: 20, 150: 200, 401: 600, 999: 1000} {
		assert.Equal(t, want, niceAbove(n), n)
	}
}
