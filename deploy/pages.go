package deploy

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
)

// provePages asks for the page of each service; anything below 500 is an answer.
func (d *Deployer) provePages(ctx context.Context, p plan.Stack) *Failure {
	name := p.Stack.Name
	for _, s := range p.Services {
		if s.Service == nil || s.Service.Page == nil || s.Action == plan.Keep {
			continue
		}
		page := s.Service.Page
		d.event(name, s.Name, StepProve, Begun, "page")
		waiting, cancel := context.WithTimeout(ctx, s.Service.ReadyWithin)
		last := "it does not answer"
		answered, pause := "", probeFirst
		for answered == "" && waiting.Err() == nil {
			c, err := d.Engine.Inspect(waiting, s.Service.ContainerName())
			if err == nil && !c.Running {
				cancel()
				return d.failed(ctx, name, s.Name, c.ID, "it "+ended(c))
			}
			for _, at := range d.dialPlaces(waiting, c, page.Port) {
				status, err := get(waiting, d.Engine.Conn.Port, page.TLS, at, page.Path)
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
			return d.failed(ctx, name, s.Name, s.Service.ContainerName(), fmt.Sprintf("its page on port %d was not there within %s: %s", page.Port, s.Service.ReadyWithin, last))
		}
		d.event(name, s.Name, StepProve, StepDone, "page answers at "+answered)
	}
	return nil
}

// lookFromHere tries, after everything is proven on the host, what a person would try: each page by its link, and the other published ports. Nothing of it
// is a failure: what is proven there and does not answer here has a firewall or a name in between.
func (d *Deployer) lookFromHere(ctx context.Context, p plan.Stack) {
	var wait sync.WaitGroup
	for _, s := range p.Services {
		if s.Service == nil || s.Action == plan.Keep || s.Action == plan.Remove {
			continue
		}
		wait.Go(func() {
			if link := silentLink(ctx, s.Service); link != "" {
				d.event(p.Stack.Name, s.Name, StepProve, Progress, "its page answers on the host, and not from here at "+link+": a firewall, or a name that leads elsewhere, is in between")
			}
			for _, port := range d.silentPorts(ctx, s.Service) {
				d.event(p.Stack.Name, s.Name, StepProve, Progress, "published, and nothing accepts connections: tcp "+port.String())
			}
		})
	}
	wait.Wait()
}

// linkWithin is how long a page is waited for that is proven already: the way over a published port can take its time.
const linkWithin = 5 * time.Second

// silentLink returns the first link of a service that does not answer from here; "" when all do.
func silentLink(ctx context.Context, s *lab.Service) string {
	for _, link := range s.Links() {
		u, err := url.Parse(link)
		if err != nil {
			continue
		}
		waiting, cancel := context.WithTimeout(ctx, linkWithin)
		_, err = get(waiting, fromHere, u.Scheme == "https", u.Host, u.RequestURI())
		cancel()
		if err != nil && ctx.Err() == nil {
			return link
		}
	}
	return ""
}

// otherPorts returns the published tcp ports of a service that neither its ready nor its page asks, each port inside once.
func otherPorts(s *lab.Service, proof plan.Proof) []plan.Port {
	var ports []plan.Port
	for _, p := range plan.Declare(s).Ports {
		p.Address = "" // all lead to the same place
		if p.Protocol == "tcp" && p.Container != proof.Port && p.Container != proof.PagePort && !slices.Contains(ports, p) {
			ports = append(ports, p)
		}
	}
	return ports
}

// silentPorts returns the published tcp ports of a service on which nothing accepts connections inside; its page and its ready are not asked again.
func (d *Deployer) silentPorts(ctx context.Context, s *lab.Service) []plan.Port {
	proof := plan.ProofOf(s)
	c, err := d.Engine.Inspect(ctx, s.ContainerName())
	if err != nil || !c.Running {
		return nil
	}
	var silent []plan.Port
	for _, port := range otherPorts(s, proof) {
		if _, ok := d.accepts(ctx, c, port.Container); !ok {
			silent = append(silent, port)
		}
	}
	return silent
}
