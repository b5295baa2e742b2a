package host

import (
	"context"
	"errors"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/registry"
)

// askAtOnce is how many images are asked for at the same time.
const askAtOnce = 8

// readImages asks for images: the engine, which has them or not, then their registries.
func readImages(ctx context.Context, e *engine.Engine, s *survey.Survey, wanted survey.Ask) {
	references := slices.Compact(slices.Sorted(slices.Values(slices.Concat(wanted.Images, wanted.Built))))
	images, errs := make([]survey.Image, len(references)), make([]error, len(references))
	r := newRegistries(e.Logins)
	var work errgroup.Group
	work.SetLimit(askAtOnce)
	for i, reference := range references {
		work.Go(func() error {
			if slices.Contains(wanted.Built, reference) {
				images[i], errs[i] = e.Image(ctx, reference)
			} else {
				images[i], errs[i] = askImage(ctx, e, r, reference, s.Platform)
			}
			return nil
		})
	}
	work.Wait()
	for i, reference := range references {
		if errs[i] != nil {
			if slices.Contains(wanted.Built, reference) && errors.Is(errs[i], engine.ErrNotFound) {
				continue // a deploy makes it
			}
			s.Unknown["image "+reference] = errs[i].Error()
			continue
		}
		s.Images = append(s.Images, images[i])
	}
}

// askImage returns what is known of an image, also that it does not exist. An error says why that could not be
// found out.
func askImage(ctx context.Context, e *engine.Engine, r *registries,
	reference, platform string) (survey.Image, error) {
	image, err := e.Image(ctx, reference)
	if err == nil || !errors.Is(err, engine.ErrNotFound) {
		return image, err
	}
	// The stand-in stands in for the registries, too. And which registry is meant where none is named, only
	// the engine knows.
	if e.AsksDirectly(reference) {
		image, err = r.image(ctx, reference, platform)
		if err == nil || errors.Is(err, engine.ErrNotFound) {
			return image, nil
		}
	}
	switch asked := e.InRegistry(ctx, reference); {
	case asked == nil: // it does not tell what the image declares
		return survey.Image{Reference: reference, Source: survey.FromRegistry}, nil
	case errors.Is(asked, engine.ErrNotFound) && !errors.Is(asked, engine.ErrUnsupported):
		return survey.Image{Reference: reference, Source: survey.Absent}, nil
	case !errors.Is(asked, engine.ErrUnsupported):
		err = asked
	case errors.Is(err, engine.ErrNotFound):
		err = errors.New("it names no registry, and this engine does not say which one it takes")
	}
	return survey.Image{},
		errors.New("it is not on the host, and its registry did not say whether it has it: " +
			strings.TrimSpace(err.Error()))
}

// Looked is what is known of an image, or why that could not be found out.
type Looked struct {
	survey.Image
	Err error
}

// Look asks for images, each by itself: the engine, which has them or not, then their registries. Without an engine
// (nil) only these.
func Look(ctx context.Context, e *engine.Engine, logins *registry.Logins, platform string,
	references []string) []Looked {
	found := make([]Looked, len(references))
	r := newRegistries(logins)
	var work errgroup.Group
	work.SetLimit(askAtOnce)
	for i, reference := range references {
		work.Go(func() error {
			one := &found[i]
			if e != nil {
				one.Image, one.Err = askImage(ctx, e, r, reference, platform)
			} else if one.Image, one.Err = r.image(ctx, reference, platform); errors.Is(one.Err, engine.ErrNotFound) {
				one.Err = nil
			}
			if one.Source == survey.FromRegistry && len(one.Platforms) == 0 { // it is known that there is one
				if said, ok := e.FromRegistry(ctx, reference); ok {
					one.Image = said
				}
			}
			one.Reference = reference
			return nil
		})
	}
	work.Wait()
	return found
}
