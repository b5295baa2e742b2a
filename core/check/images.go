package check

import (
	"fmt"

	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var imageRules = []Rule{
	{
		Name: "image-reference", Severity: Error, Needs: Files,
		Title:   "not a valid reference of an image",
		Text:    "References are written in small letters: REGISTRY/NAME:TAG or REGISTRY/NAME@DIGEST.",
		Mistake: `image = "Tide Desk"`,
		Mended:  `image = "registry.skerry.example/tide-desk:2.3"`,
		Find:    resolverFinds,
	}, {
		Name: "image-absent", Severity: Error, Needs: Image,
		Title:   "the image is not on the host, and its registry does not have it",
		Text:    "Only a registry that says so makes this an error. One that refuses, limits or cannot be reached makes the rule be skipped.",
		Mistake: `image = "registry.skerry.example/sensor:14"`,
		Mended:  `image = "registry.skerry.example/sensor:1.4"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				if s.Image.Text == "" || s.Image.Unknown {
					continue
				}
				host := s.Stack.Host
				image, ok := host.Survey.Image(s.Image.Text)
				switch {
				case !ok:
					why := host.Survey.Unknown["image "+s.Image.Text]
					if why == "" {
						why = "nobody has asked for it"
					}
					in.skip(s.Image.Text, why)
				case s.Fetch == "never" && image.Source != survey.FromEngine:
					in.report(s, source.Problem{
						At:      s.Image.Part(0, len(s.Image.Text)),
						Message: fmt.Sprintf("%s is not on %s, and fetch = \"never\" keeps it from being pulled", s.Image.Text, host.Name),
					})
				case image.Source == survey.Absent:
					in.report(s, source.Problem{
						At:      s.Image.Part(0, len(s.Image.Text)),
						Message: fmt.Sprintf("%s is not on %s, and its registry does not have it", s.Image.Text, host.Name),
					})
				}
			}
		},
	},
}
