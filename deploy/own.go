package deploy

import (
	"context"
	"errors"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// What changes a container goes through here: each looks at the very container first, at that moment, and
// leaves alone what is not this lab's, nor named by the lock as what a service takes the place of. An engine's list
// is no proof, nor is what was true a minute ago.

func (d *Deployer) own(ctx context.Context, id string) (engine.State, error) {
	if _, ok := d.takes[id]; ok {
		return d.Engine.Inspect(ctx, id)
	}
	return d.Engine.Own(ctx, d.Lab, id)
}

func (d *Deployer) onOwn(ctx context.Context, id string, f func() error) error {
	if _, err := d.own(ctx, id); err != nil {
		return err
	}
	return f()
}

func (d *Deployer) rename(ctx context.Context, id, name string) error {
	return d.onOwn(ctx, id, func() error { return d.Engine.Rename(ctx, id, name) })
}

func (d *Deployer) stopOwn(ctx context.Context, id string, within time.Duration) error {
	return d.onOwn(ctx, id, func() error { return d.Engine.Stop(ctx, id, within) })
}

func (d *Deployer) setRestart(ctx context.Context, id string, r declare.Restart) error {
	return d.onOwn(ctx, id, func() error { return d.Engine.SetRestart(ctx, id, r) })
}

func (d *Deployer) connect(ctx context.Context, id string, n plan.Attachment) error {
	return d.onOwn(ctx, id, func() error { return d.Engine.Connect(ctx, id, n) })
}

func (d *Deployer) disconnect(ctx context.Context, id, network string) error {
	return d.onOwn(ctx, id, func() error { return d.Engine.Disconnect(ctx, id, network) })
}

// remove removes a container, and never a volume with it. One that is not there is no error.
func (d *Deployer) remove(ctx context.Context, id string) error {
	err := d.onOwn(ctx, id, func() error { return d.Engine.Remove(ctx, id) })
	if errors.Is(err, engine.ErrNotFound) {
		return nil
	}
	return err
}
