package observe

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/wiring"
	"proudlantern.example/lantern/engine"
)

// What is proven of a service.
const (
	ProofReady = "ready"
	ProofPage  = "page"
	ProofPort  = "port"
	ProofWire  = "wire"
)

// Proven is one thing that was proven of a service, or could not be.
type Proven struct {
	Host    string `json:"host"`
	Stack   string `json:"stack"`
	Service string `json:"service"`
	What    string `json:"what"`
	Target  string `json:"target,omitempty"` // a page, a port, or where a wire leads
	OK      bool   `json:"ok"`
	At      string `json:"at,omitempty"`     // where it was seen
	Detail  string `json:"detail,omitempty"` // what was seen instead
}

// Decides reports whether the proof failing means that the stack does not do its work: a published port that
// nothing listens on may be opened later.
func (p Proven) Decides() bool { return p.What != ProofPort }

// Prove looks whether a stack does its work now, and changes nothing: ready and page of each service, its
// other published tcp ports, and the wires to other services. With names only of those services.
func (o *Observer) Prove(ctx context.Context, st *lab.Stack, only []string,
	wires []wiring.Connection) ([]Proven, error) {
	containers, err := o.Containers(ctx, st.Name)
	if err != nil {
		return nil, err
	}
	services := st.Containers()
	found := make([][]Proven, len(services))
	var wait sync.WaitGroup
	for i, s := range services {
		if only != nil && !slices.ContainsFunc(only, func(named string) bool { return lab.IsOf(named, s.Name) }) {
			continue
		}
		wait.Go(func() {
			waiting, cancel := context.WithTimeout(ctx, 2*linkWithin)
			defer cancel()
			found[i] = o.proveNow(waiting, s, containers, wires)
		})
	}
	wait.Wait()
	var all []Proven
	for _, list := range found {
		all = append(all, list...)
	}
	return all, nil
}

// proveNow looks at one service.
func (o *Observer) proveNow(ctx context.Context, s *lab.Service, containers []engine.State,
	wires []wiring.Connection) []Proven {
	about := func(what, target string) Proven {
		return Proven{Host: o.Host, Stack: s.Stack.Name, Service: s.Name, What: what, Target: target}
	}
	ready := about(ProofReady, "")
	i := slices.IndexFunc(containers, func(c engine.State) bool { return c.Name == s.ContainerName() })
	if i < 0 {
		ready.Detail = "it is not there"
		return []Proven{ready}
	}
	c, proof := containers[i], plan.ProofOf(s)
	defer o.Leave(context.WithoutCancel(ctx), c.ID)
	switch {
	case CompletedJob(c) && (proof.Done || !proof.Declared()):
		ready.OK, ready.Detail = true, "done"
		return []Proven{ready}
	case !c.Running:
		ready.Detail = "it " + HowEnded(c)
		return []Proven{ready}
	case !proof.Declared():
		ready.OK, ready.Detail = true, "runs; it declares no ready"
	case proof.Log != "":
		ready.OK = o.said(ctx, c, proof.Log)
	default:
		var how string
		ready.OK, how = o.Ready(ctx, c, proof, nil, c.Started)
		ready.OK = ready.OK && o.RunsOn(ctx, c)
		ready.Detail = regexp.MustCompile(`^, (at )?`).ReplaceAllString(how, "")
		if ready.OK && (proof.Port > 0) {
			ready.At, ready.Detail = ready.Detail, ""
		}
	}
	if !ready.OK {
		ready.Detail = NotReady(proof, ready.Detail)
	}
	all := []Proven{ready}
	if s.Page != nil {
		all = append(all, o.pageNow(ctx, s, c, about))
	}
	for _, port := range otherPorts(s, proof) {
		v := about(ProofPort, port.String())
		if v.At, v.OK = o.accepts(ctx, c, port.Container); !v.OK {
			v.Detail = "nothing accepts connections"
		}
		all = append(all, v)
	}
	for _, w := range wires {
		if w.From == s {
			all = append(all, o.wireNow(ctx, w, about(ProofWire, w.To.FullName()+" "+strconv.Itoa(w.Port))))
		}
	}
	return all
}

// said reports whether a line of a container's log since its start matches.
func (o *Observer) said(ctx context.Context, c engine.State, pattern string) bool {
	re, err := regexp.Compile(pattern)
	found := false
	if err == nil {
		o.Engine.Log(ctx, c.ID, c.Started.Add(-time.Second), false, 0,
			func(line string) { found = found || re.MatchString(line) })
	}
	return found
}

// pageNow asks for the page of a service, on the host and then by its link.
func (o *Observer) pageNow(ctx context.Context, s *lab.Service, c engine.State,
	about func(what, target string) Proven) Proven {
	v := about(ProofPage, strconv.Itoa(s.Page.Port)+s.Page.Path)
	v.Detail = "it does not answer"
	a := o.Ask(ctx, c, s.Page.TLS, s.Page.Port, s.Page.Path)
	switch {
	case a.Unasked:
		v.OK, v.Detail = a.Listens, strings.TrimPrefix(a.How, ", ")
		return v
	case a.Status > 0:
		v.At, v.OK, v.Detail = a.At, a.Status < 500, ""
		if !v.OK {
			v.Detail = fmt.Sprintf("it answers with status %d", a.Status)
		}
	}
	if v.OK {
		if link := SilentLink(ctx, s); link != "" {
			v.Detail = "not from here at " + link + ": a firewall, or a name that leads elsewhere, is in between"
		}
	}
	return v
}

// wireNow looks whether the far end of a wire is there and accepts connections.
func (o *Observer) wireNow(ctx context.Context, w wiring.Connection, v Proven) Proven {
	if w.To.Stack.Host != w.From.Stack.Host {
		v.OK, v.Detail = true, "on another host; not tried from here"
		return v
	}
	to, err := o.Engine.Inspect(ctx, w.To.ContainerName())
	switch {
	case err != nil:
		v.Detail = w.Variable + " leads to what is not there"
	case !to.Running:
		v.Detail = w.To.FullName() + " " + HowEnded(to)
	default:
		if v.At, v.OK = o.accepts(ctx, to, w.Port); !v.OK {
			v.Detail = w.Variable + ": nothing accepts connections there"
		}
	}
	return v
}
