// Package merge brings the lines of several logs into the order of their times.
package merge

import (
	"container/heap"
	"iter"
	"time"
)

// Line is one line of a service's log.
type Line struct {
	Time                 time.Time
	Host, Stack, Service string
	Stderr               bool
	Text                 string // bytes as they were written
}

// Sorted merges logs of which each is in order and has an end. Lines of the same time keep the order of the
// sources.
func Sorted(sources []iter.Seq[Line]) iter.Seq[Line] {
	return func(yield func(Line) bool) {
		var next []func() (Line, bool)
		var heads queue
		for i, s := range sources {
			pull, stop := iter.Pull(s)
			defer stop()
			next = append(next, pull)
			if l, ok := pull(); ok {
				heads = append(heads, waiting{line: l, rank: i})
			}
		}
		heap.Init(&heads)
		for len(heads) > 0 {
			first := heads[0]
			if !yield(first.line) {
				return
			}
			if l, ok := next[first.rank](); ok {
				heads[0] = waiting{line: l, rank: first.rank}
				heap.Fix(&heads, 0)
			} else {
				heap.Pop(&heads)
			}
		}
	}
}

// Live holds lines that come from several sources for a moment, so that one that is older and comes later still
// goes out first.
type Live struct {
	Hold time.Duration // how long a line is held
	Most int           // how many are held; with more the oldest goes out at once

	lines queue
	count int
}

// Add takes a line that has just come.
func (l *Live) Add(line Line, now time.Time) {
	l.count++
	heap.Push(&l.lines, waiting{line: line, rank: l.count, came: now})
}

// Take returns the next line that goes out now; false when there is none yet.
func (l *Live) Take(now time.Time) (Line, bool) {
	if len(l.lines) == 0 || len(l.lines) <= l.Most && now.Sub(l.lines[0].came) < l.Hold {
		return Line{}, false
	}
	return heap.Pop(&l.lines).(waiting).line, true
}

// Flush returns the next line, however short it was held.
func (l *Live) Flush() (Line, bool) {
	if len(l.lines) == 0 {
		return Line{}, false
	}
	return heap.Pop(&l.lines).(waiting).line, true
}

// waiting is a line with its place among those of the same time.
type waiting struct {
	line Line
	rank int
	came time.Time
}

type queue []waiting

func (q queue) Len() int { return len(q) }

func (q queue) Less(i, j int) bool {
	if c := q[i].line.Time.Compare(q[j].line.Time); c != 0 {
		return c < 0
	}
	return q[i].rank < q[j].rank
}

func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }

func (q *queue) Push(x any) { *q = append(*q, x.(waiting)) }

func (q *queue) Pop() any {
	last := (*q)[len(*q)-1]
	(*q)[len(*q)-1] = waiting{}
	*q = (*q)[:len(*q)-1]
	return last
}
