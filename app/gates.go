package app

import (
	"cmp"
	"context"
	"errors"
	"net"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/sites"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/gate"
	"proudlantern.example/lantern/helper"
)

// errNoGate is that the gate of a host does not run.
var errNoGate = errors.New("the gate does not run")

// gateImages returns the digests of the programs that the gates of hosts are to run, by host.
func gateImages(l *declare.Lab, surveys map[string]*survey.Survey) map[string]string {
	if len(l.Gates) == 0 {
		return nil
	}
	images := map[string]string{}
	for _, g := range l.Gates {
		platform := ""
		if s := surveys[g.Host]; s != nil {
			platform = s.Platform
		}
		images[g.Host] = gateDigest(platform)
	}
	return images
}

// gateDigests are those that were worked out, by platform: the program is large, and does not change.
var gateDigests sync.Map

// gateDigest returns the digest of the program for a platform, "": this one's. Where there is none, the gate cannot be
// deployed, and says so then.
func gateDigest(platform string) string {
	if known, ok := gateDigests.Load(platform); ok {
		return known.(string)
	}
	digest, err := helper.GateDigest(cmp.Or(platform, helper.OwnPlatform))
	if err != nil {
		digest = "no-program"
	}
	gateDigests.Store(platform, digest)
	return digest
}

// withGate gives a deployer what it needs for the sites of a host.
func (w *Workspace) withGate(d *deploy.Deployer, h *lab.Host) {
	if len(w.Gates) == 0 {
		return
	}
	d.Route = func(ctx context.Context, stack string, containers []engine.State, drain time.Duration) error {
		return w.route(ctx, d.Engine, h, stack, containers, drain)
	}
	d.LoadGate = func(ctx context.Context) error {
		if machine, err := d.Engine.Machine(ctx); err == nil && machine != nil {
			return nil // it has one
		}
		platform, err := d.Engine.Platform(ctx)
		if err == nil {
			_, err = helper.LoadGate(ctx, d.Engine, platform)
		}
		var none *helper.NoProgramError
		if errors.As(err, &none) {
			return errors.New(none.Because + ": " + none.Do)
		}
		return err
	}
}

// talkTo reaches the gate of a host by its engine. The error may be [errNoGate].
func (w *Workspace) talkTo(ctx context.Context, e *engine.Engine, host string) (*gate.Client, error) {
	c, err := e.Own(ctx, w.Name, lab.ContainerName(w.Name, declare.GatePrefix+host, lab.GateService))
	switch {
	case errors.Is(err, engine.ErrNotFound), err == nil && !c.Running:
		return nil, errNoGate
	case err != nil:
		return nil, err
	}
	return gate.NewClient(func(ctx context.Context) (net.Conn, error) {
		return e.Talk(ctx, c.ID, append(slices.Clone(lab.GateProgram), "talk"))
	}), nil
}

// withGateOf calls f with the gate of a host. Engine is that of a host that is connected to already.
func (w *Workspace) withGateOf(ctx context.Context, e *engine.Engine, of *lab.Host, g *lab.Gate, f func(context.Context, *gate.Client) error) error {
	if g.Host != of {
		var err error
		if e, err = engine.DialHost(ctx, g.Host); err != nil {
			return unreachable(g.Host.Name, err)
		}
		defer e.Close()
	}
	client, err := w.talkTo(ctx, e, g.Host.Name)
	if err != nil {
		return err
	}
	defer client.Close()
	ctx, cancel := context.WithTimeout(ctx, gateWithin)
	defer cancel()
	return f(ctx, client)
}

// gateWithin is how long a gate may take, what it waits for included.
const gateWithin = time.Minute

// gatesOf returns the gates that lead to a stack; all for one that is not declared any more.
func (w *Workspace) gatesOf(stack string) (gates []*lab.Gate) {
	st := w.Stack(stack)
	if st == nil {
		return w.Gates
	}
	for _, s := range st.Services {
		for _, site := range s.Sites {
			if site.Gate != nil && !slices.Contains(gates, site.Gate) {
				gates = append(gates, site.Gate)
			}
		}
	}
	return gates
}

// withGates adds the gates that lead to stacks, on whatever host they are, unless only one host is asked for.
func (w *Workspace) withGates(stacks []*lab.Stack, onHost string) []*lab.Stack {
	for _, st := range slices.Clone(stacks) {
		for _, g := range w.gatesOf(st.Name) {
			if g.Stack != nil && !slices.Contains(stacks, g.Stack) && (onHost == "" || g.Host.Name == onHost) {
				stacks = append(stacks, g.Stack)
			}
		}
	}
	return stacks
}

// route tells the gates of a stack where its services are now. A gate that does not run yet is told once it does.
func (w *Workspace) route(ctx context.Context, e *engine.Engine, h *lab.Host, stack string, containers []engine.State,
	drain time.Duration) error {
	var problems []error
	for _, g := range w.gatesOf(stack) {
		routes := w.routes(w.Stack(stack), g, containers)
		err := w.withGateOf(ctx, e, h, g, func(ctx context.Context, client *gate.Client) error {
			return client.SetRoutes(ctx, stack, routes, drain)
		})
		if err != nil && !errors.Is(err, errNoGate) {
			problems = append(problems, err)
		}
	}
	return errors.Join(problems...)
}

// routes returns the routes of a stack that a gate gets: those of services that have a container, with its address.
func (w *Workspace) routes(st *lab.Stack, g *lab.Gate, containers []engine.State) []sites.Route {
	routes := []sites.Route{}
	if st == nil {
		return routes
	}
	find := func(s *lab.Service) (found []engine.State) {
		for _, one := range s.Copies() {
			for _, c := range containers {
				if c.Name == one.ContainerName() {
					found = append(found, c)
				}
			}
		}
		return found
	}
	for _, r := range sites.RoutesOf(st, g) {
		_, name, _ := strings.Cut(r.Service, "/")
		s := st.Service(name)
		if find(s) == nil {
			continue
		}
		if s.NetworkOf != nil {
			s = s.NetworkOf
		}
		for _, c := range find(s) {
			if at := c.On[w.Name+"."+lab.GateNetwork]; at != "" && st.Host == g.Host {
				r.Addresses = append(r.Addresses, net.JoinHostPort(at, strconv.Itoa(r.Port)))
			}
		}
		routes = append(routes, r)
	}
	return routes
}

// knowsOf asks a gate what it knows; nil where it does not run.
func (w *Workspace) knowsOf(ctx context.Context, e *engine.Engine, of *lab.Host, g *lab.Gate) (report *gate.Report, err error) {
	err = w.withGateOf(ctx, e, of, g, func(ctx context.Context, client *gate.Client) error {
		r, err := client.Report(ctx)
		report = &r
		return err
	})
	if errors.Is(err, errNoGate) {
		return nil, nil
	}
	return report, err
}

// compareSites adds to the plans of stacks on a host what their gates are to be told.
func (w *Workspace) compareSites(ctx context.Context, e *engine.Engine, h *lab.Host, plans []*plan.Stack) error {
	for _, g := range w.Gates {
		about := slices.ContainsFunc(plans, func(p *plan.Stack) bool {
			return p != nil && p.Stack.Host == h && (p.Stack.Gate == g || g.Host == h || slices.Contains(w.gatesOf(p.Stack.Name), g))
		})
		if !about || w.Unreached[g.Host.Name] != nil {
			continue
		}
		knows, err := w.knowsOf(ctx, e, h, g)
		if err != nil {
			return err
		}
		for _, p := range plans {
			if p == nil || p.Stack.Host != h {
				continue
			}
			if p.Stack.Gate == g {
				if knows == nil || knows.Settings != sites.Digest(sites.SettingsOf(w.Lab, g)) {
					p.Sites = append(p.Sites, plan.Difference{Field: "settings", Declared: "certificates, sign-ins and what else holds for all sites"})
				}
				continue
			}
			var now []sites.Route
			if knows != nil {
				now = knows.Stacks[p.Stack.Name]
			}
			p.Sites = append(p.Sites, siteDifferences(now, sites.RoutesOf(p.Stack, g))...)
		}
	}
	return nil
}

// siteDifferences are what a gate is to be told of a stack otherwise than it knows. Addresses of containers are none that a
// person has to know of.
func siteDifferences(now, wanted []sites.Route) (d []plan.Difference) {
	at := func(list []sites.Route, r sites.Route) int {
		return slices.IndexFunc(list, func(o sites.Route) bool { return o.Domain == r.Domain && o.Path == r.Path })
	}
	for _, r := range wanted {
		i := at(now, r)
		switch {
		case i < 0:
			d = append(d, plan.Difference{Field: "sites", Declared: r.String()})
		case now[i].String() != r.String() || now[i].Host != r.Host:
			d = append(d, plan.Difference{Field: "sites", Running: now[i].String(), Declared: r.String()})
		case !reflect.DeepEqual(now[i].Ready, r.Ready):
			d = append(d, plan.Difference{Field: "sites", Running: r.String(), Declared: r.String() + ", with another way to see that a copy is ready"})
		}
	}
	for _, r := range now {
		if at(wanted, r) < 0 {
			d = append(d, plan.Difference{Field: "sites", Running: r.String()})
		}
	}
	return d
}

// tell tells gates what a plan says that they do not know: that of the stack itself, or those that lead to it.
func (r *Run) tell(ctx context.Context, p plan.Stack) error {
	w, d := r.lab, r.hosts[p.Stack.Host.Name]
	if g := p.Stack.Gate; g != nil {
		return w.fill(ctx, d, g)
	}
	containers, err := d.Containers(ctx, p.Stack.Name)
	if err != nil {
		return err
	}
	var problems []error
	for _, g := range w.Gates {
		// Also those that lead there no longer.
		err := w.withGateOf(ctx, d.Engine, p.Stack.Host, g, func(ctx context.Context, client *gate.Client) error {
			routes := w.routes(p.Stack, g, containers)
			if len(routes) == 0 && g.Host != p.Stack.Host && !slices.Contains(w.gatesOf(p.Stack.Name), g) {
				return nil
			}
			return client.SetRoutes(ctx, p.Stack.Name, routes, 0)
		})
		if err != nil && (!errors.Is(err, errNoGate) || slices.Contains(w.gatesOf(p.Stack.Name), g)) {
			problems = append(problems, err)
		}
	}
	return errors.Join(problems...)
}

// fill tells a gate all that it is to know.
func (w *Workspace) fill(ctx context.Context, d *deploy.Deployer, g *lab.Gate) error {
	return w.withGateOf(ctx, d.Engine, g.Host, g, func(ctx context.Context, client *gate.Client) error {
		if err := client.SetSettings(ctx, sites.SettingsOf(w.Lab, g)); err != nil {
			return err
		}
		knows, err := client.Report(ctx)
		if err != nil {
			return err
		}
		for _, st := range w.Stacks {
			if st.Host == nil || st.Host != g.Host && !slices.Contains(w.gatesOf(st.Name), g) {
				continue
			}
			containers, err := w.containersOf(ctx, d, st)
			if err != nil {
				return err
			}
			routes := w.routes(st, g, containers)
			if len(routes) == 0 && knows.Stacks[st.Name] == nil {
				continue
			}
			if err := client.SetRoutes(ctx, st.Name, routes, 0); err != nil {
				return err
			}
		}
		for stack := range knows.Stacks {
			if w.Stack(stack) == nil {
				if err := client.SetRoutes(ctx, stack, nil, 0); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// containersOf returns the containers of a stack on whichever host it is.
func (w *Workspace) containersOf(ctx context.Context, d *deploy.Deployer, st *lab.Stack) ([]engine.State, error) {
	if st.Host.Name == d.Host {
		return d.Engine.Containers(ctx, w.Name, st.Name)
	}
	e, err := engine.DialHost(ctx, st.Host)
	if err != nil {
		return nil, nil // that host's own deploy tells the gate
	}
	defer e.Close()
	return e.Containers(ctx, w.Name, st.Name)
}

// Awaited returns, after a deploy, the sites whose certificate is not there yet, and why. What is made at once is waited
// for, but not for long: a site gets its certificate also later, by itself.
func (r *Run) Awaited(ctx context.Context, most time.Duration) (problems []gate.Certificate) {
	end := time.Now().Add(most)
	for _, g := range r.lab.Gates {
		d := r.hosts[g.Host.Name]
		if d == nil {
			continue
		}
		for {
			problems = problems[:0:0]
			report, err := r.lab.knowsOf(ctx, d.Engine, g.Host, g)
			if err != nil || report == nil {
				break
			}
			made := true
			for _, c := range report.Certificates {
				if c.Problem != "" {
					problems = append(problems, c)
					made = made && c.Problem != gate.BeingMade
				}
			}
			if made || ctx.Err() != nil || time.Now().After(end) {
				break
			}
			time.Sleep(200 * time.Millisecond)
		}
	}
	return problems
}
