package deploy

import (
	"context"
	"fmt"
	"sync"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
)

// provePages asks for the page of each service; anything below 500 is an answer.
func (d *Deployer) provePages(ctx context.Context, p plan.Stack) *Failure {
	for _, s := range p.Services {
		if s.Service == nil || s.Service.Page == nil || s.Action == plan.Keep {
			continue
		}
		if f := d.provePage(ctx, p.Stack.Name, s.Name, plan.ProofOf(s.Service)); f != nil {
			return f
		}
	}
	return nil
}

// provePage waits until the page of a service answers.
func (d *Deployer) provePage(ctx context.Context, stack, service string, proof plan.Proof) *Failure {
	name := lab.ContainerName(d.Lab, stack, service)
	d.event(stack, service, StepProve, EventBegun, "page")
	d.Approach(ctx, name, proof.PagePort)
	waiting, cancel := context.WithTimeout(ctx, proof.Within)
	defer cancel()
	last, pause := "it does not answer", probeFirst
	defer func() { d.Leave(context.WithoutCancel(ctx), name) }()
	for waiting.Err() == nil {
		c, err := d.Engine.Inspect(waiting, name)
		if err == nil && !c.Running {
			return d.failed(ctx, stack, service, c.ID, "it "+observe.HowEnded(c))
		}
		a := d.Ask(waiting, c, proof.PageTLS, proof.PagePort, proof.Page)
		switch {
		case a.Status >= 500:
			last = fmt.Sprintf("it answers with status %d", a.Status)
		case (a.Status > 0 || a.Listens) && d.RunsOn(waiting, c):
			how := " answers at " + a.At
			if a.Unasked {
				how = a.How
			}
			d.event(stack, service, StepProve, EventDone, "page"+how)
			return nil
		}
		select {
		case <-waiting.Done():
		case <-time.After(pause):
			pause = min(2*pause, probeEvery)
		}
	}
	return d.failed(ctx, stack, service, name,
		fmt.Sprintf("its page on port %d was not there within %s: %s", proof.PagePort, proof.Within, last))
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
