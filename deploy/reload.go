package deploy

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
)

// reloads are the services of a call whose files were changed while they ran.
type reloads struct {
	mu   sync.Mutex
	list []plan.Service
}

// reload puts new files into a container that runs, makes that known to it, and waits until it is ready again. What
// it had before is known from the plan: a deploy that fails later puts it back. After a death in between, the next
// run finds that files differ and begins anew.
func (d *Deployer) reload(ctx context.Context, stack string, s plan.Service, proof plan.Proof) *Failure {
	d.event(stack, s.Name, StepReload, EventBegun, "")
	d.reloaded.mu.Lock()
	d.reloaded.list = append(d.reloaded.list, s)
	d.reloaded.mu.Unlock()
	now, _ := s.Changed()
	since, err := d.exchange(ctx, s, now)
	if err != nil {
		d.event(stack, s.Name, StepReload, EventFailed, err.Error())
		return d.explain(ctx, s.Name, s.Running.ID, err)
	}
	select {
	case <-ctx.Done():
	case <-time.After(reloadSettles):
	}
	d.event(stack, s.Name, StepReload, EventDone, "")
	return d.proveReady(ctx, stack, s.Name, s.Running.ID, proof, since)
}

// reloadSettles is how long a program has for reading its files again: until then it answers as before, which proves
// nothing.
const reloadSettles = 2 * time.Second

// exchange puts files into a running container and makes that known to it. Since is from when on its log counts: it
// may say only at its start that it is ready.
func (d *Deployer) exchange(ctx context.Context, s plan.Service, files []plan.File) (since time.Time, err error) {
	id := s.Running.ID
	c, err := d.own(ctx, id)
	if err != nil {
		return since, err
	}
	if since = time.Now(); plan.ProofOf(s.Service).Log != "" {
		since = c.Started
	}
	if err := d.Engine.PutFiles(ctx, id, files); err != nil {
		return since, err
	}
	r := s.Service.Reload
	if r.Signal != "" {
		return since, d.Engine.Signal(ctx, id, r.Signal)
	}
	code, said, err := d.Engine.Run(ctx, id, secret.Reveal(r.Command))
	if err == nil && code != 0 {
		err = fmt.Errorf("its reload command ended with %d: %s", code, said)
	}
	return since, err
}

// reloadBack puts back the files of services that were reloaded by this call.
func (d *Deployer) reloadBack(ctx context.Context, stack string) error {
	d.reloaded.mu.Lock()
	defer d.reloaded.mu.Unlock()
	var problems []error
	for _, s := range d.reloaded.list {
		_, before := s.Changed()
		since, err := d.exchange(ctx, s, before)
		if err == nil {
			if f := d.proveReady(ctx, stack, s.Name, s.Running.ID, plan.ProofOf(s.Service), since); f != nil {
				err = f
			}
		}
		if err != nil {
			problems = append(problems, fmt.Errorf("the files of %s.%s before the deploy: %w", stack, s.Name, err))
			continue
		}
		d.event(stack, s.Name, StepPutBack, EventDone, "its files of before")
	}
	d.reloaded.list = nil
	return errors.Join(problems...)
}
