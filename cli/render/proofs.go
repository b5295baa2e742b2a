package render

import (
	"fmt"
	"io"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/deploy/observe"
)

// Proofs writes what was proven, service by service.
func Proofs(w io.Writer, p Paint, list []observe.Proven) {
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing is declared")
		return
	}
	var rows [][]string
	last, failed, noted := "", 0, 0
	for _, v := range list {
		who := v.Stack + "/" + v.Service
		shown := who
		if who == last {
			shown = ""
		}
		last = who
		holds := p.Good("passed")
		switch {
		case v.OK:
		case v.Decides():
			failed++
			holds = p.Bad("failed")
		default:
			noted++
			holds = p.Look("silent")
		}
		at := v.At
		if v.Detail != "" {
			at = strings.TrimSpace(at + "  " + p.Look(v.Detail))
			if v.OK && v.What == observe.ProofReady {
				at = p.Faint(v.Detail)
			}
		}
		what := v.What
		if what == observe.ProofWire {
			what = "connection"
		}
		rows = append(rows, []string{shown, what, v.Target, holds, at})
	}
	columns(w, p, []string{"service", "test", "of", "result", "seen at"}, rows)
	sum := fmt.Sprintf("%s passed", declare.Counted(len(list)-failed-noted, "test"))
	if failed > 0 {
		sum += ", " + p.Bad(fmt.Sprintf("%d failed", failed))
	}
	if noted > 0 {
		sum += fmt.Sprintf(", %s silent", declare.Counted(noted, "port"))
	}
	fmt.Fprintln(w, sum)
}
