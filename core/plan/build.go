package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// Build is an image that a deploy makes.
type Build struct {
	Service *lab.Service
	Image   string
	Why     string // for the person
}

// BuildsOf returns the services of a stack whose images are made here, in the order in which they are made: an image comes
// after those that it rests on.
func BuildsOf(stack *lab.Stack) []*lab.Service {
	var all []*lab.Service
	begun := map[string]bool{}
	var add func(s *lab.Service)
	add = func(s *lab.Service) {
		if s == nil || begun[s.Image.Text] {
			return
		}
		begun[s.Image.Text] = true
		for _, base := range s.Build.Bases() {
			add(stack.Builder(base))
		}
		all = append(all, s)
	}
	for _, s := range stack.Services {
		if s.Build != nil && !s.Build.Unread && !s.Image.Unknown {
			add(s)
		}
	}
	return all
}

// Fetched returns the images that a service gets from registries: its own, or those that its own is made of.
func Fetched(s *lab.Service) []string {
	if s.Build == nil {
		if s.Stack.Builder(s.Image.Text) != nil {
			return nil
		}
		return []string{s.Image.Text}
	}
	return slices.DeleteFunc(s.Build.Bases(), func(base string) bool { return s.Stack.Builder(base) != nil })
}

// Fingerprint tells what an image is made of: the files, the recipe, the arguments, and the images that it rests on, by
// their ids. The error is for the person.
func Fingerprint(s *lab.Service, images map[string]survey.Image) (string, error) {
	digest, err := s.Build.Digest()
	if err != nil {
		return "", err
	}
	var bases []string
	for _, base := range s.Build.Bases() {
		bases = append(bases, images[base].ID)
	}
	text, err := json.Marshal([]any{digest, bases, s.Settings.Platform})
	if err != nil {
		panic("plan: texts without JSON: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return "1:" + hex.EncodeToString(sum[:]), nil
}

// WhyBuild says why the image of a service is to be made: "" where what bears its name is made of the same. Images are those
// that are on the host, by their references. The error is for the person.
func WhyBuild(s *lab.Service, images map[string]survey.Image) (string, error) {
	here, there := images[s.Image.Text]
	if !there {
		return "not built yet", nil
	}
	for _, base := range s.Build.Bases() {
		if images[base].ID == "" {
			return "its base " + base + " is not on the host", nil
		}
	}
	want, err := Fingerprint(s, images)
	switch {
	case err != nil:
		return "", err
	case here.Labels[LabelBuild] == "":
		return "what bears this name was not built here", nil
	case here.Labels[LabelBuild] != want:
		return "its files, its arguments or its bases have changed", nil
	}
	return "", nil
}

// builds notes which images a deploy makes first, and that what runs is replaced by them.
func (p *Stack) builds(images map[string]survey.Image) error {
	anew := map[string]bool{}
	for _, s := range BuildsOf(p.Stack) {
		why, err := WhyBuild(s, images)
		if err != nil {
			return fmt.Errorf("the image of %s: %w", s.FullName(), err)
		}
		for _, base := range s.Build.Bases() {
			if anew[base] && why == "" {
				why = "its base " + base + " is built anew"
			}
		}
		if why != "" {
			anew[s.Image.Text] = true
			p.Builds = append(p.Builds, Build{s, s.Image.Text, why})
		}
	}
	for i := range p.Services {
		v := &p.Services[i]
		if v.Service == nil || v.Running == nil || !anew[v.Service.Image.Text] {
			continue
		}
		v.Action = Replace
		if !slices.ContainsFunc(v.Differences, func(d Difference) bool { return d.Field == "image" }) {
			v.Differences = append([]Difference{{"image", v.Running.Container.Image, v.Service.Image.Text + ", built anew"}}, v.Differences...)
		}
	}
	return nil
}
