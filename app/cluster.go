package app

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/hostconn"
)

// members connects to the hosts of a cluster, all at the same time. One that does not answer has an error instead.
func (w *Workspace) members(ctx context.Context, c *lab.Cluster) (members []deploy.Member, states []engine.Membership) {
	members, states = make([]deploy.Member, len(c.Members)), make([]engine.Membership, len(c.Members))
	var wait sync.WaitGroup
	for i, h := range c.Members {
		wait.Go(func() {
			m := deploy.Member{Host: h.Name}
			if m.Engine, m.Err = engine.DialHost(ctx, h); m.Err == nil {
				m.Engine.Logins = w.logins
				states[i], m.Err = m.Engine.Membership(ctx)
				m.Node = states[i].Node
			}
			members[i] = m
		})
	}
	wait.Wait()
	return members, states
}

// clusterDeployer connects to a cluster: to a manager of it that answers, and to all other hosts that do.
func (w *Workspace) clusterDeployer(ctx context.Context, c *lab.Cluster, report func(deploy.Event)) (*deploy.Cluster, error) {
	members, states := w.members(ctx, c)
	manager := -1
	var why []string
	for i, m := range members {
		switch {
		case m.Err != nil:
			why = append(why, m.Host+": "+reason(m.Err))
		case states[i].Problem != "":
			why = append(why, m.Host+": "+states[i].Problem)
		case states[i].Manager && manager < 0:
			if _, err := m.Engine.Nodes(ctx); err != nil { // without a majority of them, managers answer nothing
				why = append(why, m.Host+": "+err.Error())
				continue
			}
			manager = i
		}
	}
	if manager < 0 {
		closeMembers(members)
		formed := slices.ContainsFunc(states, func(s engine.Membership) bool { return s.Node != "" })
		if !formed && len(why) == 0 {
			return nil, &Error{Kind: Stopped, Message: fmt.Sprintf("the cluster %s is not formed yet", c.Name), Do: "lantern cluster " + c.Name + " --form"}
		}
		return nil, &Error{Kind: Unreachable, Message: "no manager of the cluster " + c.Name + " answers", Because: strings.Join(why, "; "),
			Do: "lantern cluster " + c.Name + " shows how its hosts are"}
	}
	d := w.deployerOf(members[manager].Engine, c.Name, report)
	return &deploy.Cluster{Deployer: d, Members: members}, nil
}

// reason is why a host does not answer, without what is said of it anyway.
func reason(err error) string {
	var known *hostconn.Unreachable
	if errors.As(err, &known) {
		return known.Because
	}
	return err.Error()
}

func closeMembers(members []deploy.Member) {
	for _, m := range members {
		if m.Engine != nil {
			m.Engine.Close()
		}
	}
}

func closeCluster(c *deploy.Cluster) { closeMembers(c.Members) }

// planOnCluster compares the stacks of a cluster with what runs there.
func (r *Run) planOnCluster(ctx context.Context, c *lab.Cluster, stacks []*lab.Stack, plans []*plan.Stack) error {
	d, err := r.lab.clusterDeployer(ctx, c, r.event)
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.hosts[c.Name], r.cluster[c.Name] = d.Deployer, d
	r.mu.Unlock()
	var work errgroup.Group
	work.SetLimit(stacksAtOnce)
	for i, st := range stacks {
		if st.Host != c.Host {
			continue
		}
		work.Go(func() error {
			p, err := d.Plan(ctx, st, r.options.Named.Services(st.Name))
			plans[i] = &p
			return err
		})
	}
	if err := work.Wait(); err != nil {
		return &Error{Kind: Unreachable, Message: "the cluster " + c.Name + ": " + err.Error(), Err: err}
	}
	return nil
}

// ClusterNode is a host of a cluster, as it is and as it is meant to be.
type ClusterNode struct {
	Host    string
	Role    string // manager or worker, as it is; "" for one that is not in it
	Wanted  string // as it is meant to be
	Leader  bool
	State   string   // ready, down, drained, away (it does not answer lantern), not in it, or strange (the lab does not have it)
	Why     string   // what is to be said of that
	Copies  []string // of services that run there: STACK/SERVICE
	Address string
}

// States of nodes.
const (
	NodeReady   = "ready"
	NodeDown    = "down"
	NodeDrained = "drained"
	NodeOutside = "not in it"
	NodeStrange = "not of the lab"
)

// ClusterState is a cluster as its hosts and its managers tell it.
type ClusterState struct {
	Name   string
	Formed bool
	Nodes  []ClusterNode
}

// clusterNamed returns a cluster of the lab; without a name the only one.
func (w *Workspace) clusterNamed(name string) (*lab.Cluster, error) {
	var names []string
	for _, c := range w.Clusters {
		names = append(names, c.Name)
	}
	switch {
	case len(names) == 0:
		return nil, usage("lab.toml has no cluster: [cluster.NAME] says which hosts are one")
	case name == "" && len(names) == 1:
		return w.Clusters[0], nil
	case name == "":
		return nil, usage("the lab has several clusters: name one of %s", strings.Join(names, ", "))
	case w.Cluster(name) == nil:
		return nil, usage("lab.toml has no cluster %s; it has %s", name, strings.Join(names, ", "))
	}
	return w.Cluster(name), nil
}

// Cluster looks at a cluster.
func (w *Workspace) ClusterState(ctx context.Context, name string) (ClusterState, error) {
	c, err := w.clusterNamed(name)
	if err != nil {
		return ClusterState{}, err
	}
	members, states := w.members(ctx, c)
	defer closeMembers(members)
	s := ClusterState{Name: c.Name}
	var nodes []engine.Node
	running := map[string][]string{}
	for i, m := range members {
		s.Formed = s.Formed || states[i].Node != ""
		if nodes != nil || m.Engine == nil || !states[i].Manager {
			continue
		}
		if nodes, err = m.Engine.Nodes(ctx); err != nil {
			nodes = nil
			continue
		}
		if running, err = w.runningOn(ctx, m.Engine); err != nil {
			return s, &Error{Kind: Unreachable, Message: "the cluster " + c.Name + ": " + err.Error(), Err: err}
		}
	}
	byID := map[string]engine.Node{}
	for _, n := range nodes {
		byID[n.ID] = n
	}
	managers := c.Managers()
	for i, m := range members {
		one := ClusterNode{Host: m.Host, Wanted: "worker", State: NodeOutside, Address: states[i].Address}
		if slices.ContainsFunc(managers, func(h *lab.Host) bool { return h.Name == m.Host }) {
			one.Wanted = "manager"
		}
		node := m.Node
		if m.Engine == nil { // its address tells which node it is
			for _, n := range nodes {
				if n.Address != "" && n.Address == c.Members[i].Address || n.Name == m.Host {
					node = n.ID
				}
			}
		}
		if m.Err != nil {
			one.State, one.Why = "away", reason(m.Err)
		}
		if n, known := byID[node]; known {
			one.take(n)
			one.Copies = running[n.ID]
			delete(byID, node)
		} else if states[i].Node != "" {
			one.State, one.Why = NodeDown, "no manager answers for it"
			if states[i].Problem != "" {
				one.Why = states[i].Problem
			}
		}
		s.Nodes = append(s.Nodes, one)
	}
	for _, n := range nodes {
		if _, left := byID[n.ID]; left {
			one := ClusterNode{Host: n.Name, Why: "a node that no host of lab.toml is", Copies: running[n.ID]}
			one.take(n)
			one.State = NodeStrange
			s.Nodes = append(s.Nodes, one)
		}
	}
	return s, nil
}

// take takes over what managers say of a node.
func (n *ClusterNode) take(from engine.Node) {
	n.Role, n.Leader, n.Address = "worker", from.Leader, from.Address
	if from.Manager {
		n.Role = "manager"
	}
	switch {
	case !from.Ready:
		n.State = NodeDown
	case from.Drained:
		n.State = NodeDrained
	default:
		n.State = NodeReady
	}
}

// runningOn returns what runs of the lab on the nodes of a cluster, by their ids.
func (w *Workspace) runningOn(ctx context.Context, e *engine.Engine) (map[string][]string, error) {
	services, err := e.ClusterServices(ctx, w.Name, "")
	if err != nil {
		return nil, err
	}
	names, ids := map[string]string{}, []string{}
	for _, s := range services {
		names[s.ID] = s.Labels[plan.LabelStack] + "/" + s.Labels[plan.LabelService]
		ids = append(ids, s.ID)
	}
	tasks, err := e.Tasks(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := map[string][]string{}
	for _, t := range tasks {
		if t.State == "running" && t.Wanted == "running" {
			all[t.Node] = append(all[t.Node], names[t.Service])
		}
	}
	for _, list := range all {
		slices.Sort(list)
	}
	return all, nil
}

// FormCluster brings the hosts of a cluster together: what is missing joins, and nothing that is right is touched. Each host is
// told as it is done.
func (w *Workspace) FormCluster(ctx context.Context, name string, each func(host, what string)) error {
	c, err := w.clusterNamed(name)
	if err != nil {
		return err
	}
	members, states := w.members(ctx, c)
	defer closeMembers(members)
	for i, m := range members {
		if m.Err != nil {
			return &Error{Kind: Unreachable, Message: m.Host + " does not answer", Because: reason(m.Err), Do: "forming a cluster needs all of its hosts"}
		}
		if !m.Engine.CanCluster() {
			return &Error{Kind: Stopped, Message: "the engine of " + m.Host + " has no cluster mode"}
		}
		if _, err := addressOf(c.Members[i]); err != nil {
			return err
		}
	}
	managers := len(c.Managers())
	first := slices.IndexFunc(states, func(s engine.Membership) bool { return s.Manager })
	if first < 0 {
		if i := slices.IndexFunc(states, func(s engine.Membership) bool { return s.Node != "" }); i >= 0 {
			return &Error{Kind: Stopped, Message: members[i].Host + " is in a cluster already, and no manager of that is a host of " + c.Name,
				Do: "lantern cluster " + c.Name + " --leave " + members[i].Host + " takes it out"}
		}
		first = 0
		address, _ := addressOf(c.Members[0])
		if err := members[0].Engine.FormCluster(ctx, address, c.Network); err != nil {
			return unreachable(members[0].Host, err)
		}
		if states[0], err = members[0].Engine.Membership(ctx); err != nil {
			return unreachable(members[0].Host, err)
		}
		each(members[0].Host, "begins the cluster, and manages it")
	}
	manager, worker, err := members[first].Engine.JoinTokens(ctx)
	if err != nil {
		return unreachable(members[first].Host, err)
	}
	for i, m := range members {
		switch {
		case i == first:
		case states[i].Node != "" && (states[i].Cluster == "" || states[i].Cluster == states[first].Cluster):
		case states[i].Node != "":
			return &Error{Kind: Stopped, Message: m.Host + " is in another cluster",
				Do: "lantern cluster " + c.Name + " --leave " + m.Host + " takes it out"}
		default:
			token, as := worker, "joins as a worker"
			if i < managers {
				token, as = manager, "joins, and manages the cluster, too"
			}
			address, _ := addressOf(c.Members[i])
			if err := m.Engine.JoinCluster(ctx, address, []string{states[first].Address + ":2377"}, token); err != nil {
				return unreachable(m.Host, err)
			}
			each(m.Host, as)
		}
	}
	return nil
}

// addressOf returns the address by which the other hosts of a cluster reach one.
func addressOf(h *lab.Host) (string, error) {
	a, err := netip.ParseAddr(h.Address)
	if err != nil || a.IsLoopback() || a.IsUnspecified() {
		return "", usage("%s needs address, the one by which the other hosts of the cluster reach it, such as address = \"192.0.2.14\"", h.Name)
	}
	return a.String(), nil
}

// DrainHost says whether anything of a cluster is to run on a host.
func (w *Workspace) DrainHost(ctx context.Context, name, host string, drained bool) error {
	c, err := w.clusterNamed(name)
	if err != nil {
		return err
	}
	d, m, err := w.memberNamed(ctx, c, host)
	if err != nil {
		return err
	}
	defer closeCluster(d)
	if err := d.Engine.Drain(ctx, m.Node, drained); err != nil {
		return unreachable(host, err)
	}
	return nil
}

// memberNamed connects to a cluster and finds a host that is in it. The cluster has to be closed.
func (w *Workspace) memberNamed(ctx context.Context, c *lab.Cluster, host string) (*deploy.Cluster, deploy.Member, error) {
	if c.Member(host) == nil {
		return nil, deploy.Member{}, usage("the cluster %s has no host %s", c.Name, host)
	}
	d, err := w.clusterDeployer(ctx, c, nil)
	if err != nil {
		return nil, deploy.Member{}, err
	}
	i := slices.IndexFunc(d.Members, func(m deploy.Member) bool { return m.Host == host })
	if m := d.Members[i]; m.Node != "" {
		return d, m, nil
	}
	err = &Error{Kind: Stopped, Message: host + " is not in the cluster " + c.Name}
	if d.Members[i].Err != nil {
		err = unreachable(host, d.Members[i].Err)
	}
	closeCluster(d)
	return nil, deploy.Member{}, err
}

// LeaveCluster takes a host out of a cluster: what runs there moves to others first, where it can.
func (w *Workspace) LeaveCluster(ctx context.Context, name, host string) error {
	c, err := w.clusterNamed(name)
	if err != nil {
		return err
	}
	if c.Member(host) == nil {
		return usage("the cluster %s has no host %s", c.Name, host)
	}
	members, states := w.members(ctx, c)
	defer closeMembers(members)
	i := slices.IndexFunc(members, func(m deploy.Member) bool { return m.Host == host })
	m := members[i]
	switch {
	case m.Err != nil:
		return &Error{Kind: Unreachable, Message: host + " does not answer", Because: reason(m.Err), Do: "lantern cluster " + c.Name + " shows how its hosts are"}
	case m.Node == "":
		return &Error{Kind: Stopped, Message: host + " is not in the cluster " + c.Name}
	}
	// Another manager forgets it; the last one takes the cluster with it.
	other := slices.IndexFunc(members, func(o deploy.Member) bool {
		return o.Host != host && o.Engine != nil && states[slices.IndexFunc(members, func(x deploy.Member) bool { return x.Host == o.Host })].Manager
	})
	if other >= 0 && states[i].Manager {
		if err := members[other].Engine.Demote(ctx, m.Node); err != nil {
			return unreachable(members[other].Host, err)
		}
	}
	if err := m.Engine.LeaveCluster(ctx, true); err != nil {
		return unreachable(host, err)
	}
	if other >= 0 {
		if err := members[other].Engine.RemoveNode(ctx, m.Node); err != nil {
			return unreachable(members[other].Host, err)
		}
	}
	return nil
}
