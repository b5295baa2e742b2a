package check

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/tags"
)

// nowhere matches what is said where a name leads to no machine, or to one that does not listen.
var nowhere = regexp.MustCompile(
	`no such host|server misbehaving|name resolution|does not resolve|connection refused|no route to host`)

var imageRules = []Rule{
	{
		Name: "image-reference", Severity: Error, Needs: Files,
		Title:   "not a valid image reference",
		Text:    "References are written in small letters: REGISTRY/NAME:TAG or REGISTRY/NAME@DIGEST.",
		Mistake: `image = "Wind Sensor"`,
		Mended:  `image = "registry.skerry.example/wind-sensor:1.4"`,
		Find:    resolverFinds,
	}, {
		Name: "image-absent", Severity: Error, Needs: Image,
		Title: "the image is not on the host, and its registry does not have it",
		Text: "Only a registry that says so makes this an error. One that refuses, limits or cannot be " +
			"reached makes the rule be skipped.",
		Mistake: `image = "registry.skerry.example/sensor:14"`,
		Mended:  `image = "registry.skerry.example/sensor:1.4"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				host := s.Stack.Host
				if s.Image.Text == "" || s.Image.Unknown || in.Lab.Builder(host, s.Image.Text) != nil {
					continue
				}
				image, ok := host.Survey.Image(s.Image.Text)
				switch {
				case !ok:
					why := host.Survey.Unknown["image "+s.Image.Text]
					if why == "" {
						why = "it was not asked for"
					}
					in.skip(s.Image.Text, why)
				case s.Fetch == "never" && image.Source != survey.FromEngine:
					in.report(s, source.Problem{
						At: s.Image.Part(0, len(s.Image.Text)),
						Message: fmt.Sprintf(
							"%s is not on %s, and fetch = \"never\" keeps it from being pulled",
							s.Image.Text, host.Name),
					})
				case image.Source == survey.Absent:
					p := source.Problem{
						At: s.Image.Part(0, len(s.Image.Text)),
						Message: fmt.Sprintf("%s is not on %s, and its registry does not have it",
							s.Image.Text, host.Name),
					}
					if len(image.Near) > 0 {
						p.Because = []source.Because{{Text: "tags that it has: " + strings.Join(image.Near, ", ")}}
					}
					in.report(s, p)
				}
			}
			eachBase(in, func(s *lab.Service, base string, at source.Span) {
				if s.Stack.Host.Survey == nil {
					return
				}
				if image, ok := s.Stack.Host.Survey.Image(base); ok && image.Source == survey.Absent {
					in.report(s, source.Problem{
						At: at, Message: fmt.Sprintf("%s is not on %s, and its registry does not have it", base, s.Stack.Host.Name),
						Because: []source.Because{{Text: "the image of " + s.FullName() + " is made of it", At: s.Build.At}},
					})
				}
			})
		},
	}, {
		Name: "image-registry", Severity: Warning, Needs: Image,
		Title: "the registry of an image that is not on the host cannot be found",
		Text: "Its name does not resolve, or nothing answers there. The deploy would fail when it pulls " +
			"the image. Perhaps a letter of the name is wrong.",
		Mistake: `image = "registry.skery.example/sensor:1.4"    # no such machine`,
		Mended:  `image = "registry.skerry.example/sensor:1.4"`,
		Find: func(in *Input) {
			told := map[string]bool{}
			for _, s := range in.surveyed() {
				host := s.Stack.Host
				if _, known := host.Survey.Image(s.Image.Text); known || s.Image.Text == "" || s.Image.Unknown || in.Lab.Builder(host, s.Image.Text) != nil {
					continue
				}
				why := host.Survey.Unknown["image "+s.Image.Text]
				if !nowhere.MatchString(why) || told[s.Image.Text] {
					continue
				}
				told[s.Image.Text] = true
				in.report(s, source.Problem{
					At: s.Image.Part(0, len(s.Image.Text)),
					Message: fmt.Sprintf("%s is not on %s, and its registry cannot be found: %s",
						s.Image.Text, host.Name, why),
				})
			}
		},
	}, {
		Name: "image-unqualified", Severity: Note, Needs: Files, Mends: true,
		Title:   "an image without the name of a registry",
		Text:    "Engines fill in a registry of their own choice, and not all the same.",
		Mistake: `image = "skerry/sensor:1.4"`,
		Mended:  `image = "registry.skerry.example/sensor:1.4"`,
		Find: func(in *Input) {
			eachImage(in, func(s *lab.Service, name, _, _ string) {
				if first, _, path := strings.Cut(name, "/"); !path ||
					!strings.ContainsAny(first, ".:") && first != "localhost" {
					p := source.Problem{
						At:      s.Image.Part(0, len(s.Image.Text)),
						Message: s.Image.Text + " names no registry: each engine takes its own",
					}
					if image, ok := imageOf(s); ok && image.Name != "" {
						p.Mend = respellAt(p.At, s.Image.Text, image.Name,
							"the engine of "+s.Stack.Host.Name+" takes "+image.Name)
					}
					in.report(s, p)
				}
			})
		},
	}, {
		Name: "image-moving-tag", Severity: Warning, Needs: Files, Mends: true,
		Title:   "no tag, or one that moves, and no digest",
		Text:    "The next pull brings another program. A tag with a version, or the digest of what runs, stays.",
		Mistake: `image = "registry.skerry.example/vane:edge"`,
		Mended:  `image = "registry.skerry.example/vane:1.4"`,
		Find: func(in *Input) {
			eachImage(in, func(s *lab.Service, _, tag, digest string) {
				if digest != "" || tag != "" && !tags.ByHabit(tag) {
					return
				}
				at := s.Image.Part(0, len(s.Image.Text))
				p := source.Problem{At: at, Message: s.Image.Text + " has no tag, so it is whatever is newest"}
				if tag != "" {
					p.Message = fmt.Sprintf("the tag %s moves: the next pull may bring another program", tag)
				}
				if image, ok := imageOf(s); ok && image.Digest != "" && at.Text() == s.Image.Text {
					p.Mend = &source.Mend{
						Text:  "pins what is on " + s.Stack.Host.Name + " now",
						Edits: []source.Edit{{At: at.File.Span(at.End, at.End), New: "@" + image.Digest}},
					}
				}
				in.report(s, p)
			})
		},
	}, {
		Name: "image-platform", Severity: Error, Needs: Image,
		Title:   "the image is not made for the host's processor",
		Text:    "It would end at once with a format error. Another tag, or another image, may be made for it.",
		Mistake: `image = "registry.skerry.example/arm:1"    # made for linux/arm64, on an amd64 board`,
		Mended:  `image = "registry.skerry.example/amd:1"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				image, ok := imageOf(s)
				want := cmp.Or(s.Settings.Platform, s.Stack.Host.Survey.Platform)
				if !ok || want == "" || len(image.Platforms) == 0 ||
					slices.ContainsFunc(image.Platforms, func(p string) bool { return samePlatform(p, want) }) {
					continue
				}
				in.report(s, source.Problem{
					At: s.Image.Part(0, len(s.Image.Text)),
					Message: fmt.Sprintf("%s is made for %s, and %s is %s",
						s.Image.Text, strings.Join(image.Platforms, " and "), s.Stack.Host.Name, want),
				})
			}
		},
	},
}

// samePlatform compares system and architecture; variants run on each other more often than not.
func samePlatform(a, b string) bool {
	base := func(p string) string {
		return strings.Join(strings.SplitN(p, "/", 3)[:min(2, strings.Count(p, "/")+1)], "/")
	}
	return base(a) == base(b)
}

// eachImage calls f for each service with the parts of its image's reference.
func eachImage(in *Input, f func(s *lab.Service, name, tag, digest string)) {
	for _, s := range in.services() {
		if s.Image.Unknown || s.Image.Text == "" || in.Lab.Builder(s.Stack.Host, s.Image.Text) != nil {
			continue
		}
		name, digest, _ := strings.Cut(s.Image.Text, "@")
		tag := ""
		if colon := strings.LastIndexByte(name, ':'); colon > strings.LastIndexByte(name, '/') {
			name, tag = name[:colon], name[colon+1:]
		}
		f(s, name, tag, digest)
	}
}
