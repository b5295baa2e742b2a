package observe

import (
	"context"
	"net"
	"strings"
	"sync"

	"proudlantern.example/lantern/engine"
)

// Dialing makes connections from somewhere else than here, until it is closed.
type Dialing interface {
	Dial(ctx context.Context, address string) (net.Conn, error)
	Close() error
}

// Inside asks from inside the networks of containers: an engine without root has them where nothing else can ask.
type Inside struct {
	start func(ctx context.Context, e *engine.Engine, container string) (Dialing, error)

	mu   sync.Mutex
	open map[string]Dialing // by container and start; nil where none can be had
}

// NewInside returns one for which start begins to ask from the network of a container.
func NewInside(start func(ctx context.Context, e *engine.Engine, container string) (Dialing, error)) *Inside {
	return &Inside{start: start, open: map[string]Dialing{}}
}

// dialer returns what dials from the network of a container, as long as it runs; nil where nothing can.
func (i *Inside) dialer(ctx context.Context, e *engine.Engine, c engine.State) dialer {
	if i == nil || !c.Running {
		return nil
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	run := c.ID + " " + c.Started.String()
	d, known := i.open[run]
	if !known {
		i.leave(c.ID) // a network of an earlier run
		var err error
		if d, err = i.start(ctx, e, c.ID); err != nil {
			d = nil
		}
		if err != nil && ctx.Err() != nil {
			return nil
		}
		i.open[run] = d
	}
	if d == nil {
		return nil
	}
	return d.Dial
}

// Leave ends the asking from a container: as long as it lasts, some engines do not remove that.
func (i *Inside) Leave(container string) {
	if i == nil {
		return
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.leave(container)
}

func (i *Inside) leave(container string) {
	for run, d := range i.open {
		if strings.HasPrefix(run, container+" ") {
			if d != nil {
				d.Close()
			}
			delete(i.open, run)
		}
	}
}
