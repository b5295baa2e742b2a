package check

import (
	"fmt"

	"proudlantern.example/lantern/core/source"
)

var lifecycleRules = []Rule{
	{
		Name: "restart-never", Severity: Note, Needs: Files,
		Title:   "a service with a page that is never started again",
		Text:    "After an error, or a restart of the machine, its page is gone until somebody notices.",
		Mistake: "restart = \"no\"\npage = \"8080/\"",
		Mended:  "restart = \"unless-stopped\"\npage = \"8080/\"",
		Find: func(in *Input) {
			for _, s := range in.services() {
				if s.Page != nil && s.Restart.Policy == "no" {
					in.report(s, source.Problem{
						At: s.Page.At,
						Message: s.FullName() +
							" has a page, and restart = \"no\" leaves it down after an error or " +
							"a restart of the machine",
					})
				}
			}
		},
	}, {
		Name: "restart-loops", Severity: Warning, Needs: Files,
		Title:   "a job that others wait for to be done, and that is started again whenever it ends",
		Text:    "It is never done: the engine starts it again, and services that wait for it may wait forever.",
		Mistake: `after = ["job done"]    # and job has restart = "unless-stopped"`,
		Mended:  `restart = "on-failure 3"    # of job`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, a := range s.After {
					if p := a.Service.Restart.Policy; a.Done && (p == "always" || p == "unless-stopped") {
						in.report(s, source.Problem{
							At: a.At,
							Message: fmt.Sprintf(
								"%s is started again whenever it ends (restart %s), so it is never done",
								nameIn(s.Stack, a.Service), p),
						})
					}
				}
			}
		},
	}, {
		Name: "ready-unreachable", Severity: Error, Needs: Files,
		Title: "ready by http or tcp of a service without a network",
		Text: "It cannot be reached there, so it would never count as ready. Use a command " +
			"inside, or a line of its log.",
		Mistake: "network = \"none\"\nready = { tcp = 8080 }",
		Mended:  "network = \"none\"\nready = { log = \"open for readings\" }",
		Find: func(in *Input) {
			for _, s := range in.services() {
				alone := s.NetworkMode == "none" || s.NetworkOf != nil && s.NetworkOf.NetworkMode == "none"
				if y := s.Ready; alone && y != nil && (y.HTTP != nil || y.TCP > 0) {
					in.report(s, source.Problem{
						At:      y.At,
						Message: s.FullName() + " has no network, so no port of it can be reached",
					})
				}
			}
		},
	},
}
