package engine

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/distribution/reference"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

// logDriver is the one driver that every engine has and that can be told how much to keep.
const logDriver = "json-file"

// translate puts a declared container into the engine's terms. networkOf is the container in whose network it
// lives, if it does.
func (e *Engine) translate(c plan.Container, labels map[string]string,
	networkOf string) (*container.Config, *container.HostConfig, *network.NetworkingConfig) {
	stop := int(c.StopWithin.Round(time.Second).Seconds())
	config := &container.Config{
		Image: c.Image, User: c.User, Hostname: c.Hostname, Labels: maps.Clone(labels), StopTimeout: &stop,
		ExposedPorts: network.PortSet{},
	}
	for _, v := range c.Env {
		config.Env = append(config.Env, v.Name+"="+v.Value.Reveal())
	}
	host := &container.HostConfig{
		NetworkMode:   container.NetworkMode(c.Mode),
		RestartPolicy: restartPolicy(c.Restart),
		PortBindings:  network.PortMap{},
		LogConfig:     container.LogConfig{Type: logDriver},
	}
	if c.LogLimit.Files > 0 {
		host.LogConfig.Config = map[string]string{
			"max-file": strconv.Itoa(c.LogLimit.Files),
			"max-size": strconv.FormatInt(c.LogLimit.Size, 10),
		}
	}
	for _, p := range c.Ports {
		port, ok := network.PortFrom(uint16(p.Container), network.IPProtocol(p.Protocol))
		if !ok {
			continue // the grammar of ports lets nothing else through
		}
		config.ExposedPorts[port] = struct{}{}
		b := network.PortBinding{}
		if p.Host > 0 {
			b.HostPort = strconv.Itoa(p.Host)
		}
		if p.Address != "" {
			b.HostIP, _ = netip.ParseAddr(p.Address)
		}
		host.PortBindings[port] = append(host.PortBindings[port], b)
	}
	e.translateSettings(c.Settings, config, host)
	for _, m := range c.Mounts {
		if !e.can.mountCommas && m.Kind == declare.MountPath && strings.Contains(m.Source+m.Target, ",") {
			host.Binds = append(host.Binds, bind(m))
			continue
		}
		host.Mounts = append(host.Mounts, e.translateMount(m))
	}
	networks := &network.NetworkingConfig{EndpointsConfig: map[string]*network.EndpointSettings{}}
	switch {
	case networkOf != "":
		host.NetworkMode = container.NetworkMode("container:" + networkOf)
	case len(c.Networks) > 0:
		host.NetworkMode = container.NetworkMode(c.Networks[0].Network)
		for _, n := range c.Networks[:e.networksAtOnce(c)] {
			networks.EndpointsConfig[n.Network] = &network.EndpointSettings{Aliases: n.Aliases}
		}
	}
	return config, host, networks
}

// networksAtOnce is how many networks a container can be created on; it is connected to the others afterwards.
func (e *Engine) networksAtOnce(c plan.Container) int {
	if e.can.manyNetworks {
		return len(c.Networks)
	}
	return 1
}

// translateMount uses mounts, not binds: the engines that can refuse a folder that does not exist do so only
// for these.
func (e *Engine) translateMount(m plan.Mount) mount.Mount {
	out := mount.Mount{Type: mount.TypeBind, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly}
	switch m.Kind {
	case declare.MountVolume:
		out.Type = mount.TypeVolume
		if m.StartEmpty {
			out.VolumeOptions = &mount.VolumeOptions{NoCopy: true}
		}
	case declare.MountMemory:
		out.Type = mount.TypeTmpfs
		if m.Size > 0 {
			// With options but without a mode, Podman's service makes one that no account may enter.
			out.TmpfsOptions = &mount.TmpfsOptions{SizeBytes: m.Size, Mode: 0o1777}
		}
	case declare.MountEngine:
		out.Source = e.socket()
	default:
		if m.Shared {
			out.BindOptions = &mount.BindOptions{Propagation: mount.PropagationRShared}
		}
	}
	return out
}

// bind writes a mount of a path in the older way.
func bind(m plan.Mount) string {
	options := "rw"
	if m.ReadOnly {
		options = "ro"
	}
	if m.Shared {
		options += ",rshared"
	}
	return m.Source + ":" + m.Target + ":" + options
}

// socket returns the path of the engine's own socket on its host.
func (e *Engine) socket() string {
	return cmp.Or(e.Conn.Socket, hostconn.UsualSocket)
}

func restartPolicy(r declare.Restart) container.RestartPolicy {
	return container.RestartPolicy{Name: container.RestartPolicyMode(r.Policy), MaximumRetryCount: r.Retries}
}

// readBack is the way back: what a container is, in the terms of a declaration. What its image says is still
// in it.
func (e *Engine) readBack(c container.InspectResponse) plan.Container {
	var out plan.Container
	if cfg := c.Config; cfg != nil {
		out.Image, out.User, out.Hostname = cfg.Image, cfg.User, cfg.Hostname
		for _, v := range cfg.Env {
			name, value, _ := strings.Cut(v, "=")
			out.Env = append(out.Env, plan.Variable{Name: name, Value: secret.Plain(value)})
		}
		if cfg.StopTimeout != nil {
			out.StopWithin = time.Duration(*cfg.StopTimeout) * time.Second
		}
	}
	h := c.HostConfig
	if h == nil {
		return out
	}
	out.Restart = declare.Restart{Policy: string(h.RestartPolicy.Name), Retries: h.RestartPolicy.MaximumRetryCount}
	out.LogLimit.Files, _ = strconv.Atoi(h.LogConfig.Config["max-file"])
	out.LogLimit.Size, _ = strconv.ParseInt(h.LogConfig.Config["max-size"], 10, 64)
	out.Settings = readSettings(c)
	switch mode := string(h.NetworkMode); {
	case mode == "host" || mode == "none":
		out.Mode = mode
	case strings.HasPrefix(mode, "container:"):
		out.NetworkOf = mode
	case c.NetworkSettings != nil:
		for name, n := range c.NetworkSettings.Networks {
			if n != nil {
				out.Networks = append(out.Networks, plan.Attachment{
					Network: name,
					Aliases: ownAliases(n.Aliases, c.ID),
				})
			}
		}
	}
	if out.NetworkOf != "" {
		out.Hostname = "" // the other one's, or the engine's choice
	}
	// What engines do not tell, or tell in a way that others' values look like.
	out.NotReported = []string{"platform", "cgroup"}
	if h.Privileged {
		// It has all of them; what an engine shows then is what the machine has.
		out.NotReported = append(out.NotReported, "capabilities", "drop-capabilities", "devices")
	}
	out.NotReported = append(out.NotReported, e.can.notReported...)
	out.NotGiven = e.libpod.notGiven(out.Settings.Dropped)
	for port, bindings := range h.PortBindings {
		for _, b := range bindings {
			p := plan.Port{Container: int(port.Num()), Protocol: string(port.Proto())}
			p.Host, _ = strconv.Atoi(b.HostPort)
			if b.HostIP.IsValid() && !b.HostIP.IsUnspecified() {
				p.Address = b.HostIP.String()
			}
			out.Ports = append(out.Ports, p)
		}
	}
	out.Mounts = e.readMounts(h)
	return out
}

// readMounts is the way back for what is mounted.
func (e *Engine) readMounts(h *container.HostConfig) []plan.Mount {
	var out []plan.Mount
	add := func(m plan.Mount) {
		if m.Kind == declare.MountPath && m.Source == e.socket() {
			m.Kind, m.Source = declare.MountEngine, ""
		}
		out = append(out, m)
	}
	for _, m := range h.Mounts {
		p := plan.Mount{Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly}
		switch m.Type {
		case mount.TypeVolume:
			p.Kind, p.StartEmpty = declare.MountVolume, m.VolumeOptions != nil && m.VolumeOptions.NoCopy
		case mount.TypeTmpfs:
			p.Kind, p.Source = declare.MountMemory, ""
			if m.TmpfsOptions != nil {
				p.Size = m.TmpfsOptions.SizeBytes
			}
		default:
			p.Shared = m.BindOptions != nil && m.BindOptions.Propagation == mount.PropagationRShared
		}
		add(p)
	}
	for _, b := range h.Binds {
		parts := strings.Split(b, ":")
		if len(parts) < 2 {
			continue
		}
		p := plan.Mount{Source: parts[0], Target: parts[1]}
		if len(parts) > 2 {
			options := strings.Split(parts[2], ",")
			p.ReadOnly, p.Shared = slices.Contains(options, "ro"), slices.Contains(options, "rshared")
			p.StartEmpty = slices.Contains(options, "nocopy")
		}
		if !strings.HasPrefix(p.Source, "/") {
			p.Kind, p.Shared = declare.MountVolume, false
		}
		add(p)
	}
	for target, options := range h.Tmpfs {
		p := plan.Mount{Kind: declare.MountMemory, Target: target}
		for _, o := range strings.Split(options, ",") {
			if size, ok := strings.CutPrefix(o, "size="); ok {
				p.Size, _ = strconv.ParseInt(size, 10, 64)
			}
			p.ReadOnly = p.ReadOnly || o == "ro"
		}
		add(p)
	}
	return out
}

// unnamedLength is that of the names that engines give to volumes without a name: 32 bytes in hexadecimal
// digits. It is no proof: anybody may give such a name.
const unnamedLength = 64

// WithoutImage takes out of a container that runs what its image and the engine put there, unless it is
// declared: engines show all of it as one.
func WithoutImage(c plan.Container, image survey.Image, declared plan.Container) plan.Container {
	c.Env = slices.DeleteFunc(slices.Clone(c.Env), func(v plan.Variable) bool {
		if slices.ContainsFunc(declared.Env, func(d plan.Variable) bool { return d.Name == v.Name }) {
			return false
		}
		value, ok := image.Env[v.Name]
		return ok && v.Value.Is(value) || slices.Contains(engineVariables, v.Name)
	})
	if named, err := reference.ParseNormalizedNamed(declared.Image); err == nil {
		// Beside a digest a tag says nothing, and Podman drops it.
		if digested, ok := named.(reference.Digested); ok &&
			c.Image == named.Name()+"@"+digested.Digest().String() {
			c.Image = declared.Image
		}
	}
	c.Networks = slices.Clone(c.Networks)
	for i, n := range c.Networks {
		// Some engines add the container's own name in its network's book.
		c.Networks[i].Aliases = slices.DeleteFunc(slices.Clone(n.Aliases), func(a string) bool {
			return a == c.Hostname &&
				!slices.ContainsFunc(declared.Networks, func(d plan.Attachment) bool {
					return d.Network == n.Network && slices.Contains(d.Aliases, a)
				})
		})
	}
	// A root that cannot be written gets memory in the usual places on some engines.
	c.Mounts = slices.DeleteFunc(slices.Clone(c.Mounts), func(m plan.Mount) bool {
		return c.Settings.ReadOnly && m.Kind == declare.MountMemory &&
			slices.Contains([]string{"/run", "/tmp", "/var/tmp"}, m.Target) &&
			!slices.ContainsFunc(declared.Mounts, func(d plan.Mount) bool { return d.Target == m.Target })
	})
	// No file declares the volumes that its image wants: lantern made them, or an engine did, which gives them
	// names of their own choice.
	c.Mounts = slices.DeleteFunc(slices.Clone(c.Mounts), func(m plan.Mount) bool {
		forImage := slices.Contains(c.ForImage, m.Source) || len(m.Source) == unnamedLength
		return m.Kind == declare.MountVolume && slices.Contains(image.Volumes, m.Target) && forImage &&
			!slices.ContainsFunc(declared.Mounts, func(d plan.Mount) bool { return d.Target == m.Target })
	})
	run, want := &c.Settings, declared.Settings
	// What an engine gives to nobody it may tell as if it were asked for, as Debian's Podman does.
	run.Dropped = slices.DeleteFunc(slices.Clone(run.Dropped), func(name string) bool {
		return slices.Contains(c.NotGiven, name) && !slices.Contains(want.Dropped, name)
	})
	if len(run.Dropped) == 0 {
		run.Dropped = nil
	}
	// An entrypoint of one's own takes the image's command away, too.
	if want.Command == nil && (slices.Equal(secret.Reveal(run.Command), image.Command) || len(run.Command) == 0) {
		run.Command = nil
	}
	if want.Entrypoint == nil &&
		(slices.Equal(secret.Reveal(run.Entrypoint), image.Entrypoint) || len(run.Entrypoint) == 0) {
		run.Entrypoint = nil
	}
	if want.WorkingDir == "" && (run.WorkingDir == image.WorkingDir || run.WorkingDir == "/") {
		run.WorkingDir = ""
	}
	if want.StopSignal == "" && run.StopSignal == cmp.Or(declare.SignalName(image.StopSignal), "SIGTERM") {
		run.StopSignal = ""
	}
	run.Labels = slices.DeleteFunc(slices.Clone(run.Labels), func(l lab.Pair) bool {
		value, ok := image.Labels[l.Name]
		return ok && value == l.Value && !slices.Contains(want.Labels, l)
	})
	// Some engines show their own defaults among the limits.
	run.Ulimits = slices.DeleteFunc(slices.Clone(run.Ulimits), func(u declare.Ulimit) bool {
		return !slices.ContainsFunc(want.Ulimits, func(w declare.Ulimit) bool { return w.Name == u.Name })
	})
	run.Platform = want.Platform
	if image.User == c.User && declared.User == "" {
		c.User = ""
	}
	return c
}

// engineVariables are set by engines themselves in every container.
var engineVariables = []string{"PATH", "HOSTNAME", "TERM", "container", "HOME"}
