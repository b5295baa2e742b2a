package engine

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"

	"github.com/moby/moby/api/types/swarm"
	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/plan"
)

// Cluster mode: several engines as one (Docker Engine API, /swarm, /nodes, /services, /tasks, /configs). All of it is asked
// of a manager; what one host's own part in it is, each engine says itself.

// Membership is an engine's own part in a cluster.
type Membership struct {
	Cluster  string // its id; "" for an engine that is in none, and for one that does not reach its managers
	Node     string // the id that this engine has there; "" for one that is in none
	Address  string // under which the others know it
	Manager  bool   // it can be asked about the cluster
	Locked   bool   // it waits for a key before it takes part
	Problem  string // in the engine's own words; "" for none
	Managers []string
}

// Membership asks an engine for its part in a cluster. Engines that know of no clusters are in none.
func (e *Engine) Membership(ctx context.Context) (Membership, error) {
	var m Membership
	err := e.call(ctx, "info", 0, func(ctx context.Context) error {
		r, err := e.api.Info(ctx, client.InfoOptions{})
		s := r.Info.Swarm
		m = Membership{Node: s.NodeID, Address: s.NodeAddr, Manager: s.ControlAvailable, Locked: s.LocalNodeState == swarm.LocalNodeStateLocked,
			Problem: short(s.Error)}
		if s.Cluster != nil {
			m.Cluster = s.Cluster.ID
		}
		for _, p := range s.RemoteManagers {
			m.Managers = append(m.Managers, p.Addr)
		}
		if s.LocalNodeState == swarm.LocalNodeStateInactive || s.LocalNodeState == "" {
			m = Membership{}
		}
		return err
	})
	return m, err
}

// CanCluster reports whether the engine has a cluster mode.
func (e *Engine) CanCluster() bool { return e.can.clusters }

// FormCluster begins a cluster of one, whose overlay networks get their addresses from pool. Others reach it at an address of
// the host.
func (e *Engine) FormCluster(ctx context.Context, address string, pool netip.Prefix) error {
	return e.change(ctx, "swarm init", 0, func(ctx context.Context) error {
		_, err := e.api.SwarmInit(ctx, client.SwarmInitOptions{
			ListenAddr: "0.0.0.0:2377", AdvertiseAddr: address, DefaultAddrPool: []netip.Prefix{pool}, SubnetSize: subnetSize(pool),
		})
		return err
	}, func(ctx context.Context) (bool, error) {
		m, err := e.Membership(ctx)
		return m.Manager, err
	})
}

// subnetSize divides a pool into sixteen networks, or as many as there can be with at least eight addresses each.
func subnetSize(pool netip.Prefix) uint32 {
	return uint32(min(pool.Bits()+4, pool.Addr().BitLen()-3))
}

// JoinTokens returns what lets another engine join, as a manager or as a worker. Nobody is ever shown them.
func (e *Engine) JoinTokens(ctx context.Context) (manager, worker string, err error) {
	err = e.call(ctx, "swarm", 0, func(ctx context.Context) error {
		r, err := e.api.SwarmInspect(ctx, client.SwarmInspectOptions{})
		manager, worker = r.Swarm.JoinTokens.Manager, r.Swarm.JoinTokens.Worker
		return err
	})
	return manager, worker, err
}

// JoinCluster joins the cluster of managers at addresses; others reach this engine at its own.
func (e *Engine) JoinCluster(ctx context.Context, address string, managers []string, token string) error {
	return e.change(ctx, "swarm join", 0, func(ctx context.Context) error {
		_, err := e.api.SwarmJoin(ctx, client.SwarmJoinOptions{
			ListenAddr: "0.0.0.0:2377", AdvertiseAddr: address, RemoteAddrs: managers, JoinToken: token,
		})
		return err
	}, func(ctx context.Context) (bool, error) {
		m, err := e.Membership(ctx)
		return m.Node != "", err
	})
}

// LeaveCluster takes this engine out of its cluster; what runs on it for the cluster ends.
func (e *Engine) LeaveCluster(ctx context.Context, force bool) error {
	return e.change(ctx, "swarm leave", 0, func(ctx context.Context) error {
		_, err := e.api.SwarmLeave(ctx, client.SwarmLeaveOptions{Force: force})
		return err
	}, func(ctx context.Context) (bool, error) {
		m, err := e.Membership(ctx)
		return m.Node == "", err
	})
}

// Node is an engine as the managers of its cluster see it.
type Node struct {
	ID, Name, Address string
	Ready             bool // it answers the managers
	Manager, Leader   bool
	Reachable         bool // as a manager
	Drained           bool // nothing is to run there
	Platform          string
	Labels            map[string]string

	version swarm.Version
	spec    swarm.NodeSpec
}

// Nodes lists the nodes of a cluster, by name.
func (e *Engine) Nodes(ctx context.Context) ([]Node, error) {
	var nodes []Node
	err := e.call(ctx, "list", 0, func(ctx context.Context) error {
		r, err := e.api.NodeList(ctx, client.NodeListOptions{})
		nodes = nil
		for _, n := range r.Items {
			one := Node{
				ID: n.ID, Name: n.Description.Hostname, Address: n.Status.Addr, Ready: n.Status.State == swarm.NodeStateReady,
				Drained: n.Spec.Availability == swarm.NodeAvailabilityDrain, Labels: n.Spec.Labels, version: n.Version, spec: n.Spec,
				Platform: n.Description.Platform.OS + "/" + architecture(n.Description.Platform.Architecture),
			}
			if m := n.ManagerStatus; m != nil {
				one.Manager, one.Leader, one.Reachable = true, m.Leader, m.Reachability == swarm.ReachabilityReachable
			}
			nodes = append(nodes, one)
		}
		return err
	})
	slices.SortFunc(nodes, func(a, b Node) int { return strings.Compare(a.Name+a.ID, b.Name+b.ID) })
	return nodes, err
}

// Node returns one node.
func (e *Engine) node(ctx context.Context, id string) (Node, error) {
	nodes, err := e.Nodes(ctx)
	if err != nil {
		return Node{}, err
	}
	for _, n := range nodes {
		if n.ID == id {
			return n, nil
		}
	}
	return Node{}, resourceError("node", ErrNotFound, "the cluster has no node %s", id)
}

// changeNode changes what is wanted of a node, from what it is now.
func (e *Engine) changeNode(ctx context.Context, id string, change func(*swarm.NodeSpec) bool) error {
	const tries = 5 // others change nodes, too
	var err error
	for range tries {
		var n Node
		if n, err = e.node(ctx, id); err != nil {
			return err
		}
		spec := n.spec
		if !change(&spec) {
			return nil
		}
		err = e.call(ctx, "node", 0, func(ctx context.Context) error {
			_, err := e.api.NodeUpdate(ctx, id, client.NodeUpdateOptions{Version: n.version, Spec: spec})
			return err
		})
		if err == nil || !strings.Contains(err.Error(), "out of sequence") {
			return err
		}
	}
	return err
}

// Drain says whether anything is to run on a node; what runs there moves to others.
func (e *Engine) Drain(ctx context.Context, node string, drained bool) error {
	want := swarm.NodeAvailabilityActive
	if drained {
		want = swarm.NodeAvailabilityDrain
	}
	return e.changeNode(ctx, node, func(s *swarm.NodeSpec) bool {
		changed := s.Availability != want
		s.Availability = want
		return changed
	})
}

// Demote lets a manager be one no longer.
func (e *Engine) Demote(ctx context.Context, node string) error {
	return e.changeNode(ctx, node, func(s *swarm.NodeSpec) bool {
		changed := s.Role != swarm.NodeRoleWorker
		s.Role = swarm.NodeRoleWorker
		return changed
	})
}

// LabelNode sets a label of a node, which services can ask for.
func (e *Engine) LabelNode(ctx context.Context, node, name, value string) error {
	return e.changeNode(ctx, node, func(s *swarm.NodeSpec) bool {
		if s.Labels[name] == value {
			return false
		}
		labels := map[string]string{name: value}
		for k, v := range s.Labels {
			if k != name {
				labels[k] = v
			}
		}
		s.Labels = labels
		return true
	})
}

// RemoveNode forgets a node that has left.
func (e *Engine) RemoveNode(ctx context.Context, node string) error {
	return notThere(e.call(ctx, "node", 0, func(ctx context.Context) error {
		_, err := e.api.NodeRemove(ctx, node, client.NodeRemoveOptions{Force: true})
		return err
	}))
}

// ClusterService is a service of a cluster.
type ClusterService struct {
	ID, Name string
	Labels   map[string]string
	Version  uint64
	Spec     swarm.ServiceSpec
	Previous *swarm.ServiceSpec
	Update   string // how its last update goes, in the engine's word; "" for none
}

// Own reports whether a service is one of a lab.
func (s ClusterService) Own(lab string) bool { return lab != "" && s.Labels[plan.LabelLab] == lab }

// ClusterServices lists the services of a lab, and of one of its stacks where that is named, by name.
func (e *Engine) ClusterServices(ctx context.Context, lab, stack string) ([]ClusterService, error) {
	filters := make(client.Filters).Add("label", plan.LabelLab+"="+lab)
	if stack != "" {
		filters.Add("label", plan.LabelStack+"="+stack)
	}
	var all []ClusterService
	err := e.call(ctx, "list", 0, func(ctx context.Context) error {
		r, err := e.api.ServiceList(ctx, client.ServiceListOptions{Filters: filters})
		all = nil
		for _, s := range r.Items {
			if one := clusterService(s); one.Own(lab) && (stack == "" || one.Labels[plan.LabelStack] == stack) { // an engine's filter is no proof
				all = append(all, one)
			}
		}
		return err
	})
	slices.SortFunc(all, func(a, b ClusterService) int { return strings.Compare(a.Name, b.Name) })
	return all, err
}

func clusterService(s swarm.Service) ClusterService {
	one := ClusterService{ID: s.ID, Name: s.Spec.Name, Labels: s.Spec.Labels, Version: s.Version.Index, Spec: s.Spec, Previous: s.PreviousSpec}
	if s.UpdateStatus != nil {
		one.Update = string(s.UpdateStatus.State)
	}
	return one
}

// ClusterService returns one service, by id or name. Errors: [ErrNotFound].
func (e *Engine) ClusterService(ctx context.Context, id string) (s ClusterService, err error) {
	err = e.call(ctx, "inspect", 0, func(ctx context.Context) error {
		r, err := e.api.ServiceInspect(ctx, id, client.ServiceInspectOptions{})
		s = clusterService(r.Service)
		return err
	})
	return s, err
}

// CreateClusterService makes a service, and returns its id. Errors: [ErrNameTaken].
func (e *Engine) CreateClusterService(ctx context.Context, spec swarm.ServiceSpec) (id string, err error) {
	err = e.change(ctx, "service", 0, func(ctx context.Context) error {
		r, err := e.api.ServiceCreate(ctx, client.ServiceCreateOptions{Spec: spec, EncodedRegistryAuth: e.login(spec.TaskTemplate.ContainerSpec.Image)})
		id = r.ID
		return err
	}, func(ctx context.Context) (bool, error) {
		s, err := e.ClusterService(ctx, spec.Name)
		id = s.ID
		return err == nil && s.Labels[plan.LabelMade] == spec.Labels[plan.LabelMade], notThere(err)
	})
	return id, err
}

// UpdateClusterService changes a service of a lab to what change makes of what it is now. Errors: [ErrForeign].
func (e *Engine) UpdateClusterService(ctx context.Context, lab, id string, change func(now ClusterService) swarm.ServiceSpec) error {
	const tries = 10 // the cluster itself changes services while it works on them
	var err error
	for range tries {
		var now ClusterService
		if now, err = e.ClusterService(ctx, id); err != nil {
			return err
		}
		if !now.Own(lab) {
			return resourceError("service", ErrForeign, "the service %s is not of this lab", now.Name)
		}
		spec := change(now)
		err = e.call(ctx, "service", 0, func(ctx context.Context) error {
			_, err := e.api.ServiceUpdate(ctx, now.ID, client.ServiceUpdateOptions{
				Version: swarm.Version{Index: now.Version}, Spec: spec, EncodedRegistryAuth: e.login(spec.TaskTemplate.ContainerSpec.Image),
			})
			return err
		})
		if err == nil || !strings.Contains(err.Error(), "out of sequence") && !errors.Is(err, ErrUnknownOutcome) {
			return err
		}
	}
	return err
}

// RemoveClusterService removes a service of a lab. One that is not there is no error. Errors: [ErrForeign].
func (e *Engine) RemoveClusterService(ctx context.Context, lab, id string) error {
	s, err := e.ClusterService(ctx, id)
	if err != nil {
		return notThere(err)
	}
	if !s.Own(lab) {
		return resourceError("service", ErrForeign, "the service %s is not of this lab", s.Name)
	}
	return notThere(e.call(ctx, "service", 0, func(ctx context.Context) error {
		_, err := e.api.ServiceRemove(ctx, s.ID, client.ServiceRemoveOptions{})
		return err
	}))
}

// Task is a copy of a service, or one that was.
type Task struct {
	ID, Service, Node string
	Slot              int // from 1; 0 where there is one on each node
	Container         string
	State, Wanted     string // in the engine's words
	Error             string
	ExitCode          int
	Spec              swarm.TaskSpec
	swarm.Meta
}

// Tasks lists the copies of services, by their ids, those that ended included, newest first.
func (e *Engine) Tasks(ctx context.Context, services []string) ([]Task, error) {
	if len(services) == 0 {
		return nil, nil
	}
	filters := make(client.Filters)
	for _, s := range services {
		filters.Add("service", s)
	}
	var all []Task
	err := e.call(ctx, "list", 0, func(ctx context.Context) error {
		r, err := e.api.TaskList(ctx, client.TaskListOptions{Filters: filters})
		all = nil
		for _, t := range r.Items {
			one := Task{
				ID: t.ID, Service: t.ServiceID, Node: t.NodeID, Slot: t.Slot, State: string(t.Status.State), Wanted: string(t.DesiredState),
				Error: short(t.Status.Err), Spec: t.Spec, Meta: t.Meta,
			}
			if c := t.Status.ContainerStatus; c != nil {
				one.Container, one.ExitCode = c.ContainerID, c.ExitCode
			}
			if slices.Contains(services, one.Service) {
				all = append(all, one)
			}
		}
		return err
	})
	slices.SortStableFunc(all, func(a, b Task) int { return b.CreatedAt.Compare(a.CreatedAt) })
	return all, err
}

// StoredConfig is a piece of text that a cluster keeps and gives to its services.
type StoredConfig struct {
	ID, Name string
	Labels   map[string]string
	Data     []byte // not of secrets
}

// CreateConfig keeps a text in the cluster. A name is there once. Errors: [ErrNameTaken].
func (e *Engine) CreateConfig(ctx context.Context, name string, labels map[string]string, data []byte) (id string, err error) {
	err = e.call(ctx, "config", 0, func(ctx context.Context) error {
		r, err := e.api.ConfigCreate(ctx, client.ConfigCreateOptions{Spec: swarm.ConfigSpec{Annotations: swarm.Annotations{Name: name, Labels: labels}, Data: data}})
		id = r.ID
		return err
	})
	return id, err
}

// Configs lists the texts that a lab keeps in the cluster.
func (e *Engine) Configs(ctx context.Context, lab string) ([]StoredConfig, error) {
	var all []StoredConfig
	err := e.call(ctx, "list", 0, func(ctx context.Context) error {
		r, err := e.api.ConfigList(ctx, client.ConfigListOptions{Filters: make(client.Filters).Add("label", plan.LabelLab+"="+lab)})
		all = nil
		for _, c := range r.Items {
			if c.Spec.Labels[plan.LabelLab] == lab {
				all = append(all, StoredConfig{c.ID, c.Spec.Name, c.Spec.Labels, c.Spec.Data})
			}
		}
		return err
	})
	return all, err
}

// RemoveConfig removes a text. One that is not there is no error.
func (e *Engine) RemoveConfig(ctx context.Context, id string) error {
	return notThere(e.call(ctx, "config", 0, func(ctx context.Context) error {
		_, err := e.api.ConfigRemove(ctx, id, client.ConfigRemoveOptions{})
		return err
	}))
}

// CreateSecret is as CreateConfig, for what only the service may read.
func (e *Engine) CreateSecret(ctx context.Context, name string, labels map[string]string, data []byte) (id string, err error) {
	err = e.call(ctx, "secret", 0, func(ctx context.Context) error {
		r, err := e.api.SecretCreate(ctx, client.SecretCreateOptions{Spec: swarm.SecretSpec{Annotations: swarm.Annotations{Name: name, Labels: labels}, Data: data}})
		id = r.ID
		return err
	})
	return id, err
}

// Secrets lists the secrets that a lab keeps in the cluster, without what they hold.
func (e *Engine) Secrets(ctx context.Context, lab string) ([]StoredConfig, error) {
	var all []StoredConfig
	err := e.call(ctx, "list", 0, func(ctx context.Context) error {
		r, err := e.api.SecretList(ctx, client.SecretListOptions{Filters: make(client.Filters).Add("label", plan.LabelLab+"="+lab)})
		all = nil
		for _, c := range r.Items {
			if c.Spec.Labels[plan.LabelLab] == lab {
				all = append(all, StoredConfig{ID: c.ID, Name: c.Spec.Name, Labels: c.Spec.Labels})
			}
		}
		return err
	})
	return all, err
}

// RemoveSecret removes a secret. One that is not there is no error.
func (e *Engine) RemoveSecret(ctx context.Context, id string) error {
	return notThere(e.call(ctx, "secret", 0, func(ctx context.Context) error {
		_, err := e.api.SecretRemove(ctx, id, client.SecretRemoveOptions{})
		return err
	}))
}
