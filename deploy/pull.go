package deploy

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

const (
	pullsAtOnce   = 4
	pullSaysEvery = 200 * time.Millisecond
)

// ErrImage is returned when an image that is needed cannot be had. Nothing was changed then.
var ErrImage = errors.New("an image cannot be had")

// fetch pulls what is to be pulled at each deploy, before anything is compared: a newer image is a difference.
func (d *Deployer) fetch(ctx context.Context, stack *lab.Stack) (fetched bool, err error) {
	needed := plan.Needed(stack, d.options.Only)
	for _, s := range stack.Services {
		again := s.Fetch == "each-deploy" || slices.Contains(d.options.Refresh, s.Name)
		if !again || needed != nil && !slices.Contains(needed, s.Name) {
			continue
		}
		for _, reference := range plan.Fetched(s) {
			if err := d.pullOne(ctx, stack, s.Name, reference, true); err != nil {
				return true, err
			}
			fetched = true
		}
	}
	return fetched, nil
}

// pull fetches the images that are not on the host, all at once.
func (d *Deployer) pull(ctx context.Context, p plan.Stack) error {
	wanted := map[string]string{} // reference to service
	for _, s := range p.Services {
		if s.Action != plan.Create && s.Action != plan.Replace {
			continue
		}
		if s.Service.Stack.Gate != nil && d.LoadGate != nil {
			if err := d.LoadGate(ctx); err != nil {
				return fmt.Errorf("%w: %w", ErrImage, err)
			}
		} else if p.Stack.Builder(s.Container.Image) != nil {
			continue // it was built
		} else if s.Service.Fetch == "never" {
			if _, err := d.Engine.Image(ctx, s.Container.Image); errors.Is(err, engine.ErrNotFound) {
				return fmt.Errorf(`%w: %s is not on %s, and fetch = "never" says that it is not to be pulled`,
					ErrImage, s.Container.Image, d.Host)
			}
		} else {
			wanted[s.Container.Image] = s.Name
		}
	}
	var work errgroup.Group
	work.SetLimit(pullsAtOnce)
	references := slices.Sorted(maps.Keys(wanted))
	failures := make([]error, len(references))
	for i, reference := range references {
		work.Go(func() error {
			failures[i] = d.pullOne(ctx, p.Stack, wanted[reference], reference, false)
			return nil
		})
	}
	work.Wait()
	return errors.Join(failures...)
}

// pullOne pulls an image that is not on the host; with always also one that is.
func (d *Deployer) pullOne(ctx context.Context, stack *lab.Stack, service, reference string, always bool) error {
	_, err := d.Engine.Image(ctx, reference)
	if err == nil && !always || err != nil && !errors.Is(err, engine.ErrNotFound) {
		return err
	}
	var sizes map[string]int64
	if facts := stack.Host.Survey; facts != nil {
		if image, ok := facts.Image(reference); ok {
			sizes = image.Layers
		}
	}
	d.event(stack.Name, service, StepPull, EventBegun, reference)
	var last time.Time
	err = d.Engine.Pull(ctx, reference, sizes, func(g engine.PullProgress) {
		if time.Since(last) > pullSaysEvery || g.Done == g.Layers {
			last = time.Now()
			d.Report(Event{
				Time:       last.UTC(),
				Host:       d.Host,
				Stack:      stack.Name,
				Service:    service,
				Step:       StepPull,
				State:      EventProgress,
				Bytes:      g.Current,
				Total:      g.Total,
				Layers:     g.Layers,
				LayersDone: g.Done,
			})
		}
	})
	switch {
	case errors.Is(err, engine.ErrNotFound):
		err = fmt.Errorf("%w: %s: its registry does not have this image", ErrImage, reference)
	case errors.Is(err, engine.ErrDiskFull):
		err = fmt.Errorf("%w: %s: the disk of the engine on %s is full; lantern sweep says what could go",
			ErrImage, reference, d.Host)
	case err != nil:
		err = fmt.Errorf("%w: %s: %w", ErrImage, reference, err)
	}
	if err != nil {
		d.event(stack.Name, service, StepPull, EventFailed, err.Error())
		return err
	}
	d.event(stack.Name, service, StepPull, EventDone, reference)
	return nil
}
