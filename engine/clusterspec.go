package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/api/types/swarm"
	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
)

// Spec is a service as a cluster is told of it.
type Spec = swarm.ServiceSpec

// AllAtOnce lets a cluster bring all copies to a specification at the same time, whatever fails.
func AllAtOnce(s Spec) Spec {
	s.UpdateConfig = &swarm.UpdateConfig{FailureAction: swarm.UpdateFailureActionContinue, Order: swarm.UpdateOrderStopFirst}
	return s
}

// ClusterRequest is a service that a cluster is to run.
type ClusterRequest struct {
	Name      string
	Container plan.Container
	Labels    map[string]string
	Copies    int
	Each      bool     // one on each node, instead
	Only      []string // labels of nodes, NAME=VALUE, all of which a node needs
	Beside    bool     // the new copy is there before the old one goes
	Files     []ClusterFile
}

// ClusterFile is a file that the cluster puts into containers.
type ClusterFile struct {
	plan.File
	Name, ID string // of what the cluster keeps
	Secret   bool
}

// batchPause is how long a cluster waits by itself after each batch of an update: in effect for ever, as lantern tells it
// when to go on, see [Resume].
const batchPause = 240 * time.Hour

// endpoint says how a service is reached: its name resolves to the addresses of all copies, without the
// load balancing of the kernel, which not every machine has; ports are those of the nodes where copies run.
func endpoint(ports []plan.Port) *swarm.EndpointSpec {
	e := &swarm.EndpointSpec{Mode: swarm.ResolutionModeDNSRR}
	for _, p := range ports {
		e.Ports = append(e.Ports, swarm.PortConfig{
			Protocol: network.IPProtocol(p.Protocol), TargetPort: uint32(p.Container), PublishedPort: uint32(p.Host), PublishMode: swarm.PortConfigPublishModeHost,
		})
	}
	return e
}

// ServiceSpec puts a service into the terms of a cluster.
func ServiceSpec(r ClusterRequest) swarm.ServiceSpec {
	c := r.Container
	within := c.StopWithin
	spec := swarm.ContainerSpec{
		Image: c.Image, User: c.User, Hostname: c.Hostname, Labels: maps.Clone(r.Labels), Dir: c.Settings.WorkingDir,
		Command: secret.Reveal(c.Settings.Entrypoint), Args: secret.Reveal(c.Settings.Command), Groups: c.Settings.Groups,
		ReadOnly: c.Settings.ReadOnly, StopGracePeriod: &within, StopSignal: c.Settings.StopSignal,
		CapabilityAdd: c.Settings.Capabilities, CapabilityDrop: c.Settings.Dropped,
	}
	if c.Settings.Init {
		yes := true
		spec.Init = &yes
	}
	for _, v := range c.Env {
		spec.Env = append(spec.Env, v.Name+"="+v.Value.Reveal())
	}
	for _, s := range c.Settings.Sysctls {
		if spec.Sysctls == nil {
			spec.Sysctls = map[string]string{}
		}
		spec.Sysctls[s.Name] = s.Value
	}
	for _, l := range c.Settings.Ulimits {
		spec.Ulimits = append(spec.Ulimits, &container.Ulimit{Name: l.Name, Soft: l.Soft, Hard: l.Hard})
	}
	for _, l := range c.Settings.Labels {
		spec.Labels[l.Name] = l.Value
	}
	for _, a := range c.Settings.AddressBook {
		spec.Hosts = append(spec.Hosts, a.Value+" "+a.Name)
	}
	for _, d := range c.Settings.DNS {
		if at, err := netip.ParseAddr(d); err == nil {
			if spec.DNSConfig == nil {
				spec.DNSConfig = &swarm.DNSConfig{}
			}
			spec.DNSConfig.Nameservers = append(spec.DNSConfig.Nameservers, at)
		}
	}
	for _, m := range c.Mounts {
		spec.Mounts = append(spec.Mounts, clusterMount(m, r.Labels))
	}
	for _, f := range r.Files {
		uid, gid := strconv.FormatInt(f.UID, 10), strconv.FormatInt(f.GID, 10)
		if f.Secret {
			spec.Secrets = append(spec.Secrets, &swarm.SecretReference{SecretID: f.ID, SecretName: f.Name,
				File: &swarm.SecretReferenceFileTarget{Name: f.Target, UID: uid, GID: gid, Mode: fs.FileMode(f.Mode)}})
			continue
		}
		spec.Configs = append(spec.Configs, &swarm.ConfigReference{ConfigID: f.ID, ConfigName: f.Name,
			File: &swarm.ConfigReferenceFileTarget{Name: f.Target, UID: uid, GID: gid, Mode: fs.FileMode(f.Mode)}})
	}
	attempts := uint64(c.Restart.Retries)
	restart := &swarm.RestartPolicy{Condition: swarm.RestartPolicyConditionAny, Delay: pointer(time.Second)}
	switch c.Restart.Policy {
	case "no":
		restart.Condition = swarm.RestartPolicyConditionNone
	case "on-failure":
		restart.Condition = swarm.RestartPolicyConditionOnFailure
		if attempts > 0 {
			restart.MaxAttempts = &attempts
		}
	}
	task := swarm.TaskSpec{ContainerSpec: &spec, RestartPolicy: restart, LogDriver: &swarm.Driver{Name: logDriver}}
	if c.LogLimit.Files > 0 {
		task.LogDriver.Options = map[string]string{
			"max-file": strconv.Itoa(c.LogLimit.Files), "max-size": strconv.FormatInt(c.LogLimit.Size, 10),
		}
	}
	if c.Settings.Memory > 0 || c.Settings.CPUs > 0 {
		task.Resources = &swarm.ResourceRequirements{Limits: &swarm.Limit{MemoryBytes: c.Settings.Memory, NanoCPUs: int64(c.Settings.CPUs * 1e9)}}
	}
	if len(r.Only) > 0 {
		task.Placement = &swarm.Placement{}
		for _, l := range r.Only {
			name, value, _ := strings.Cut(l, "=")
			task.Placement.Constraints = append(task.Placement.Constraints, "node.labels."+name+"=="+value)
		}
	}
	for _, n := range c.Networks {
		task.Networks = append(task.Networks, swarm.NetworkAttachmentConfig{Target: n.Network, Aliases: n.Aliases})
	}
	out := swarm.ServiceSpec{
		Annotations: swarm.Annotations{Name: r.Name, Labels: maps.Clone(r.Labels)}, TaskTemplate: task,
		UpdateConfig: &swarm.UpdateConfig{
			Parallelism: 1, Delay: batchPause, FailureAction: swarm.UpdateFailureActionPause, Order: swarm.UpdateOrderStopFirst,
		},
		EndpointSpec: endpoint(c.Ports),
	}
	if r.Beside {
		out.UpdateConfig.Order = swarm.UpdateOrderStartFirst
	}
	if r.Each {
		out.Mode.Global = &swarm.GlobalService{}
	} else {
		copies := uint64(max(r.Copies, 1))
		out.Mode.Replicated = &swarm.ReplicatedService{Replicas: &copies}
	}
	return out
}

func pointer[T any](v T) *T { return &v }

func clusterMount(m plan.Mount, labels map[string]string) mount.Mount {
	out := mount.Mount{Type: mount.TypeBind, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly}
	switch m.Kind {
	case declare.MountVolume:
		own := map[string]string{}
		for _, l := range []string{plan.LabelLab, plan.LabelStack, plan.LabelEntry} {
			own[l] = labels[l]
		}
		out.Type, out.VolumeOptions = mount.TypeVolume, &mount.VolumeOptions{NoCopy: m.StartEmpty, Labels: own}
	case declare.MountMemory:
		out.Type = mount.TypeTmpfs
		if m.Size > 0 {
			out.TmpfsOptions = &mount.TmpfsOptions{SizeBytes: m.Size, Mode: 0o1777}
		}
	case declare.MountPath:
		if m.Shared {
			out.BindOptions = &mount.BindOptions{Propagation: mount.PropagationRShared}
		}
	}
	return out
}

// labelBatch is on a service while it is updated: the cluster goes on with the next batch when it changes.
const labelBatch = "proudlantern.batch"

// Resume lets a cluster go on with the next batch of an update: another label makes it look again, and no copy is replaced
// for that.
func Resume(spec swarm.ServiceSpec, batch int) swarm.ServiceSpec {
	spec.Labels = maps.Clone(spec.Labels)
	spec.Labels[labelBatch] = strconv.Itoa(batch)
	return spec
}

// SameTask reports whether a task is one of a service as it is now.
func SameTask(t Task, spec swarm.ServiceSpec) bool {
	a, b := t.Spec.ContainerSpec, spec.TaskTemplate.ContainerSpec
	return a != nil && b != nil && a.Labels[plan.LabelMade] == b.Labels[plan.LabelMade] && t.Spec.ForceUpdate == spec.TaskTemplate.ForceUpdate
}

// CreateOverlay makes a network that spans the nodes of a cluster. One of that name that the lab has made before is enough.
// Errors: [ErrNameTaken].
func (e *Engine) CreateOverlay(ctx context.Context, n plan.Network, labels map[string]string) (made bool, err error) {
	list, err := e.networks(ctx, "")
	if err != nil {
		return false, err
	}
	if i := slices.IndexFunc(list, func(o network.Summary) bool { return o.Name == n.Name }); i >= 0 {
		if list[i].Labels[plan.LabelLab] != labels[plan.LabelLab] || list[i].Driver != "overlay" {
			return false, resourceError("network", ErrNameTaken, "a network %s is there that is not one of this lab's cluster", n.Name)
		}
		return false, nil
	}
	o := client.NetworkCreateOptions{Driver: "overlay", Labels: labels, Internal: n.Internal, Attachable: true}
	if n.Subnet != "" {
		subnet, err := netip.ParsePrefix(n.Subnet)
		if err != nil {
			return false, err
		}
		o.IPAM = &network.IPAM{Config: []network.IPAMConfig{{Subnet: subnet}}}
	}
	return true, e.change(ctx, "network", 0, func(ctx context.Context) error {
		_, err := e.api.NetworkCreate(ctx, n.Name, o)
		return err
	}, func(ctx context.Context) (bool, error) {
		list, err := e.networks(ctx, labels[plan.LabelLab])
		return slices.ContainsFunc(list, func(o network.Summary) bool { return o.Name == n.Name }), err
	})
}

// SpecDigest tells what a cluster was told apart from what somebody else has made of it. What the engine adds by itself, and
// what lantern changes while it deploys, is no part of it.
func SpecDigest(s swarm.ServiceSpec) string {
	s.Labels, s.UpdateConfig, s.RollbackConfig = nil, nil, nil
	task := s.TaskTemplate
	task.Networks, task.Runtime, task.ForceUpdate = nil, "", 0
	if task.Placement != nil {
		placement := *task.Placement
		placement.Platforms, placement.MaxReplicas, placement.Preferences = nil, 0, nil
		if task.Placement = &placement; len(placement.Constraints) == 0 {
			task.Placement = nil
		}
	}
	if task.ContainerSpec != nil {
		c := *task.ContainerSpec
		c.Labels, c.Isolation = nil, ""
		c.Mounts = slices.Clone(c.Mounts)
		for i := range c.Mounts {
			c.Mounts[i].VolumeOptions = nil // its labels name the deploy
		}
		c.Image, _, _ = strings.Cut(c.Image, "@")
		task.ContainerSpec = &c
	}
	s.TaskTemplate = task
	if s.EndpointSpec != nil {
		e := *s.EndpointSpec
		e.Ports = slices.Clone(e.Ports)
		slices.SortFunc(e.Ports, func(a, b swarm.PortConfig) int { return int(a.TargetPort) - int(b.TargetPort) })
		s.EndpointSpec = &e
	}
	text, err := json.Marshal(s)
	if err != nil {
		panic("engine: a service without JSON: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// ClusterContainers returns the containers on this host that are copies of a lab's services on a cluster.
func (e *Engine) ClusterContainers(ctx context.Context, lab string) ([]State, error) {
	list, err := e.list(ctx, make(client.Filters).Add("label", plan.LabelLab+"="+lab))
	if err != nil {
		return nil, err
	}
	var all []State
	for _, c := range list {
		if c.Labels[plan.LabelLab] != lab || c.Labels["com.docker.swarm.task.id"] == "" {
			continue
		}
		s, err := e.Inspect(ctx, c.ID)
		if errors.Is(err, ErrNotFound) {
			continue // it has gone meanwhile
		}
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, nil
}

// CopyOf returns the number of a copy by its container's name, which is SERVICE.NUMBER.TASK; 0 for one on each node, whose name has
// the node in that place.
func CopyOf(name string) int {
	parts := strings.Split(name, ".")
	if len(parts) != 3 {
		return 0
	}
	n, _ := strconv.Atoi(parts[1])
	return n
}
