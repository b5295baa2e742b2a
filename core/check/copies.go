package check

import (
	"fmt"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

var copyRules = []Rule{
	{
		Name: "copies-ports", Severity: Error, Needs: Files, Mends: true, Rests: Holders,
		Title: "a service with several copies has not a host port for each",
		Text: "Two containers cannot have one port of the host. A range of as many ports as there are copies gives each its own; " +
			"behind a gate, or for neighbours, no port is needed.",
		Mistake: "copies = 3\nports = [\"8790 -> 80\"]",
		Mended:  "copies = 3\nports = [\"8790-8792 -> 80\"]",
		Find: func(in *Input) {
			eachOfCopies(in, func(s *lab.Service, n int, at source.Span) {
				for _, p := range s.Ports {
					if p.Host.First == 0 || p.Container.Count() == 1 && p.Host.Count() == n {
						continue
					}
					in.report(s, source.Problem{
						At: p.HostAt,
						Message: fmt.Sprintf("%s has %d copies, and %s of the host for port %s: each copy needs one of its own",
							s.FullName(), n, declare.Counted(p.Host.Count(), "port"), p.Container),
						Because: []source.Because{{Text: "copies", At: at}},
						Mend:    rangeFor(in, s, p, n),
					})
				}
			})
		},
	}, {
		Name: "copies-writers", Severity: Warning, Needs: Files,
		Title: "all copies of a service write the same folder or volume",
		Text: "A store that finds its files changed by somebody else loses data. What several copies may share is read-only, or made " +
			"for that; a store of its own, which the copies ask, is the usual way.",
		Mistake: "copies = 3\nmounts = [\"volume readings -> /data\"]",
		Mended:  "copies = 3\nmounts = [\"volume readings -> /data, read-only\"]",
		Find: func(in *Input) {
			eachOfCopies(in, func(s *lab.Service, n int, at source.Span) {
				for _, m := range s.Mounts {
					if m.ReadOnly || m.Kind != declare.MountPath && m.Kind != declare.MountVolume {
						continue
					}
					in.report(s, source.Problem{
						At:      m.TargetAt,
						Message: fmt.Sprintf("all %d copies of %s write %s", n, s.FullName(), m.Target),
						Because: []source.Because{{Text: "copies", At: at}},
						Mend:    &source.Mend{Text: "read-only, or a store that the copies ask"},
					})
				}
			})
		},
	},
}

// eachOfCopies calls f for each service with several copies, with how many there are and where that stands.
func eachOfCopies(in *Input, f func(s *lab.Service, n int, at source.Span)) {
	for _, s := range in.services() {
		if s.HasCopies() {
			f(s, len(s.Copies()), s.Declared().Settings.Copies.Span)
		}
	}
}

// rangeFor offers a range in the place of a single port: an edit where all of it is free.
func rangeFor(in *Input, s *lab.Service, p lab.Port, n int) *source.Mend {
	if p.Container.Count() != 1 {
		return &source.Mend{Text: fmt.Sprintf("a line for each port, with a range of %d on its left", n)}
	}
	wanted := declare.Range{First: p.Host.First, Last: p.Host.First + n - 1}
	mend := &source.Mend{Text: fmt.Sprintf("%s -> %s", wanted, p.Container)}
	if wanted.Last > 65535 || p.HostAt.Text() != p.Host.String() || !s.Stack.Host.Survey.SeesHolders() {
		return mend
	}
	for _, u := range in.Lab.Ports(s.Stack.Host) {
		if u.Port >= wanted.First && u.Port <= wanted.Last && !(u.Port >= p.Host.First && u.Port <= p.Host.Last) {
			mend.Text = fmt.Sprintf("a range of %d free ports", n)
			return mend
		}
	}
	mend.Edits = []source.Edit{{At: p.HostAt, New: wanted.String()}}
	return mend
}
