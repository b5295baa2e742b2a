package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

// Each setting that is declared otherwise than it runs shows as itself and nothing else, and is another
// fingerprint.
func TestEachSetting(t *testing.T) {
	const own = "tide-log.net"
	for field, change := range map[string]func(c *Container){
		"platform":     func(c *Container) { c.Settings.Platform = "linux/arm64" },
		"command":      func(c *Container) { c.Settings.Command = secret.Plains([]string{"a b", "c"}) },
		"entrypoint":   func(c *Container) { c.Settings.Entrypoint = []secret.Text{} },
		"working-dir":  func(c *Container) { c.Settings.WorkingDir = "/data" },
		"hostname":     func(c *Container) { c.Hostname = "desk" },
		"extra-groups": func(c *Container) { c.Settings.Groups = []string{"1410"} },
		"aliases": func(c *Container) {
			c.Networks = []Attachment{{Network: own, Aliases: []string{"tides"}}}
		},
		"network":             func(c *Container) { c.Mode = "host" },
		"shares-network-with": func(c *Container) { c.NetworkOf = "store" },
		"networks": func(c *Container) {
			c.Networks = append(c.Networks, Attachment{Network: "skerry-light.causeway"})
		},
		"memory":        func(c *Container) { c.Settings.Memory = 64 << 20 },
		"shared-memory": func(c *Container) { c.Settings.SharedMemory = 1 << 20 },
		"cpus":          func(c *Container) { c.Settings.CPUs = 1.5 },
		"devices": func(c *Container) {
			c.Settings.Devices = []declare.Device{{Host: "/dev/a", Container: "/dev/b"}}
		},
		"capabilities":      func(c *Container) { c.Settings.Capabilities = []string{"NET_ADMIN"} },
		"drop-capabilities": func(c *Container) { c.Settings.Dropped = []string{"ALL"} },
		"privileged":        func(c *Container) { c.Settings.Privileged = true },
		"read-only":         func(c *Container) { c.Settings.ReadOnly = true },
		"init":              func(c *Container) { c.Settings.Init = true },
		"pid":               func(c *Container) { c.Settings.HostPID = true },
		"ipc":               func(c *Container) { c.Settings.HostIPC = true },
		"cgroup":            func(c *Container) { c.Settings.HostCgroup = true },
		"sysctls":           func(c *Container) { c.Settings.Sysctls = []lab.Pair{{Name: "net.a", Value: "1"}} },
		"labels":            func(c *Container) { c.Settings.Labels = []lab.Pair{{Name: "a", Value: "1"}} },
		"ulimits": func(c *Container) {
			c.Settings.Ulimits = []declare.Ulimit{{Name: "core", Soft: 1, Hard: 2}}
		},
		"address-book": func(c *Container) {
			c.Settings.AddressBook = []lab.Pair{{Name: "lamp", Value: "192.0.2.1"}}
		},
		"dns":         func(c *Container) { c.Settings.DNS = []string{"192.0.2.53"} },
		"stop-signal": func(c *Container) { c.Settings.StopSignal = "SIGINT" },
	} {
		running, declared := Container{
			Networks: []Attachment{{Network: own}},
		}, Container{Networks: []Attachment{{Network: own}}}
		change(&declared)
		d := Differences(running, declared)
		if assert.Len(t, d, 1, field) {
			assert.Equal(t, field, d[0].Field)
			assert.NotEqual(t, d[0].Running, d[0].Declared)
			assert.NotEmpty(t, d[0].Declared)
		}
		assert.NotEqual(t, running.Digest("salt"), declared.Digest("salt"), field)
		running.NotReported = []string{field}
		assert.Empty(t, Differences(running, declared), "what an engine does not show is no difference")
	}
	assert.Len(t, settingFields, 26)
}
