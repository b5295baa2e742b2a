package check

import (
	"fmt"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

var cardRules = []Rule{
	{
		Name: "card-invalid", Severity: Warning, Needs: Files, Mends: true,
		Title: "a card of an image that cannot be read",
		Text: "A card with a mistake is not used at all, so nothing is checked with it. A card has at most 64 KiB " +
			"and no characters that are not seen.",
		Mistake: `reqired = true    # in cards/desk.toml`,
		Mended:  `required = true`,
		Find:    resolverFinds,
	}, {
		Name: "variable-required", Severity: Error, Needs: Files,
		Title:   "a variable that the image does not work without, by its card",
		Text:    "Set it in env or in an environment file. lantern image shows what the card says of it.",
		Mistake: "image = \"registry.skerry.example/desk:2.3\"    # its card says of STATION: required = true",
		Mended:  `env.STATION = "lamp room"`,
		Find:    variableRequired,
	}, {
		Name: "variable-near", Severity: Warning, Needs: Files, Mends: true, Rests: Names,
		Title: "a variable one letter away from one that the image's card knows",
		Text: "The image would not look at it. Where the right one is required, and is set nowhere, this is " +
			"an error.",
		Mistake: `env.DESK_LEVLE = "info"`,
		Mended:  `env.DESK_LEVEL = "info"`,
		Find:    variableNear,
	}, {
		Name: "variable-value", Severity: Error, Needs: Files, Mends: true,
		Title:   "a value that the image does not take, by its card",
		Text:    "The card names all values that the variable can have.",
		Mistake: `env.DESK_LEVEL = "inof"    # the card: quiet, info or debug`,
		Mended:  `env.DESK_LEVEL = "info"`,
		Find:    variableValue,
	}, {
		Name: "data-path-read-only", Severity: Note, Needs: Files, Mends: true,
		Title: "a mount that may be written where the image only reads, by its card",
		Text: "What may not be written cannot be spoilt. The other way round, read-only where the image keeps data, " +
			"this is a warning.",
		Mistake: `mounts = ["/srv/skerry/open -> /charts"]    # the card: read-only = true`,
		Mended:  `mounts = ["/srv/skerry/open -> /charts, read-only"]`,
		Find:    dataPathReadOnly,
	}, {
		Name: "data-path-unkept", Severity: Warning, Needs: Files, Mends: true, Rests: Uses,
		Title:   "a path that the image's card says to keep, without a mount",
		Text:    "What it writes there is lost at each replacement. Mount a folder or a volume.",
		Mistake: `image = "registry.skerry.example/desk:2.3"    # its card: [data."/desk"] keep = true`,
		Mended:  "mounts = [\"volume desk -> /desk\"]\n\n[volume.desk]",
		Find:    dataPathUnkept,
	},
}

// eachCard calls f for each service whose image has a card. Services that cannot be understood are left out: what is
// missing in them may be the mistake.
func eachCard(in *Input, f func(s *lab.Service, c *declare.Card)) {
	for _, s := range in.services() {
		if s.Card == nil {
			continue
		}
		unread := slices.ContainsFunc(in.Lab.Problems, func(p source.Problem) bool {
			return p.Stack == s.Stack.Name && (p.Service == s.Name || p.Service == "")
		})
		if !unread || !in.mistaken(s.Stack.Name) {
			f(s, s.Card)
		}
	}
}

// sets reports whether a service has a variable, by any of the ways to set one, or its image has it.
func sets(s *lab.Service, name string) bool {
	d := s.Declared()
	image, known := imageOf(s)
	return slices.ContainsFunc(s.Env, func(v lab.Variable) bool { return v.Name == name }) ||
		slices.ContainsFunc(d.Env, func(v declare.Variable) bool { return v.Name == name }) ||
		slices.ContainsFunc(d.OwnerVariables, func(t declare.Text) bool { return t.Value == name }) ||
		known && image.Env[name] != ""
}

func variableRequired(in *Input) {
	eachCard(in, func(s *lab.Service, c *declare.Card) {
		for _, v := range c.Variables {
			if !declare.IsTrue(v.Required) || sets(s, v.Name) || nearlySet(s, c, v.Name) {
				continue
			}
			because := "the card of its image says so"
			if v.About.IsSet() {
				because += ": " + v.About.Value
			}
			in.report(s, source.Problem{
				At: s.At, Message: fmt.Sprintf("%s needs the variable %s, and it is not set", s.FullName(), v.Name),
				Because: []source.Because{{Text: because, At: v.At}},
			})
		}
	})
}

// misspeltVariable returns the variable of a card that a service most likely means; ok is false for names that the
// card or the image knows, and for those that are like none, or like several.
func misspeltVariable(s *lab.Service, c *declare.Card, name string) (meant declare.CardVariable, ok bool) {
	if _, known := c.Variable(name); known {
		return meant, false
	}
	if image, known := imageOf(s); known {
		if _, own := image.Env[name]; own {
			return meant, false
		}
	}
	for _, v := range c.Variables {
		if len(name) > 3 && declare.Certain(name, v.Name) {
			if ok {
				return meant, false
			}
			meant, ok = v, true
		}
	}
	return meant, ok
}

// nearlySet reports whether a service has a variable that is most likely meant to be the one of that name.
func nearlySet(s *lab.Service, c *declare.Card, name string) bool {
	return slices.ContainsFunc(s.Env, func(v lab.Variable) bool {
		meant, ok := misspeltVariable(s, c, v.Name)
		return ok && meant.Name == name
	})
}

func variableNear(in *Input) {
	eachCard(in, func(s *lab.Service, c *declare.Card) {
		for _, v := range s.Env {
			meant, ok := misspeltVariable(s, c, v.Name)
			if !ok {
				continue
			}
			p := source.Problem{
				At:      nameOf(in.Lab, s, v),
				Message: fmt.Sprintf("the image knows no %s, and it knows %s", v.Name, meant.Name),
				Because: []source.Because{{Text: "the card of the image says so", At: meant.At}},
			}
			lacks := !sets(s, meant.Name)
			if lacks && p.At.Text() == v.Name {
				p.Mend = source.Replace(p.At, meant.Name, "change to "+meant.Name)
			}
			if lacks && declare.IsTrue(meant.Required) {
				in.report(s, p).Severity = Error
			} else {
				in.report(s, p)
			}
		}
	})
}

// nameOf returns where the name of a variable stands; its value's place where it has no name there.
func nameOf(l *lab.Lab, s *lab.Service, v lab.Variable) source.Span {
	switch v.Origin {
	case lab.FromEnv:
		for _, d := range s.Declared().Env {
			if d.Name == v.Name {
				return d.At
			}
		}
	case lab.FromOwner:
		for _, t := range s.Declared().OwnerVariables {
			if t.Value == v.Name {
				return t.Part(0, len(t.Value))
			}
		}
	default:
		if file := l.EnvFiles[v.Origin]; file != nil {
			if e, ok := file.Get(v.Name); ok {
				return e.At
			}
		}
	}
	return v.At
}

func variableValue(in *Input) {
	eachCard(in, func(s *lab.Service, c *declare.Card) {
		for _, v := range s.Env {
			says, ok := c.Variable(v.Name)
			value := v.Value.Reveal()
			if !ok || says.Takes(value) {
				continue
			}
			var values []string
			for _, t := range says.Values {
				values = append(values, t.Value)
			}
			p := source.Problem{
				At:      v.Part(0, len(value)),
				Message: fmt.Sprintf("%s is %s, and nothing else", v.Name, strings.Join(values, " or ")),
				Because: []source.Because{{Text: "the card of the image says so", At: says.At}},
			}
			if !v.Value.Secret() && p.At.Text() == value {
				p.Mend = declare.Meant(p.At, value, values, "is one")
			}
			in.report(s, p)
		}
	})
}

func dataPathReadOnly(in *Input) {
	eachCard(in, func(s *lab.Service, c *declare.Card) {
		for _, m := range s.Mounts {
			i := slices.IndexFunc(c.Data, func(d declare.CardData) bool { return d.Path == m.Target })
			if i < 0 || m.Kind != declare.MountPath && m.Volume == nil {
				continue
			}
			d := c.Data[i]
			because := []source.Because{{Text: "the card of the image says so", At: d.At}}
			switch {
			case declare.IsTrue(d.ReadOnly) && !m.ReadOnly && !m.Create:
				p := source.Problem{
					At: m.TargetAt, Because: because,
					Message: fmt.Sprintf("the image only reads %s, and the mount may be written", d.Path),
				}
				if m.TargetAt.Text() == m.Target {
					at := m.TargetAt.File.Span(m.TargetAt.End, m.TargetAt.End)
					p.Mend = source.Replace(at, ", read-only", "with read-only it cannot be spoilt")
				}
				in.report(s, p)
			case declare.IsTrue(d.Keep) && m.ReadOnly:
				in.report(s, source.Problem{
					At: m.TargetAt, Because: because,
					Message: fmt.Sprintf("the image keeps data at %s, and the mount is read-only", d.Path),
				}).Severity = Warning
			}
		}
	})
}

func dataPathUnkept(in *Input) {
	eachCard(in, func(s *lab.Service, c *declare.Card) {
		image, known := imageOf(s)
		for _, d := range c.Data {
			covered := slices.ContainsFunc(s.Mounts, func(m lab.Mount) bool {
				return declare.Below(d.Path, m.Target) || declare.Below(m.Target, d.Path) || misspelt(m.Target, d.Path)
			})
			// Of what the image declares itself, mount-unkept tells.
			if !declare.IsTrue(d.Keep) || covered || known && slices.Contains(image.Volumes, d.Path) {
				continue
			}
			in.report(s, source.Problem{
				At:      s.At,
				Message: fmt.Sprintf("%s keeps data at %s, and nothing is mounted there", s.FullName(), d.Path),
				Because: []source.Because{{Text: "the card of its image says so", At: d.At}},
				Mend:    keep(s, d.Path),
			})
		}
	})
}
