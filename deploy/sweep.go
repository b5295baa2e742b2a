package deploy

import (
	"context"
	"fmt"
	"slices"

	"proudlantern.example/lantern/deploy/observe"
)

// Sweep removes one thing that [Deployer.Sweepable] found, if it is found still: somebody may have taken an
// hour to answer.
func (d *Deployer) Sweep(ctx context.Context, s observe.Sweepable, known observe.Remembered) error {
	now, err := d.Sweepable(ctx, known)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(now, func(o observe.Sweepable) bool { return o.Kind == s.Kind && o.Name == s.Name }) {
		return fmt.Errorf("it is used again, or gone")
	}
	switch s.Kind {
	case observe.SweepImage:
		return d.Engine.RemoveImage(ctx, s.Name, s.Reference)
	case observe.SweepVolume:
		return d.Engine.RemoveVolume(ctx, s.Name, d.Lab, true)
	}
	return d.Engine.RemoveNetwork(ctx, s.Name, d.Lab)
}
