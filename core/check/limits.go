package check

import (
	"fmt"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

var limitRules = []Rule{
	{
		Name: "log-unbounded", Severity: Warning, Needs: Host,
		Title:   "a log without any limit, on an engine that has none of its own",
		Text:    "It grows until the disk is full, and then everything on the host stops.",
		Mistake: `log-limit = "none"`,
		Mended:  `log-limit = "5 x 10MB"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				if e := s.Stack.Host.Survey.Engine; s.LogLimit.Files == 0 && e != nil && e.LogLimit != nil &&
					!*e.LogLimit {
					in.report(s, source.Problem{
						At: settingAt(s, "log-limit"),
						Message: "the log of " + s.FullName() + " grows without a limit, and the engine of " +
							s.Stack.Host.Name + " has none of its own",
					})
				}
			}
		},
	}, {
		Name: "capacity-memory", Severity: Note, Needs: Host,
		Title: "the memory limits of a host's services add up to more than it has",
		Text: "Limits are no reservations, so this may well work. When all need theirs at once, the " +
			"kernel ends some of them.",
		Mistake: `memory = "5GiB"    # twice, on a machine with 8 GiB`,
		Mended:  `memory = "3GiB"`,
		Find: func(in *Input) {
			sums := map[*lab.Host]int64{}
			for _, s := range in.surveyed() {
				sums[s.Stack.Host] += s.Settings.Memory
			}
			for _, h := range in.Lab.Hosts {
				if h.Survey != nil && h.Survey.Memory > 0 && sums[h] > h.Survey.Memory {
					in.reportHost(h, source.Problem{
						At: h.At,
						Message: fmt.Sprintf("the limits of the services on %s add up to %s, and it has %s",
							h.Name, bytes(sums[h]), bytes(h.Survey.Memory)),
					})
				}
			}
		},
	},
}

// bytes words an amount of memory.
func bytes(n int64) string {
	if n >= 1<<30 {
		return strings.TrimSuffix(fmt.Sprintf("%.1f", float64(n)/(1<<30)), ".0") + " GiB"
	}
	return fmt.Sprintf("%d MiB", n>>20)
}
