package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
)

// build makes the images of a stack that are not made of what the files say now, bases first. Nothing that runs is touched:
// it is before anything is replaced. Images are those that are on the host.
func (d *Deployer) build(ctx context.Context, stack *lab.Stack, images map[string]survey.Image) (built bool, err error) {
	needed := plan.Needed(stack, d.options.Only)
	for _, s := range plan.BuildsOf(stack) {
		if needed != nil && !slices.Contains(needed, s.Name) && !d.isBase(stack, s.Image.Text, needed) {
			continue
		}
		for _, base := range s.Build.Bases() {
			if stack.Builder(base) == nil && images[base].ID == "" {
				if err := d.pullOne(ctx, stack, s.Name, base, false); err != nil {
					return built, err
				}
				built = true
			}
			if err := d.look(ctx, base, images); err != nil {
				return built, err
			}
		}
		why, err := plan.WhyBuild(s, images)
		if err != nil {
			return built, fmt.Errorf("%w: %s: %w", ErrImage, s.Image.Text, err)
		}
		if why == "" {
			continue
		}
		if err := d.buildOne(ctx, s, images); err != nil {
			return built, err
		}
		built = true
		if err := d.look(ctx, s.Image.Text, images); err != nil {
			return built, err
		}
	}
	return built, nil
}

// isBase reports whether the image of a needed service rests on an image of the stack, however far down.
func (d *Deployer) isBase(stack *lab.Stack, image string, needed []string) bool {
	return slices.ContainsFunc(plan.BuildsOf(stack), func(s *lab.Service) bool {
		return s.Image.Text != image && slices.Contains(s.Build.Bases(), image) &&
			(slices.Contains(needed, s.Name) || d.isBase(stack, s.Image.Text, needed))
	})
}

// look asks which image bears a name now.
func (d *Deployer) look(ctx context.Context, reference string, images map[string]survey.Image) error {
	image, err := d.Engine.Image(ctx, reference)
	switch {
	case errors.Is(err, engine.ErrNotFound):
		delete(images, reference)
		return nil
	case err != nil:
		return err
	}
	images[reference] = image
	return nil
}

// buildOne lets the engine make an image.
func (d *Deployer) buildOne(ctx context.Context, s *lab.Service, images map[string]survey.Image) error {
	made, err := plan.Fingerprint(s, images)
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrImage, s.Image.Text, err)
	}
	stack, reference := s.Stack.Name, s.Image.Text
	d.event(stack, s.Name, StepBuild, EventBegun, reference)
	step := ""
	err = d.Engine.Build(ctx, engine.BuildRequest{
		Reference: reference, Build: s.Build, Platform: s.Settings.Platform, Labels: map[string]string{plan.LabelBuild: made},
	}, func(line string, begins bool) {
		if begins {
			step, line = line, ""
		}
		d.Report(Event{
			Time: time.Now().UTC(), Host: d.Host, Stack: stack, Service: s.Name, Step: StepBuild, State: EventProgress, Detail: clipped(step),
			Line: clipped(line),
		})
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var failed *engine.BuildError
	switch {
	case errors.As(err, &failed):
		d.event(stack, s.Name, StepBuild, EventFailed, "the build failed at "+failed.Step+": "+failed.Message)
	case err != nil:
		d.event(stack, s.Name, StepBuild, EventFailed, err.Error())
	default:
		d.event(stack, s.Name, StepBuild, EventDone, reference)
		return nil
	}
	return fmt.Errorf("%w: %s cannot be built: %w", ErrImage, reference, err)
}
