package check

import (
	"fmt"
	"slices"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// eachFile calls f for each line of files of each service.
func eachFile(in *Input, f func(s *lab.Service, file lab.File)) {
	for _, s := range in.services() {
		for _, file := range s.Files {
			f(s, file)
		}
	}
}

var fileRules = []Rule{
	{
		Name: "files-missing", Severity: Error, Needs: Files,
		Title: "a file that goes into the container is not there, or cannot be read",
		Text: "What files names stands in the stack's folder, and no link leads out of the lab. One line brings at most " +
			"10,000 files and 64 MiB.",
		Mistake: `files = ["./dask.conf -> /etc/desk.conf"]    # the folder has desk.conf`,
		Mended:  `files = ["./desk.conf -> /etc/desk.conf"]`,
		Find:    resolverFinds,
	}, {
		Name: "files-secret", Severity: Warning, Needs: Files, Mends: true,
		Title: "a secret is filled into a file that others may read",
		Text: "Every process inside the container can read it there, also one that an attacker runs as somebody else. " +
			"Without a mode, a file with a secret is its owner's alone.",
		Mistake: `files = ["./desk.conf -> /etc/desk.conf, fill, mode 0644"]    # it says password = ${store-password}`,
		Mended:  `files = ["./desk.conf -> /etc/desk.conf, fill, mode 0640"]`,
		Find: func(in *Input) {
			eachFile(in, func(s *lab.Service, f lab.File) {
				if f.Mode != nil && *f.Mode&0o004 != 0 && f.Secret() {
					in.report(s, source.Problem{
						At: f.ModeAt,
						Message: fmt.Sprintf("everybody inside may read %s, and a secret is filled into it: its mode is %04o",
							f.Target, *f.Mode),
						Mend: source.Replace(f.ModeAt, fmt.Sprintf("mode %04o", *f.Mode&^0o007), "nobody else reads it"),
					})
				}
			})
		},
	}, {
		Name: "files-place", Severity: Error, Needs: Host,
		Title: "a file goes to a place that cannot take it",
		Text: "What is put below a mount would change what is mounted, while the old container still runs; a file system in " +
			"memory is empty at every start; and not every engine puts files into a container whose root file system cannot be written.",
		Mistake: `mounts = ["/srv/skerry/mast -> /etc/desk"]
files = ["./desk.conf -> /etc/desk/desk.conf"]`,
		Mended: `mounts = ["/srv/skerry/mast -> /data"]
files = ["./desk.conf -> /etc/desk/desk.conf"]`,
		Find: filesPlace,
	},
}

func filesPlace(in *Input) {
	eachFile(in, func(s *lab.Service, f lab.File) {
		for _, m := range s.Mounts {
			if !declare.Below(f.Target, m.Target) {
				continue
			}
			message := fmt.Sprintf("%s is mounted at %s: putting %s there would change it", m.Source, m.Target, f.Target)
			if m.Kind == declare.MountMemory {
				message = fmt.Sprintf("%s is in memory, and empty at every start: %s would be gone", m.Target, f.Target)
			}
			in.report(s, source.Problem{
				At: f.TargetAt, Message: message,
				Because: []source.Because{{Text: "the mount", At: m.TargetAt}},
				Mend:    &source.Mend{Text: "another place, or without the mount"},
			})
			return
		}
		h := s.Stack.Host
		if !s.Settings.ReadOnly {
			return
		}
		if h.Survey == nil || h.Survey.Engine == nil {
			in.skip("host "+h.Name, "engine not surveyed")
			return
		}
		if slices.Contains(h.Survey.Engine.Lacks, survey.LacksFillReadOnly) {
			in.report(s, source.Problem{
				At:      f.TargetAt,
				Message: fmt.Sprintf("the engine of %s (%s) puts no files into a container with read-only = true", h.Name, h.Survey.Engine.Name),
				Because: []source.Because{{Text: "read-only", At: settingAt(s, "read-only")}},
				Mend:    &source.Mend{Text: "./SOURCE as a mount, or without read-only"},
			})
		}
	})
}
