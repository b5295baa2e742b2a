package engine

import (
	"fmt"
	"slices"
	"strings"

	"github.com/moby/moby/api/types/container"

	"proudlantern.example/lantern/core/plan"
)

// keptLogs are the drivers that keep logs on the host, as the one that lantern uses does.
var keptLogs = []string{"", "json-file", "local", "journald", "k8s-file"}

// usualProcesses is how many processes Podman allows in a container that says nothing.
const usualProcesses = 2048

// lost names what a container was made with that lantern cannot declare.
func lost(c container.InspectResponse) []plan.Lost {
	h, cfg := c.HostConfig, c.Config
	if h == nil || cfg == nil {
		return nil
	}
	var all []plan.Lost
	add := func(is bool, element, format string, args ...any) {
		if is {
			all = append(all, plan.Lost{Element: element, Text: fmt.Sprintf(format, args...) + ": this cannot be declared"})
		}
	}
	other := func(mode string, known ...string) bool { return mode != "" && !slices.Contains(known, mode) }
	add(len(h.SecurityOpt) > 0 && !h.Privileged, "security", "it has the security options %s", strings.Join(h.SecurityOpt, ", "))
	add(len(h.DeviceRequests) > 0, "devices", "it asks for devices by their kind, such as graphics processors")
	add(len(h.DeviceCgroupRules) > 0, "devices", "it has rules for devices, %s", strings.Join(h.DeviceCgroupRules, ", "))
	add(len(h.Links) > 0, "links", "it knows others by links, %s", strings.Join(h.Links, ", "))
	add(len(h.VolumesFrom) > 0, "mounts", "it mounts whatever %s mount", strings.Join(h.VolumesFrom, ", "))
	add(len(h.DNSSearch) > 0 || len(h.DNSOptions) > 0, "dns", "it has search names or options for name servers")
	add(other(string(h.PidMode), "host", "private"), "pid", "it sees the processes of %s", h.PidMode)
	add(other(string(h.IpcMode), "host", "private", "shareable"), "ipc", "it shares the memory of %s", h.IpcMode)
	add(other(string(h.UTSMode), "private"), "uts", "it has the host name of %s", h.UTSMode)
	add(other(string(h.UsernsMode), "host"), "userns", "it has a user namespace of its own, %s", h.UsernsMode)
	add(h.CPUShares > 0, "cpus", "it has %d shares of the processors", h.CPUShares)
	add(h.CpusetCpus != "", "cpus", "it runs on the processors %s only", h.CpusetCpus)
	add(h.MemoryReservation > 0, "memory", "%d bytes of memory are set aside for it", h.MemoryReservation)
	add(h.MemorySwap > 0 && h.MemorySwap != 2*h.Memory, "memory", "memory and swap are limited to %d bytes", h.MemorySwap)
	add(h.PidsLimit != nil && *h.PidsLimit > 0 && *h.PidsLimit != usualProcesses, "processes", "it may have %d processes", deref(h.PidsLimit))
	add(h.OomScoreAdj != 0, "memory", "it is ended sooner or later than others when memory is short (%d)", h.OomScoreAdj)
	add(!slices.Contains(keptLogs, h.LogConfig.Type), "log-limit", "its log goes to %s", h.LogConfig.Type)
	add(cfg.Domainname != "", "hostname", "its domain is %s", cfg.Domainname)
	add(cfg.Tty, "tty", "it has a terminal")
	if n := c.NetworkSettings; n != nil {
		for name, e := range n.Networks {
			add(e != nil && e.IPAMConfig != nil && (e.IPAMConfig.IPv4Address.IsValid() || e.IPAMConfig.IPv6Address.IsValid()), "networks",
				"it has a fixed address on %s; services find each other by name", name)
		}
	}
	if h.AutoRemove {
		all = append(all, plan.Lost{Element: "takes-over", Text: "the engine removes it as soon as it ends, so it cannot be " +
			"the safety net of a deploy, which refuses to take it over: end it yourself before the deploy"})
	}
	return all
}

func deref(n *int64) int64 {
	if n == nil {
		return 0
	}
	return *n
}
