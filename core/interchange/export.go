package interchange

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

// Exported is a stack in the words of the specification.
type Exported struct {
	Text  string
	Env   map[string]string // environment files without values, by their names: secrets stay out
	Notes []string          // what has no counterpart there
}

// Export writes a stack for somebody else. Values of secrets stay out: their names stand in environment files, to be
// filled in.
func Export(st *lab.Stack) (Exported, error) {
	e := &exporter{stack: st, env: map[string]string{}, volumes: map[string]*lab.Volume{}, networks: map[string]*lab.Network{}}
	services := newTable()
	for _, s := range st.Services {
		services.put(s.Name, e.service(s))
	}
	top := newTable()
	top.put("name", word(st.Name))
	top.put("services", services.node)
	if len(e.volumes) > 0 {
		top.put("volumes", e.volumeTable())
	}
	if len(e.networks) > 0 {
		networks := newTable()
		for _, n := range sortedNames(e.networks) {
			own := newTable()
			own.put("external", flag(true))
			own.put("name", word(e.networks[n].EngineName))
			networks.put(n, own.node)
		}
		top.put("networks", networks.node)
	}
	var b bytes.Buffer
	b.WriteString("# The stack " + st.Name + ", exported. Secrets are left out: fill in the environment files.\n")
	w := yaml.NewEncoder(&b)
	w.SetIndent(2)
	if err := w.Encode(top.node); err != nil {
		return Exported{}, err
	}
	return Exported{b.String(), e.env, e.notes}, w.Close()
}

type exporter struct {
	stack    *lab.Stack
	env      map[string]string
	notes    []string
	volumes  map[string]*lab.Volume
	networks map[string]*lab.Network
}

func (e *exporter) note(s *lab.Service, format string, args ...any) {
	e.notes = append(e.notes, s.FullName()+": "+fmt.Sprintf(format, args...))
}

// tableNode is a table that keeps its order.
type tableNode struct{ node *yaml.Node }

func newTable() tableNode { return tableNode{&yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}} }

func (t tableNode) put(key string, value *yaml.Node) {
	if value != nil {
		t.node.Content = append(t.node.Content, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: key}, value)
	}
}

// word writes a text; a $ in it is meant as itself there, too. An empty one is left out.
func word(text string) *yaml.Node {
	if text == "" {
		return nil
	}
	return plain(text)
}

func plain(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: strings.ReplaceAll(text, "$", "$$")}
}

func flag(is bool) *yaml.Node {
	if !is {
		return nil
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"}
}

func words(list []string) *yaml.Node {
	if len(list) == 0 {
		return nil
	}
	n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
	for _, text := range list {
		n.Content = append(n.Content, plain(text))
	}
	return n
}

func pairTable(list []lab.Pair) *yaml.Node {
	if len(list) == 0 {
		return nil
	}
	t := newTable()
	for _, p := range list {
		t.put(p.Name, plain(p.Value))
	}
	return t.node
}

func sortedNames[T any](m map[string]T) []string {
	var names []string
	for n := range m {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// openWords returns words without secrets; ok is false where one is among them.
func openWords(list []secret.Text) (open []string, ok bool) {
	if secret.Any(list) {
		return nil, false
	}
	for _, t := range list {
		open = append(open, t.String())
	}
	return open, true
}

func (e *exporter) service(s *lab.Service) *yaml.Node {
	t, c := newTable(), s.Settings
	t.put("image", word(s.Image.Text))
	e.build(t, s)
	e.copies(t, s)
	t.put("platform", word(c.Platform))
	t.put("pull_policy", word(map[string]string{"each-deploy": "always", "never": "never"}[s.Fetch]))
	for _, w := range []struct {
		key  string
		list []secret.Text
	}{{"command", c.Command}, {"entrypoint", c.Entrypoint}} {
		open, ok := openWords(w.list)
		if !ok {
			e.note(s, "%s holds a secret, and is left out", w.key)
		}
		t.put(w.key, words(open))
	}
	t.put("working_dir", word(c.WorkingDir))
	t.put("hostname", word(s.Hostname))
	switch {
	case s.InsideUser != "":
		t.put("user", plain(s.InsideUser))
	case s.RunAs == nil:
	case !s.RunAs.Known:
		e.note(s, "the ids of %s are not known without its host, so user is left out: the image's own user would run it", s.RunAs.Name)
	default:
		t.put("user", plain(fmt.Sprintf("%d:%d", s.RunAs.UID, s.RunAs.GID)))
	}
	t.put("group_add", words(c.Groups))
	e.environment(t, s)
	t.put("ports", words(e.ports(s)))
	e.mounts(t, s)
	t.put("restart", word(strings.Replace(s.Restart.String(), " ", ":", 1)))
	e.order(t, s)
	e.health(t, s)
	e.network(t, s)
	t.put("labels", pairTable(c.Labels))
	if s.LogLimit.Files > 0 {
		options, logging := newTable(), newTable()
		options.put("max-size", plain(strconv.FormatInt(s.LogLimit.Size, 10)))
		options.put("max-file", plain(strconv.Itoa(s.LogLimit.Files)))
		logging.put("driver", plain("json-file"))
		logging.put("options", options.node)
		t.put("logging", logging.node)
	}
	if c.Memory > 0 {
		t.put("mem_limit", plain(strconv.FormatInt(c.Memory, 10)))
	}
	if c.SharedMemory > 0 {
		t.put("shm_size", plain(strconv.FormatInt(c.SharedMemory, 10)))
	}
	if c.CPUs > 0 {
		t.put("cpus", plain(strconv.FormatFloat(c.CPUs, 'f', -1, 64)))
	}
	var devices []string
	for _, d := range c.Devices {
		devices = append(devices, d.Host+":"+d.Container)
	}
	t.put("devices", words(devices))
	t.put("cap_add", words(c.Capabilities))
	t.put("cap_drop", words(c.Dropped))
	t.put("privileged", flag(c.Privileged))
	t.put("read_only", flag(c.ReadOnly))
	t.put("init", flag(c.Init))
	for _, h := range []struct {
		key string
		is  bool
	}{{"pid", c.HostPID}, {"ipc", c.HostIPC}, {"cgroup", c.HostCgroup}} {
		if h.is {
			t.put(h.key, plain("host"))
		}
	}
	t.put("sysctls", pairTable(c.Sysctls))
	if len(c.Ulimits) > 0 {
		limits := newTable()
		for _, u := range c.Ulimits {
			one := newTable()
			one.put("soft", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.FormatInt(u.Soft, 10)})
			one.put("hard", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.FormatInt(u.Hard, 10)})
			limits.put(u.Name, one.node)
		}
		t.put("ulimits", limits.node)
	}
	t.put("extra_hosts", pairTable(c.AddressBook))
	t.put("dns", words(c.DNS))
	t.put("stop_signal", word(c.StopSignal))
	if s.StopWithin > 0 {
		t.put("stop_grace_period", plain(s.StopWithin.String()))
	}
	return t.node
}

// environment writes what is open; of secrets the names go into an environment file.
func (e *exporter) environment(t tableNode, s *lab.Service) {
	if s.OwnerUID != "" && s.Owner != nil && !s.Owner.Known {
		e.note(s, "the ids of %s are not known without its host, so %s and %s are left out", s.Owner.Name, s.OwnerUID, s.OwnerGID)
	}
	env, file := newTable(), ""
	for _, v := range s.Env {
		if v.Value.Secret() {
			file += v.Name + "=\n"
		} else {
			env.put(v.Name, plain(v.Value.String()))
		}
	}
	if len(env.node.Content) > 0 {
		t.put("environment", env.node)
	}
	if file != "" {
		e.env[s.Name+".env"] = file
		t.put("env_file", words([]string{s.Name + ".env"}))
	}
}

func (e *exporter) ports(s *lab.Service) []string {
	var all []string
	for _, p := range s.Ports {
		host := ""
		if p.Host.First > 0 {
			host = p.Host.String() + ":"
		}
		addresses := []string{""}
		if len(p.Addresses) > 0 {
			addresses = nil
			for _, a := range p.Addresses {
				text := a.String()
				if a.Is6() {
					text = "[" + text + "]"
				}
				addresses = append(addresses, text+":")
			}
		}
		for _, address := range addresses {
			for _, protocol := range p.Protocols {
				text := address + host + p.Container.String()
				if protocol != "tcp" {
					text += "/" + protocol
				}
				all = append(all, text)
			}
		}
	}
	return all
}

func (e *exporter) mounts(t tableNode, s *lab.Service) {
	n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
	for _, m := range s.Mounts {
		one := newTable()
		switch {
		case m.Volume != nil:
			one.put("type", plain("volume"))
			one.put("source", plain(m.Volume.Name))
			e.volumes[m.Volume.Name] = m.Volume
			if m.StartEmpty {
				own := newTable()
				own.put("nocopy", flag(true))
				defer one.put("volume", own.node)
			}
		case m.Kind == declare.MountPath:
			one.put("type", plain("bind"))
			one.put("source", plain(m.Source))
			own := newTable()
			if !m.Create {
				own.put("create_host_path", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "false"})
			}
			if m.Shared {
				own.put("propagation", plain("rshared"))
			}
			if len(own.node.Content) > 0 {
				defer one.put("bind", own.node)
			}
		case m.Kind == declare.MountMemory:
			one.put("type", plain("tmpfs"))
			if m.Size > 0 {
				own := newTable()
				own.put("size", plain(strconv.FormatInt(m.Size, 10)))
				defer one.put("tmpfs", own.node)
			}
		default:
			e.note(s, "the engine's socket is mounted at %s; where it lies there is for the other to say", m.Target)
			continue
		}
		one.put("target", plain(m.Target))
		one.put("read_only", flag(m.ReadOnly))
		n.Content = append(n.Content, one.node)
	}
	if len(n.Content) > 0 {
		t.put("volumes", n)
	}
}

func (e *exporter) order(t tableNode, s *lab.Service) {
	after := newTable()
	for _, a := range s.After {
		if a.Service.Stack != s.Stack {
			e.note(s, "it waits for %s of another stack", a.Service.FullName())
			continue
		}
		condition := "service_started"
		switch {
		case a.Done:
			condition = "service_completed_successfully"
		case a.Service.Ready != nil && (a.Service.Ready.Image || a.Service.Ready.Command != nil):
			condition = "service_healthy"
		}
		one := newTable()
		one.put("condition", plain(condition))
		after.put(a.Service.Name, one.node)
	}
	if len(after.node.Content) > 0 {
		t.put("depends_on", after.node)
	}
}

func (e *exporter) health(t tableNode, s *lab.Service) {
	switch {
	case s.Ready == nil || s.Ready.Image:
	case s.Ready.Command != nil:
		if open, ok := openWords(s.Ready.Command); ok {
			health := newTable()
			health.put("test", words(append([]string{"CMD"}, open...)))
			health.put("start_period", plain(s.ReadyWithin.String()))
			t.put("healthcheck", health.node)
		} else {
			e.note(s, "the command of ready holds a secret, and is left out")
		}
	default:
		e.note(s, "ready has no counterpart but for a command inside")
	}
}

func (e *exporter) network(t tableNode, s *lab.Service) {
	var aliases []string
	for _, a := range s.Aliases {
		aliases = append(aliases, a.Name)
	}
	switch {
	case s.NetworkMode != "":
		t.put("network_mode", plain(s.NetworkMode))
	case s.NetworkOf != nil:
		t.put("network_mode", plain("service:"+s.NetworkOf.Name))
	case len(s.Networks) > 0 || len(aliases) > 0:
		networks := newTable()
		var names []string
		if e.stack.Own {
			names = []string{"default"}
		}
		for _, n := range s.Networks {
			names = append(names, n.Name)
			e.networks[n.Name] = n
		}
		for _, n := range names {
			own := newTable()
			own.put("aliases", words(aliases))
			networks.put(n, own.node)
		}
		t.put("networks", networks.node)
	}
	for _, p := range s.Listens {
		e.note(s, "that it listens on %s of the host has no counterpart", p.Host)
	}
}

func (e *exporter) volumeTable() *yaml.Node {
	all := newTable()
	for _, name := range sortedNames(e.volumes) {
		v, own := e.volumes[name], newTable()
		own.put("external", flag(v.Existing))
		if v.Existing || !v.EngineNameAt.IsZero() {
			own.put("name", plain(v.EngineName))
		}
		own.put("driver", word(v.Driver))
		options := newTable()
		for _, o := range v.Options {
			if o.Value.Secret() {
				e.notes = append(e.notes, "the volume "+name+": the option "+o.Name+" holds a secret, and is left out")
				continue
			}
			options.put(o.Name, plain(o.Value.String()))
		}
		if len(options.node.Content) > 0 {
			own.put("driver_opts", options.node)
		}
		own.put("labels", pairTable(v.Labels))
		all.put(name, own.node)
	}
	return all.node
}
