package merge

import (
	"fmt"
	"iter"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

var noon = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func at(second int, service string) Line {
	return Line{Time: noon.Add(time.Duration(second) * time.Second), Service: service}
}

func words(lines iter.Seq[Line]) (out []string) {
	for l := range lines {
		out = append(out, fmt.Sprintf("%s%d", l.Service, int(l.Time.Sub(noon).Seconds())))
	}
	return out
}

func TestSorted(t *testing.T) {
	a := slices.Values([]Line{at(1, "a"), at(3, "a"), at(3, "a"), at(9, "a")})
	b := slices.Values([]Line{at(0, "b"), at(3, "b"), at(4, "b")})
	none := slices.Values([]Line{})
	assert.Equal(t, []string{"b0", "a1", "a3", "a3", "b3", "b4", "a9"}, words(Sorted([]iter.Seq[Line]{a, none, b})))
	for l := range Sorted([]iter.Seq[Line]{a, b}) {
		assert.Equal(t, "b", l.Service)
		break // ends the sources, too
	}
}

// A line goes out when it was held for long enough, in front of younger ones; with too many the oldest goes at
// once.
func TestLive(t *testing.T) {
	l := Live{Hold: time.Second, Most: 3}
	take := func(now time.Time) []string {
		return words(func(yield func(Line) bool) {
			for one, ok := l.Take(now); ok && yield(one); one, ok = l.Take(now) {
			}
		})
	}
	l.Add(at(2, "a"), noon)
	l.Add(at(1, "b"), noon.Add(900*time.Millisecond))
	assert.Empty(t, take(noon.Add(1200*time.Millisecond)), "a waits for b, which is older")
	l.Add(at(2, "c"), noon.Add(1300*time.Millisecond))
	assert.Equal(t, []string{"b1", "a2"}, take(noon.Add(2*time.Second)))
	for i := range 4 {
		l.Add(at(10-i, "d"), noon.Add(2*time.Second))
	}
	assert.Equal(t, []string{"c2", "d7"}, take(noon.Add(2*time.Second)))
	rest := words(func(yield func(Line) bool) {
		for one, ok := l.Flush(); ok && yield(one); one, ok = l.Flush() {
		}
	})
	assert.Equal(t, []string{"d8", "d9", "d10"}, rest)
}
