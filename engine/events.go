package engine

import (
	"context"
	"errors"
	"io"
	"strings"

	"github.com/moby/moby/api/types/events"
	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/plan"
)

// Events tells of each change of how a container of the lab runs: made, started, ended, renamed, removed. It calls
// begun once it listens, and goes on until ctx ends or the engine does not answer any more; then it returns why.
func (e *Engine) Events(ctx context.Context, lab string, begun func(), each func(stack, service string)) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	stream := e.api.Events(ctx, client.EventsListOptions{Filters: make(client.Filters).
		Add("type", string(events.ContainerEventType)).Add("label", plan.LabelLab+"="+lab)})
	select {
	case err := <-stream.Err:
		return ended(err)
	default:
		begun()
	}
	for {
		select {
		case m := <-stream.Messages:
			if labels := m.Actor.Attributes; labels[plan.LabelLab] == lab && changesState(m.Action) {
				each(labels[plan.LabelStack], labels[plan.LabelService])
			}
		case err := <-stream.Err:
			return ended(err)
		}
	}
}

// ended words the end of a stream that should have none.
func ended(err error) error {
	if err == nil || errors.Is(err, io.EOF) {
		err = errors.New("the engine has ended its news")
	}
	return explain("events", err)
}

// changesState reports whether a container is another than before. What somebody does inside of one, our own looks
// among it, is no change. Podman says exec and exec_died.
func changesState(a events.Action) bool {
	name, _, _ := strings.Cut(string(a), ":")
	switch events.Action(name) {
	case events.ActionExecCreate, events.ActionExecStart, events.ActionExecDie, events.ActionExecDetach, "exec", "exec_died",
		events.ActionTop, events.ActionAttach, events.ActionDetach, events.ActionResize, events.ActionExport,
		events.ActionArchivePath, events.ActionExtractToDir, events.ActionCopy, events.ActionCommit:
		return false
	}
	return true
}
