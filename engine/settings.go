package engine

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"github.com/docker/go-units"
	"github.com/moby/moby/api/types/container"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

// translateSettings puts settings into the engine's terms.
func (e *Engine) translateSettings(s lab.Settings, config *container.Config, host *container.HostConfig) {
	config.Cmd, config.Entrypoint, config.WorkingDir, config.StopSignal = secret.Reveal(s.Command),
		secret.Reveal(s.Entrypoint), s.WorkingDir, s.StopSignal
	for _, l := range s.Labels {
		config.Labels[l.Name] = l.Value
	}
	host.GroupAdd, host.Memory, host.ShmSize, host.NanoCPUs = s.Groups, s.Memory, s.SharedMemory, int64(s.CPUs*1e9)
	host.CapAdd, host.CapDrop = s.Capabilities, s.Dropped
	host.Privileged, host.ReadonlyRootfs = s.Privileged, s.ReadOnly
	if s.Init && !e.lacksInit() {
		host.Init = &s.Init
	}
	if s.HostPID {
		host.PidMode = "host"
	}
	if s.HostIPC {
		host.IpcMode = "host"
	}
	if s.HostCgroup {
		host.CgroupnsMode = "host"
	}
	for _, d := range s.Devices {
		host.Devices = append(host.Devices, container.DeviceMapping{
			PathOnHost:        d.Host,
			PathInContainer:   d.Container,
			CgroupPermissions: "rwm",
		})
	}
	for _, p := range s.Sysctls {
		if host.Sysctls == nil {
			host.Sysctls = map[string]string{}
		}
		host.Sysctls[p.Name] = p.Value
	}
	for _, u := range s.Ulimits {
		host.Ulimits = append(host.Ulimits, &units.Ulimit{Name: u.Name, Soft: u.Soft, Hard: u.Hard})
	}
	for _, p := range s.AddressBook {
		host.ExtraHosts = append(host.ExtraHosts, p.Name+":"+p.Value)
	}
	for _, a := range s.DNS {
		if address, err := netip.ParseAddr(a); err == nil {
			host.DNS = append(host.DNS, address)
		}
	}
}

// usualSharedMemory are the sizes that engines give where none is declared.
var usualSharedMemory = []int64{0, 64 << 20, 65_536_000}

// readSettings is the way back.
func readSettings(c container.InspectResponse) lab.Settings {
	h, cfg := c.HostConfig, c.Config
	s := lab.Settings{
		Groups: slices.Clone(h.GroupAdd), Memory: h.Memory, CPUs: float64(h.NanoCPUs) / 1e9,
		Privileged: h.Privileged, ReadOnly: h.ReadonlyRootfs,
		HostPID: h.PidMode == "host", HostIPC: h.IpcMode == "host", HostCgroup: h.CgroupnsMode == "host",
		Init:         h.Init != nil && *h.Init,
		Capabilities: capabilityNames(h.CapAdd), Dropped: droppedNames(h.CapDrop),
	}
	if !slices.Contains(usualSharedMemory, h.ShmSize) {
		s.SharedMemory = h.ShmSize
	}
	if h.NanoCPUs == 0 && h.CPUPeriod > 0 && h.CPUQuota > 0 {
		s.CPUs = float64(h.CPUQuota) / float64(h.CPUPeriod)
	}
	for _, d := range h.Devices {
		s.Devices = append(s.Devices, declare.Device{
			Host:      d.PathOnHost,
			Container: cmp.Or(d.PathInContainer, d.PathOnHost),
		})
	}
	for name, value := range h.Sysctls {
		s.Sysctls = append(s.Sysctls, lab.Pair{Name: name, Value: value})
	}
	for _, u := range h.Ulimits {
		if u == nil {
			continue // an engine may say anything
		}
		name := strings.ToLower(strings.TrimPrefix(u.Name, "RLIMIT_"))
		s.Ulimits = append(s.Ulimits, declare.Ulimit{Name: name, Soft: u.Soft, Hard: u.Hard})
	}
	for _, e := range h.ExtraHosts {
		name, address, _ := strings.Cut(e, ":")
		s.AddressBook = append(s.AddressBook, lab.Pair{Name: name, Value: address})
	}
	for _, a := range h.DNS {
		s.DNS = append(s.DNS, a.String())
	}
	if cfg != nil {
		s.Command, s.Entrypoint, s.WorkingDir, s.StopSignal = secret.Plains(cfg.Cmd),
			secret.Plains(cfg.Entrypoint), cfg.WorkingDir, declare.SignalName(cfg.StopSignal)
		for name, value := range cfg.Labels {
			if !strings.HasPrefix(name, "proudlantern.") {
				s.Labels = append(s.Labels, lab.Pair{Name: name, Value: value})
			}
		}
	}
	byName := func(a, b lab.Pair) int { return cmp.Compare(a.Name, b.Name) }
	slices.SortFunc(s.Sysctls, byName)
	slices.SortFunc(s.Labels, byName)
	slices.SortFunc(s.AddressBook, byName)
	slices.SortFunc(s.Ulimits, func(a, b declare.Ulimit) int { return cmp.Compare(a.Name, b.Name) })
	slices.SortFunc(s.Devices, func(a, b declare.Device) int { return cmp.Compare(a.Container, b.Container) })
	slices.Sort(s.Groups)
	slices.Sort(s.DNS)
	return s
}

// droppedNames are the capabilities that a container does not get. Podman lists all that it would have got in the place of
// ALL; those of its default are among them in any case.
func droppedNames(list []string) []string {
	names := capabilityNames(list)
	for _, c := range []string{"CHOWN", "DAC_OVERRIDE", "FOWNER", "FSETID", "KILL", "NET_BIND_SERVICE", "SETFCAP", "SETGID", "SETPCAP", "SETUID", "SYS_CHROOT"} {
		if !slices.Contains(names, c) {
			return names
		}
	}
	return []string{"ALL"}
}

// capabilityNames returns capabilities without CAP_, sorted.
func capabilityNames(list []string) []string {
	var out []string
	for _, c := range list {
		out = append(out, strings.TrimPrefix(c, "CAP_"))
	}
	slices.Sort(out)
	return out
}

// ownAliases takes out what engines add by themselves: the short id.
func ownAliases(list []string, id string) []string {
	out := slices.DeleteFunc(slices.Clone(list), func(a string) bool {
		return len(a) >= 12 && strings.HasPrefix(id, a)
	})
	slices.Sort(out)
	return slices.Compact(out)
}
