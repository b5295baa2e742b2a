package deploy

import (
	"context"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// Stacks returns the names of the lab's stacks that have services on the cluster, sorted.
func (c *Cluster) Stacks(ctx context.Context) ([]string, error) {
	services, err := c.services(ctx, "")
	var names []string
	for _, s := range services {
		names = append(names, s.Labels[plan.LabelStack])
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// Status looks at every copy of the services of a stack; see [observe.Observer.Status]. The host of each is the one that it runs
// on. What moved because its host is gone says so, and so does what finds no other.
func (c *Cluster) Status(ctx context.Context, stack string, declared *lab.Stack) ([]observe.Status, error) {
	services, err := c.services(ctx, stack)
	if err != nil {
		return nil, err
	}
	locks, err := c.locks(ctx, stack)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, s := range services {
		ids = append(ids, s.ID)
	}
	tasks, err := c.Engine.Tasks(ctx, ids)
	if err != nil {
		return nil, err
	}
	nodes, err := c.Engine.Nodes(ctx)
	if err != nil {
		return nil, err
	}
	outdated := map[string]bool{}
	names := []string{}
	if declared != nil {
		for _, s := range plan.MakeOnCluster(declared, running(services)).Services {
			outdated[s.Name] = s.Action == plan.Replace
		}
		for _, s := range declared.Services {
			names = append(names, s.Name)
		}
	}
	for _, s := range services {
		if name := s.Labels[plan.LabelService]; !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	lists := make([][]observe.Status, len(names))
	var work errgroup.Group
	work.SetLimit(16)
	for i, name := range names {
		work.Go(func() error {
			l := clusterLook{Cluster: c, stack: stack, name: name, nodes: nodes, deploying: len(locks) > 0}
			if declared != nil {
				l.declared = declared.Service(name)
			}
			j := slices.IndexFunc(services, func(s engine.ClusterService) bool { return s.Labels[plan.LabelService] == name })
			if j < 0 {
				lists[i] = []observe.Status{l.status(c.Host, observe.StateMissing)}
				return nil
			}
			l.service, l.outdated = services[j], outdated[name]
			l.byHand = services[j].Labels[plan.LabelSpec] != engine.SpecDigest(services[j].Spec)
			lists[i] = l.copies(ctx, tasks)
			return nil
		})
	}
	err = work.Wait()
	return slices.Concat(lists...), err
}

// clusterLook is a look at one service.
type clusterLook struct {
	*Cluster
	stack, name      string
	declared         *lab.Service
	service          engine.ClusterService
	nodes            []engine.Node
	outdated, byHand bool
	deploying        bool
}

func (l *clusterLook) status(host, state string) observe.Status {
	s := observe.Status{Host: host, Stack: l.stack, Service: l.name, State: state, Outdated: l.outdated, Changed: l.byHand}
	if l.declared != nil {
		s.About = l.declared.About
	} else {
		s.Outdated, s.Detail = true, "no longer in the files"
	}
	if l.deploying {
		s.State = observe.StateDeploying
	}
	return s
}

// copies looks at each copy. Tasks come newest first, those of other services among them.
func (l *clusterLook) copies(ctx context.Context, tasks []engine.Task) (all []observe.Status) {
	type place struct {
		slot int
		node string
	}
	history := map[place][]engine.Task{}
	var places []place
	for _, t := range tasks {
		if t.Service != l.service.ID {
			continue
		}
		p := place{slot: t.Slot}
		if t.Slot == 0 {
			p.node = t.Node
		}
		if history[p] == nil {
			places = append(places, p)
		}
		history[p] = append(history[p], t)
	}
	slices.SortFunc(places, func(a, b place) int {
		if a.slot != b.slot {
			return a.slot - b.slot
		}
		return slices.IndexFunc(l.nodes, func(n engine.Node) bool { return n.ID == a.node }) - slices.IndexFunc(l.nodes, func(n engine.Node) bool { return n.ID == b.node })
	})
	for i, p := range places {
		t := history[p][0]
		if t.Wanted == "remove" || t.Wanted == "shutdown" && p.slot > l.wantedSlots() || p.node != "" && t.Wanted != "running" {
			continue // there are fewer now
		}
		s := l.status(l.hostOf(t.Node), observe.StateStarting)
		if i > 0 {
			s.Service = fmt.Sprintf("%s.copy-%d", l.name, i+1)
		}
		l.describe(ctx, &s, t)
		if from, moved := l.movedFrom(history[p]); moved && s.Detail == "" {
			s.Detail = "moved from " + from + ", which is gone"
		}
		if l.deploying {
			s.State = observe.StateDeploying
		}
		all = append(all, s)
	}
	if len(all) == 0 {
		all = append(all, l.status(l.Host, observe.StateMissing))
	}
	return all
}

func (l *clusterLook) wantedSlots() int {
	if r := l.service.Spec.Mode.Replicated; r != nil && r.Replicas != nil {
		return int(*r.Replicas)
	}
	return 0
}

// movedFrom returns the host that a copy was on before, when that is gone.
func (l *clusterLook) movedFrom(history []engine.Task) (host string, moved bool) {
	for _, t := range history[1:] {
		gone := slices.ContainsFunc(l.nodes, func(n engine.Node) bool { return n.ID == t.Node && !n.Ready })
		if gone && t.Node != history[0].Node && engine.SameTask(t, l.service.Spec) {
			return l.nameOf(t.Node), true
		}
	}
	return "", false
}

// nameOf names a node: by its host, else as it calls itself.
func (l *clusterLook) nameOf(node string) string {
	if m, ok := l.memberOf(node); ok {
		return m.Host
	}
	for _, n := range l.nodes {
		if n.ID == node {
			return n.Name
		}
	}
	return "another host"
}

// describe fills in what a copy shows.
func (l *clusterLook) describe(ctx context.Context, s *observe.Status, t engine.Task) {
	s.Host = l.nameOf(t.Node)
	if t.Node == "" {
		s.Host = l.Host
	}
	s.Image, s.Since = l.service.Spec.TaskTemplate.ContainerSpec.Image, t.UpdatedAt
	gone := slices.ContainsFunc(l.nodes, func(n engine.Node) bool { return n.ID == t.Node && !n.Ready })
	switch {
	case gone:
		s.State, s.Detail = observe.StateMissing, s.Host+" is gone"
	case t.State == "pending" || t.State == "new" || t.State == "allocated":
		s.State, s.Detail = observe.StateMissing, "no host for it"
		if t.Error != "" {
			s.Detail += ": " + t.Error
		}
	case t.State == "failed" || t.State == "rejected":
		s.State, s.Detail = observe.StateFailed, t.Error
	case t.State == "complete":
		s.State = observe.StateDone
	case t.State != "running":
		s.Detail = t.State
	default:
		l.running(ctx, s, t)
	}
}

// running looks at a copy that runs.
func (l *clusterLook) running(ctx context.Context, s *observe.Status, t engine.Task) {
	proof := plan.ReadProof(l.service.Labels[plan.LabelProof])
	if l.declared != nil {
		proof = plan.ProofOf(l.declared)
	}
	m, ok := l.memberOf(t.Node)
	s.State = observe.StateRunning
	if !ok || m.Engine == nil || !proof.Declared() || proof.Log != "" {
		if proof.Log != "" {
			s.State = observe.StateReady
		}
		return
	}
	waiting, cancel := context.WithTimeout(ctx, 8*time.Second)
	defer cancel()
	c, err := m.Engine.Inspect(waiting, t.Container)
	if err != nil {
		s.State, s.Detail = observe.StateStarting, ""
		return
	}
	s.Since, s.Digest = c.Started, c.ImageID
	o := l.on(m)
	o.Inside = nil // a look starts nothing on a host
	s.State = observe.StateStarting
	if ready, how := o.Ready(waiting, c, proof, nil, c.Started); ready {
		s.State = observe.StateReady
	} else {
		s.Detail = observe.NotReady(proof, how)
	}
}
