package deploy

import (
	"context"
	"slices"
	"sync"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// inTurn sorts services into rows: those of one row are replaced one after the other. These are the copies of one service
// of which something runs; all others stand alone.
func inTurn(services []plan.Service) (rows [][]plan.Service) {
	at := map[*lab.Service]int{}
	for _, s := range services {
		of := s.Service
		if of.CopyOf != nil {
			of = of.CopyOf
		}
		runs := slices.ContainsFunc(services, func(o plan.Service) bool {
			return o.Running != nil && lab.IsOf(of.Name, o.Name)
		})
		if i, begun := at[of]; begun && runs {
			rows[i] = append(rows[i], s)
			continue
		}
		at[of] = len(rows)
		rows = append(rows, []plan.Service{s})
	}
	return rows
}

// awayFromGates are containers that are about to stop while others do their work.
type awayFromGates struct {
	mu  sync.Mutex // held while gates are told: the last word is the right one
	ids map[string]bool
}

// leaveGates tells gates to ask the other copies of a service while one of them is replaced, and waits until requests that
// are under way to that one have ended.
func (d *Deployer) leaveGates(ctx context.Context, stack *lab.Stack, s plan.Service) {
	of := stack.Service(lab.ServiceOf(s.Name))
	if d.Route == nil || of == nil || len(of.Sites) == 0 || !of.HasCopies() && of.Name == s.Name || s.Running == nil || !s.Running.Up {
		return
	}
	d.away.mu.Lock()
	defer d.away.mu.Unlock()
	if d.away.ids == nil {
		d.away.ids = map[string]bool{}
	}
	d.away.ids[s.Running.ID] = true
	d.tellGates(ctx, stack.Name)
}

// backToGates tells gates that a copy that was replaced may be asked again.
func (d *Deployer) backToGates(ctx context.Context, stack string, s plan.Service) {
	if d.Route == nil || len(s.Service.Sites) == 0 || !s.Service.HasCopies() {
		return
	}
	d.away.mu.Lock()
	defer d.away.mu.Unlock()
	if len(d.away.ids) > 0 {
		d.tellGates(ctx, stack)
	}
}

// tellGates leads gates to what runs of a stack and is not about to stop. A gate that does not answer holds nothing up: it
// finds them by their name.
func (d *Deployer) tellGates(ctx context.Context, stack string) {
	containers, err := d.Containers(ctx, stack)
	if err != nil {
		return
	}
	containers = slices.DeleteFunc(containers, func(c engine.State) bool { return d.away.ids[c.ID] || !c.Running })
	if err := d.Route(ctx, stack, containers, drainFor); err != nil {
		d.event(stack, "", StepRoute, EventFailed, err.Error())
	}
}
