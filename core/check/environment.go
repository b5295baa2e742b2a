package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var environmentRules = []Rule{
	{
		Name: "env-file-missing", Severity: Error, Needs: Files, Mends: true,
		Title:   "an environment file that does not exist or cannot be read",
		Text:    "Paths are relative to the folder of the file that names them, and stay inside the lab.",
		Mistake: `env-files = ["mats.env", "${stack.name}-moor.env"]`,
		Mended:  `env-files = ["mast.env", "${stack.name}-more.env"]`,
		Find: func(in *Input) {
			resolverFinds(in)
			for i := range in.result.Findings {
				if f := &in.result.Findings[i]; f.Mend == nil {
					f.Mend = nearFile(in.Lab, f.At)
				}
			}
		},
	}, {
		Name: "env-file-syntax", Severity: Error, Needs: Files, Mends: true,
		Title: "a line of an environment file that is not NAME=value",
		Text: "Tools differ in what they make of quotes, blanks, comments and export in such files; " +
			"here each of them has one meaning or is an error.",
		Mistake: `export A=b`,
		Mended:  `A=b`,
		Find:    resolverFinds,
	}, {
		Name: "env-invisible", Severity: Error, Needs: Files, Mends: true,
		Title: "invisible characters in an environment file that become part of a value",
		Text: "Carriage returns, byte-order marks, blanks at the end and no-break spaces come along " +
			"when files are copied between systems. A password with one at its end is a wrong password.",
		Mistake: "A=b␍    # ␍ stands for a carriage return",
		Mended:  "A=b",
		Find:    resolverFinds,
	}, {
		Name: "env-duplicate", Severity: Warning, Needs: Files, Mends: true,
		Title:   "a variable that is set twice in one environment file",
		Text:    "The later one wins, so a change of the earlier one does nothing.",
		Mistake: "LEVEL=info\nLEVEL=debug",
		Mended:  `LEVEL=debug`,
		Find:    resolverFinds,
	}, {
		Name: "env-placeholder", Severity: Error, Needs: Files,
		Title: "a sample value in place of a real one",
		Text: "For a secret this is an error: everybody knows it. For other variables this is a warning. As long as " +
			"nothing of the stack has run, check --fix makes up a random secret.",
		Mistake: `MAST_PASSWORD=changeme`,
		Mended:  `MAST_PASSWORD=a long one of your own`,
		Find:    envPlaceholder,
	},
}

// nearFile offers the file whose name is nearest to one that is not there.
func nearFile(l *lab.Lab, at source.Span) *source.Mend {
	wrong, dir := strings.Trim(at.Text(), `"'`), path.Dir(at.File.Path)
	var names []string
	for _, p := range sortedKeys(l.Files) {
		if path.Dir(p) == dir {
			names = append(names, path.Base(p))
		}
	}
	return declare.Meant(at, wrong, names, "is there")
}

// placeholder matches whole values that only stand for a value.
var placeholder = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)^(change[-_ ]?(me|this|it)!*|replace[-_ ]?(me|this)|fix[-_ ]?me|to[-_ ]?do|tbd|x{3,}|\*{3,}|\.{3}|<[^<>]+>|\[[^\[\]]+\]|(your|my)[-_ ].*[-_ ]here|your[-_ ](password|secret|token|key|user(name)?|name|e?mail|domain|api[-_ ]key).*|insert[-_ ].*[-_ ]here|(put|enter)[-_ ].*[-_ ]here|secret[-_ ]?goes[-_ ]?here|dummy|placeholder)$`)
})

// neverDeployed reports whether no stack of the services, by their full names, has run on its host: what was deployed may
// have made an account with the value.
func neverDeployed(in *Input, services []string) bool {
	for _, name := range services {
		stack, _, _ := strings.Cut(name, "/")
		st := in.Lab.Stack(stack)
		if st.Host == nil || st.Host.Survey == nil || slices.ContainsFunc(st.Host.Survey.Containers, func(c survey.Container) bool {
			return c.Lab == in.Lab.Name && c.Stack == stack
		}) {
			return false
		}
		// Volumes stay when a stack is retired, and folders do, too.
		for _, s := range st.Services {
			for _, m := range s.Mounts {
				p, known := st.Host.Survey.Path(m.Source)
				_, there := st.Host.Survey.Volume(engineName(m))
				if there || m.Kind == declare.MountPath && known && p.Kind == survey.Folder && len(p.Inside) > 0 && !m.ReadOnly {
					return false
				}
			}
		}
	}
	return true
}

// engineName returns the name of the volume of a mount; "" for any other.
func engineName(m lab.Mount) string {
	if m.Volume == nil {
		return ""
	}
	return m.Volume.EngineName
}

func envPlaceholder(in *Input) {
	// A line of a file counts once, for all services that get it.
	users, sample := map[source.Span][]string{}, map[string]bool{}
	isSample := func(value string) bool {
		is, seen := sample[value]
		if !seen {
			is = placeholder().MatchString(value)
			sample[value] = is
		}
		return is
	}
	for _, s := range in.services() {
		for _, v := range s.Env {
			if isSample(v.Value.Reveal()) {
				users[v.At] = append(users[v.At], s.FullName())
			}
		}
	}
	for _, s := range in.services() {
		for _, v := range s.Env {
			names := users[v.At]
			if len(names) == 0 || names[0] != s.FullName() {
				continue
			}
			what, severity := "your own", Warning
			if v.Value.Secret() {
				what, severity = "a secret of your own", Error
			}
			p := source.Problem{At: v.At, Message: fmt.Sprintf("%s still has a sample value; set %s", v.Name, what)}
			if v.Origin != lab.FromEnv {
				p.Because = []source.Because{{Text: strings.Join(names, " and ") + " get it from this file"}}
				if len(names) == 1 {
					p.Because[0].Text = names[0] + " gets it from this file"
				}
			}
			if v.Value.Secret() && v.Origin != lab.FromEnv && v.Value.Is(v.At.Text()) && neverDeployed(in, names) {
				p.Mend = &source.Mend{Text: "check --fix makes up a random one", MakeUp: v.At}
			}
			in.report(s, p).Severity = severity
		}
	}
}
