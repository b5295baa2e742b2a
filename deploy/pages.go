package deploy

import (
	"context"
	"fmt"
	"sync"
	"time"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
)

// provePages asks for the page of each service; anything below 500 is an answer.
func (d *Deployer) provePages(ctx context.Context, p plan.Stack) *Failure {
	name := p.Stack.Name
	for _, s := range p.Services {
		if s.Service == nil || s.Service.Page == nil || s.Action == plan.Keep {
			continue
		}
		page := s.Service.Page
		d.event(name, s.Name, StepProve, EventBegun, "page")
		waiting, cancel := context.WithTimeout(ctx, s.Service.ReadyWithin)
		last := "it does not answer"
		answered, pause := "", probeFirst
		for answered == "" && waiting.Err() == nil {
			c, err := d.Engine.Inspect(waiting, s.Service.ContainerName())
			if err == nil && !c.Running {
				cancel()
				return d.failed(ctx, name, s.Name, c.ID, "it "+observe.HowEnded(c))
			}
			for _, at := range d.DialPlaces(waiting, c, page.Port) {
				status, err := observe.Get(waiting, d.Engine.Conn.Port, page.TLS, at, page.Path)
				if err == nil && status < 500 {
					answered = at
					break
				}
				if err == nil {
					last = fmt.Sprintf("it answers with status %d", status)
				}
			}
			if answered == "" {
				select {
				case <-waiting.Done():
				case <-time.After(pause):
					pause = min(2*pause, probeEvery)
				}
			}
		}
		cancel()
		if answered == "" {
			return d.failed(ctx, name, s.Name, s.Service.ContainerName(),
				fmt.Sprintf("its page on port %d was not there within %s: %s",
					page.Port, s.Service.ReadyWithin, last))
		}
		d.event(name, s.Name, StepProve, EventDone, "page answers at "+answered)
	}
	return nil
}

// probeLinks tries, after everything is proven on the host, what a person would try: each page by its link,
// and the other published ports. Nothing of it is a failure: what is proven there and does not answer here
// has a firewall or a name in between.
func (d *Deployer) probeLinks(ctx context.Context, p plan.Stack) {
	var wait sync.WaitGroup
	for _, s := range p.Services {
		if s.Service == nil || s.Action == plan.Keep || s.Action == plan.Remove {
			continue
		}
		wait.Go(func() {
			if link := observe.SilentLink(ctx, s.Service); link != "" {
				d.event(p.Stack.Name, s.Name, StepProve, EventProgress,
					"its page answers on the host, and not from here at "+link+
						": a firewall, or a name that leads elsewhere, is in between")
			}
			for _, port := range d.SilentPorts(ctx, s.Service) {
				d.event(p.Stack.Name, s.Name, StepProve, EventProgress,
					"published, and nothing accepts connections: tcp "+port.String())
			}
		})
	}
	wait.Wait()
}
