package app

import (
	"context"
	"crypto/rand"
	"errors"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// Inside is a service that was looked for to do something inside of it. It has to be closed.
type Inside struct {
	Target Target
	on     *deploy.Deployer
	c      engine.State
}

// Inside finds a service that runs.
func (w *Workspace) Inside(ctx context.Context, t Target, onHost string) (*Inside, error) {
	if t.Service == "" {
		return nil, usage("%s is a stack: write STACK/SERVICE", t)
	}
	if st := w.Stack(t.Stack); st != nil && !st.Broken && st.Service(t.Service) == nil {
		return nil, w.noService(st, t.Service)
	}
	d, err := w.whereStackIs(ctx, t.Stack, onHost, nil)
	if err != nil {
		return nil, err
	}
	c, err := d.Engine.Own(ctx, w.Name, lab.ContainerName(w.Name, t.Stack, t.Service))
	switch {
	case errors.Is(err, engine.ErrNotFound):
		err = &Error{Kind: Stopped, Message: t.String() + " is not deployed", Do: "lantern deploy " + t.String()}
	case err != nil:
		err = unreachable(d.Host, err)
	case !c.Running || c.Status == "restarting":
		how := "does not run"
		if !c.Finished.IsZero() {
			how += ": it " + observe.HowEnded(c)
		}
		err = &Error{
			Kind: Stopped, Message: t.String() + " " + how,
			Do: "lantern start " + t.String() + ", or lantern logs " + t.String(),
		}
	}
	if err != nil {
		d.Engine.Close()
		return nil, err
	}
	return &Inside{t, d, c}, nil
}

// Close ends the connection to the engine.
func (i *Inside) Close() { i.on.Engine.Close() }

// Processes returns what runs inside.
func (i *Inside) Processes(ctx context.Context) ([]engine.Process, error) {
	list, err := i.on.Engine.Processes(ctx, i.c.ID)
	if err != nil {
		return nil, unreachable(i.on.Host, err)
	}
	return list, nil
}

// Run runs a command inside, or the best shell that there is where none is given. The error says what keeps it
// from running; what the command itself ends with is code.
func (i *Inside) Run(ctx context.Context, x engine.Exec) (code int, err error) {
	return i.run(ctx, i.c.ID, x, &Error{
		Kind: Stopped, Message: "the image of " + i.Target.String() + " has no shell",
		Do: "lantern shell " + i.Target.String() + " --from IMAGE starts one beside it, from an image that has one",
	})
}

// labelHelper says which service a helper stands beside.
const labelHelper = "proudlantern.helper"

// Fetch pulls the image of a helper where it is not on the host yet.
func (i *Inside) Fetch(ctx context.Context, image string) error {
	e := i.on.Engine
	_, err := e.Image(ctx, image)
	switch {
	case err == nil:
		return nil
	case !errors.Is(err, engine.ErrNotFound):
		return unreachable(i.on.Host, err)
	}
	if err := e.Pull(ctx, image, nil, func(engine.PullProgress) {}); err != nil {
		return &Error{
			Kind:    Stopped,
			Message: "the image " + image + " cannot be pulled: " + err.Error(),
			Err:     err,
		}
	}
	return nil
}

// RunBeside runs a command, or a shell, in a container of another image, which was fetched, that shares the service's
// processes and network. That container is removed at the end.
func (i *Inside) RunBeside(ctx context.Context, image string, x engine.Exec) (code int, err error) {
	e := i.on.Engine
	// Not labelled as the lab's: a deploy would take it for what another one has left.
	labels := map[string]string{labelHelper: i.Target.String()}
	for _, l := range []string{plan.LabelLab, plan.LabelStack} {
		labels[l] = ""
	}
	name := i.c.Name + ".helper-" + rand.Text()[:6]
	id, err := e.Helper(ctx, name, image, i.c.ID, labels)
	if err != nil {
		return 0, &Error{Kind: Stopped, Message: "no helper could be started: " + err.Error(), Err: err}
	}
	defer func() {
		if lost := e.Remove(context.WithoutCancel(ctx), id); lost != nil && err == nil {
			err = unreachable(i.on.Host, lost)
		}
	}()
	return i.run(ctx, id, x, &Error{Kind: Stopped, Message: "the image " + image + " has no shell"})
}

func (i *Inside) run(ctx context.Context, id string, x engine.Exec, noShell *Error) (int, error) {
	if len(x.Command) == 0 {
		shell, err := i.on.Engine.Shell(ctx, id)
		if err != nil {
			return 0, unreachable(i.on.Host, err)
		}
		if shell == "" {
			return 0, noShell
		}
		x.Command = []string{shell}
	}
	code, err := i.on.Engine.Exec(ctx, id, x)
	switch {
	case ctx.Err() != nil:
		return 0, &Error{Kind: Interrupted, Message: "interrupted"}
	case err != nil:
		return 0, unreachable(i.on.Host, err)
	}
	return code, nil
}
