package app

import (
	"context"
	"slices"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
)

// Retirement is what a stack has on a host, before it is retired.
type Retirement struct {
	Stack, Host                   string
	Containers, Networks, Volumes []string

	lab *Workspace
	on  *deploy.Deployer
}

// Retirement finds what a stack has on its host: the declared one, else the one that still has containers of
// it. It has to be closed.
func (w *Workspace) Retirement(ctx context.Context, stack, onHost string,
	report func(deploy.Event)) (*Retirement, error) {
	d, err := w.whereStackIs(ctx, stack, onHost, report)
	if err != nil {
		return nil, err
	}
	r := &Retirement{Stack: stack, Host: d.Host, lab: w, on: d}
	if r.Containers, r.Networks, err = d.Retiring(ctx, stack); err == nil {
		r.Volumes, err = d.Volumes(ctx, stack)
	}
	if err != nil {
		r.Close()
		return nil, unreachable(d.Host, err)
	}
	return r, nil
}

// Strangers returns what runs on the host under the lab's name and was not deployed from here.
func (r *Retirement) Strangers(ctx context.Context) (map[string][]deploy.Elsewhere, error) {
	return r.lab.strangersOf(ctx, map[string]*deploy.Deployer{r.Host: r.on})
}

// CarryOut retires the stack, and writes it down. An error of the engine comes as it is.
func (r *Retirement) CarryOut(ctx context.Context, withVolumes bool) (deploy.Outcome, error) {
	began := time.Now()
	out, err := r.on.Retire(ctx, r.Stack, deploy.Options{After: r.lab.lastEntry(r.Stack), WithVolumes: withVolumes})
	if err == nil && out.Entry > 0 {
		r.lab.record(ctx, r.on, history.Entry{Kind: history.Retire, Stack: r.Stack, Began: began}, out)
	}
	if err != nil && ctx.Err() != nil {
		return out, &Error{
			Kind:    Interrupted,
			Message: "interrupted; lantern retire " + r.Stack + " goes on",
			Err:     err,
		}
	}
	if err != nil {
		err = unreachable(r.Host, err)
	}
	r.lab.clearHelpers(ctx, r.on.Engine)
	return out, err
}

// Close ends the connection to the engine.
func (r *Retirement) Close() { r.on.Engine.Close() }

// whereStackIs connects to the host of a stack: the declared one, else the one that still has containers of it.
func (w *Workspace) whereStackIs(ctx context.Context, stack, onHost string,
	report func(deploy.Event)) (*deploy.Deployer, error) {
	hosts := w.HostsOf(onHost)
	if st := w.Stack(stack); st != nil && st.Host != nil {
		hosts = slices.DeleteFunc(hosts, func(h *lab.Host) bool { return h != st.Host })
	}
	for _, h := range hosts {
		d, err := w.deployer(ctx, h, report)
		if err != nil {
			return nil, err
		}
		names, err := d.Stacks(ctx)
		if err != nil {
			d.Engine.Close()
			return nil, unreachable(h.Name, err)
		}
		if w.Stack(stack) != nil || slices.Contains(names, stack) {
			return d, nil
		}
		d.Engine.Close()
	}
	if _, err := w.StacksOf(Targets{{Stack: stack}}, ""); err != nil {
		return nil, err
	}
	return nil, usage("%s is not on %s", stack, onHost)
}
