package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"time"

	"github.com/google/go-containerregistry/pkg/v1/remote/transport"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/draft"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/labdir"
	"proudlantern.example/lantern/registry"
)

// FromRegistry is where a card is from that stands beside its image.
const FromRegistry = "registry"

// ImageCard is what a card says of an image.
type ImageCard struct {
	From       string         `json:"from"` // its file in the lab, or registry
	About      string         `json:"about,omitempty"`
	Guide      string         `json:"guide,omitempty"`
	FirstLogin string         `json:"first-login,omitempty"`
	Ports      []CardPort     `json:"ports,omitempty"`
	Data       []CardData     `json:"data,omitempty"`
	Variables  []CardVariable `json:"variables,omitempty"`

	card *declare.Card
	text string // of one from a registry
}

// CardPort is a port of which a card tells.
type CardPort struct {
	Port     string `json:"port"` // such as 80 or 8711/udp
	About    string `json:"about,omitempty"`
	Page     string `json:"page,omitempty"`
	Optional bool   `json:"optional,omitempty"`
}

// CardData is a path inside of which a card tells.
type CardData struct {
	Path     string `json:"path"`
	About    string `json:"about,omitempty"`
	Keep     bool   `json:"keep,omitempty"`
	ReadOnly bool   `json:"read-only,omitempty"`
	Optional bool   `json:"optional,omitempty"`
}

// CardVariable is a variable of which a card tells.
type CardVariable struct {
	Name     string   `json:"name"`
	About    string   `json:"about,omitempty"`
	Is       string   `json:"is,omitempty"`
	Of       string   `json:"of,omitempty"`
	Form     string   `json:"form,omitempty"`
	Values   []string `json:"values,omitempty"`
	Default  string   `json:"default,omitempty"`
	Required bool     `json:"required,omitempty"`
}

func newImageCard(c *declare.Card, from, text string) *ImageCard {
	i := &ImageCard{From: from, About: c.About.Value, Guide: c.Guide.Value, FirstLogin: c.FirstLogin.Value, card: c, text: text}
	for _, p := range c.Ports {
		port := strconv.Itoa(p.Port)
		if p.Protocol != "tcp" {
			port += "/" + p.Protocol
		}
		i.Ports = append(i.Ports, CardPort{port, p.About.Value, p.Page.Value, declare.IsTrue(p.Optional)})
	}
	for _, d := range c.Data {
		i.Data = append(i.Data, CardData{d.Path, d.About.Value, declare.IsTrue(d.Keep), declare.IsTrue(d.ReadOnly),
			declare.IsTrue(d.Optional)})
	}
	for _, v := range c.Variables {
		one := CardVariable{Name: v.Name, About: v.About.Value, Is: v.Is.Value, Of: v.Other(), Form: v.Form.Value,
			Default: v.Default.Value, Required: declare.IsTrue(v.Required)}
		for _, t := range v.Values {
			one.Values = append(one.Values, t.Value)
		}
		i.Variables = append(i.Variables, one)
	}
	return i
}

// card finds the card of an image: the lab's own, else the one beside it in its registry.
func (l *ImageLook) card(ctx context.Context, i *ImageFacts) {
	if c := declare.CardOf(l.cards, i.Reference); c != nil {
		i.Card = newImageCard(c, c.File.Path, "")
		return
	}
	if i.Source == survey.Absent || i.Source == "" || l.engine != nil && !l.engine.AsksDirectly(i.Reference) {
		return
	}
	text, err := registry.Card(ctx, i.Reference, l.logins)
	var answer *transport.Error
	switch {
	case err == nil && text == "", errors.As(err, &answer):
		return // there is none, or the registry knows of no such things
	case err != nil:
		i.Unknown = cmp.Or(i.Unknown, "its card in the registry cannot be used: it "+registry.Why(err))
		return
	}
	c, problems := declare.ParseCard(source.NewFile("card", text))
	switch {
	case c == nil:
		i.Unknown = "its card in the registry cannot be used: " + saidOfCard(problems[0])
	case !c.Holds(i.Reference):
		i.Unknown = "its card in the registry is about " + c.Image.Value + " " + c.Versions.Value
	default:
		i.Card = newImageCard(c, FromRegistry, text)
	}
}

// saidOfCard words the first thing that is wrong with a card.
func saidOfCard(p source.Problem) string {
	return fmt.Sprintf("line %d: %s", p.At.Place().Line, p.Message)
}

// NewCard drafts a card of an image into the lab's folder of cards: the one of its registry, or a new one to be
// completed. Nothing is written over.
func (w *Workspace) NewCard(ctx context.Context, look *ImageLook, reference string) (NewFile, error) {
	found, err := look.Images(ctx, []string{reference})
	if err != nil {
		return NewFile{}, &Error{Kind: Interrupted, Message: "interrupted; nothing was written"}
	}
	i := found[0]
	switch {
	case i.Source == "":
		return NewFile{}, &Error{Kind: Stopped, Message: reference + ": " + i.Unknown}
	case i.Source == survey.Absent:
		return NewFile{}, &Error{Kind: Stopped, Message: reference + " exists neither on the host nor in its registry"}
	case i.Card != nil && i.Card.From != FromRegistry:
		return NewFile{}, usage("%s is the card of %s already", i.Card.From, reference)
	}
	text := ""
	if i.Card != nil {
		text = fromRegistry(i)
	} else {
		text = draft.Card(i.forDraft(), i.Guide())
	}
	f := NewFile{w.freeCardFile(reference), 0o644, text}
	if err := labdir.WriteIn(w.Dir, f.Path, "", f.Text, f.Mode); err != nil {
		return f, usage("%s cannot be written: %s", f.Path, labdir.InWords(err))
	}
	return f, nil
}

// fromRegistry is the text of a card of a registry, for the lab.
func fromRegistry(i ImageFacts) string {
	return "# The card that stands beside " + i.Reference + " in its registry.\n" + i.Card.text
}

// freeCardFile returns a path for a card of an image where none is.
func (w *Workspace) freeCardFile(reference string) string {
	own := draft.CardFile(reference)
	path := own
	for n := 2; ; n++ {
		if _, err := labdir.ReadIn(w.Dir, path); errors.Is(err, fs.ErrNotExist) {
			return path
		}
		path = own[:len(own)-len(".toml")] + "-" + strconv.Itoa(n) + ".toml"
	}
}

// AttachCard puts a card beside an image in its registry, and returns the image's digest.
func (l *ImageLook) AttachCard(ctx context.Context, file, reference string, now time.Time) (string, error) {
	text, err := labdir.ReadIn(filepath.Dir(file), filepath.Base(file))
	if err != nil {
		return "", usage("%s cannot be read: %s", file, labdir.InWords(err))
	}
	c, problems := declare.ParseCard(source.NewFile(filepath.Base(file), text))
	if c == nil {
		return "", &Error{Kind: Stopped, Message: file + " is no card that can be used: " + saidOfCard(problems[0])}
	}
	if !c.Holds(reference) {
		return "", &Error{Kind: Stopped, Message: fmt.Sprintf("%s is about %s %s, and not about %s", file, c.Image.Value,
			c.Versions.Value, reference)}
	}
	digest, err := registry.Attach(ctx, reference, text, now, l.logins)
	if err != nil {
		return "", &Error{Kind: Stopped, Message: "the card is not beside " + reference, Because: "its registry " + registry.Why(err), Err: err}
	}
	return digest, nil
}
