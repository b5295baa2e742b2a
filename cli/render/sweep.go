package render

import (
	"fmt"
	"io"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/deploy/observe"
)

// Sweep writes what could go, and what that would free.
func Sweep(w io.Writer, p Paint, list []observe.Sweepable) {
	if len(list) == 0 {
		fmt.Fprintln(w, p.Good("nothing to remove"))
		return
	}
	var rows [][]string
	var sum int64
	for _, s := range list {
		name, size := s.Name, ""
		switch s.Kind {
		case observe.SweepImage, observe.SweepVolume:
			name, size = short(s.Name), "?"
			if s.Bytes >= 0 {
				size = units.HumanSize(float64(s.Bytes))
				sum += s.Bytes
			}
		}
		rows = append(rows, []string{s.Host, s.Kind, name, size, p.Faint(s.About)})
	}
	columns(w, p, []string{"host", "what", "name", "frees", "why"}, rows)
	fmt.Fprintf(w, "together at most %s; images share layers, so it may be less\n", units.HumanSize(float64(sum)))
}
