package lab

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
)

const (
	image  = "image = \"registry.skerry.example/sensor:1.4\"\n"
	twoLab = `lab = "skerry-light"
[folder]
data = "/srv/skerry"
[let]
kept = "${folder.data}/kept"
[host.lamp-room]
timezone = "Atlantic/Faroe"
[host.boathouse]
folder.data = "/home/keeper/skerry"
[network.causeway]
subnet = "198.51.100.0/26"
internal = true
[network.pier]
existing = true
engine-name = "old-pier"
`
)

func TestNetworks(t *testing.T) {
	l := resolveFiles(t, map[string]string{
		"lab.toml": twoLab,
		"mast/stack.toml": "host = \"lamp-room\"\nnetworks = [\"causeway\"]\n[volume.v]\n[volume.w]\n" +
			"existing = true\nengine-name = \"old-w\"\n" +
			"[service.vane]\n" + image +
			"aliases = [\"wind\", \"air\"]\nnetworks = [\"pier\", \"causeway\", \"pier\"]\n" +
			"mounts = [\"volume v -> /a\", \"volume w -> /b, read-only\"]\n" +
			"[service.guest]\n" + image + "shares-network-with = \"vane\"\nafter = [\"vane\", \"job done\"]\n" +
			"[service.alone]\n" + image + "network = \"none\"\n[service.open]\n" + image +
			"network = \"host\"\nlistens = [\"8710-8711\", \"[::1]:8712/udp\"]\npage = \"8711/x\"\n" +
			"[service.job]\n" + image + "restart = \"no\"\n[service.inherits]\n" + image,
		"tide-log/stack.toml": "host = \"lamp-room\"\nown-network = false\nnetworks = [\"causeway\"]\n" +
			"[service.desk]\n" + image + "after = [\"mast/vane\", \"mast/job done\"]\n",
	})
	mast := l.Stack("mast")
	names := func(s *Service) (all []string) {
		for _, n := range s.Networks {
			all = append(all, n.EngineName)
		}
		return all
	}
	vane, guest := mast.Service("vane"), mast.Service("guest")
	assert.Equal(t, []string{"old-pier", "skerry-light.causeway"}, names(vane),
		"each once, a service's own list in place of the stack's")
	assert.Equal(t, []string{"skerry-light.causeway"}, names(mast.Service("inherits")))
	assert.Empty(t, names(guest))
	assert.Same(t, vane, guest.NetworkOf)
	assert.Empty(t, guest.Hostname)
	assert.Equal(t, []bool{false, true}, []bool{guest.After[0].Done, guest.After[1].Done})
	assert.True(t, mast.Service("job").Awaited())
	assert.False(t, vane.Awaited())
	assert.Equal(t, "none", mast.Service("alone").NetworkMode)
	open := mast.Service("open")
	assert.True(t, open.HostNetwork())
	assert.Equal(t, []string{"http://localhost:8711/x"}, open.Links())
	assert.Equal(t, []string{"mast.v", "old-w"},
		[]string{vane.Mounts[0].Volume.EngineName, vane.Mounts[1].Volume.EngineName})
	desk := l.Stack("tide-log").Service("desk")
	assert.Same(t, vane, desk.After[0].Service)
	assert.Same(t, mast.Service("job"), desk.After[1].Service)
	assert.False(t, l.Stack("tide-log").Own)
}

// A value of lab.toml means on each host what the host's own folders say.
func TestLabsValuesOnEachHost(t *testing.T) {
	stack := func(host string) string {
		return "host = \"" + host + "\"\n[service.vane]\n" + image + "mounts = [\"${kept} -> /kept\"]\n"
	}
	l := resolveFiles(t, map[string]string{
		"lab.toml":         twoLab,
		"mast/stack.toml":  stack("lamp-room"),
		"birds/stack.toml": stack("boathouse"),
	})
	assert.Equal(t, "/srv/skerry/kept", l.Stack("mast").Services[0].Mounts[0].Source)
	assert.Equal(t, "/home/keeper/skerry/kept", l.Stack("birds").Services[0].Mounts[0].Source)
	assert.Equal(t, []string{"Atlantic/Faroe", ""},
		[]string{l.Stack("mast").Services[0].Zone.Name, l.Stack("birds").Services[0].Zone.Name})
}

func TestReferencesEverywhere(t *testing.T) {
	l := resolveFiles(t, map[string]string{
		"lab.toml": "lab = \"skerry-light\"\nowner = \"${who}\"\ntimezone = \"${zone}\"\n[let]\n" +
			"who = \"1311:1400\"\nzone = \"Atlantic/Faroe\"\n[host.lamp-room]\naddress = \"${zone}.example\"\n",
		"mast/stack.toml": "host = \"${where}\"\n[let]\nwhere = \"lamp-room\"\nprefix = \"WATCH\"\n" +
			"[service.vane]\n" + image +
			"env-files = [\"${stack.name}.env\"]\nowner-variables = [\"${prefix}_UID\", " +
			"\"${prefix}_GID\"]\nenv.WHERE = \"${host.address} ${timezone} ${owner.uid} ${$}{x}\"\n",
		"mast/mast.env": "LEVEL=low\nDB_PASSWORD='a b'\n",
	})
	s := l.Stack("mast").Services[0]
	got := map[string]string{}
	for _, v := range s.Env {
		got[v.Name] = v.Value.Reveal()
	}
	assert.Equal(t, map[string]string{
		"WATCH_UID": "1311", "WATCH_GID": "1400", "TZ": "Atlantic/Faroe", "LEVEL": "low",
		"DB_PASSWORD": "a b", "WHERE": "Atlantic/Faroe.example Atlantic/Faroe 1311 ${x}",
	}, got)
	assert.Contains(t, l.Secrets(), "a b", "also of a file whose name is found out late")
}

// What a secret is made of is secret wherever it stands, in whatever order services come.
func TestSecretsAreMadeOfSecrets(t *testing.T) {
	l := resolveFiles(t, map[string]string{
		"lab.toml": "lab = \"skerry-light\"\n[let]\nmoon = \"full\"\nphrase = \"${moon}-over-the-skerry\"\n" +
			"plain = \"low\"\n[host.lamp-room]\n",
		"mast/stack.toml": "[service.a]\n" + image +
			"env.URL = \"store://${phrase}@store\"\nenv.LEVEL = \"${plain}\"\n" +
			"[service.b]\n" + image + "env.STORE_PASSWORD = \"${phrase}\"\n",
	})
	for _, v := range l.Stack("mast").Service("a").Env {
		assert.Equal(t, v.Name == "URL", v.Value.Secret(), v.Name)
	}
	assert.Equal(t, []string{"full", "full-over-the-skerry", "store://full-over-the-skerry@store"}, l.Secrets())
}

// However many stacks are worked out at a time, what is found comes in the same order; a line of lab.toml
// that all share is reported once.
func TestSameOrderEachTime(t *testing.T) {
	files := map[string]string{
		"lab.toml": "lab = \"skerry-light\"\n[let]\nbroken = \"${nowhere}\"\n[host.lamp-room]\n[default]\n" +
			"memory = \"much\"\n",
	}
	for i := range 40 {
		files[fmt.Sprintf("s%02d/stack.toml",
			i)] = "[service.a]\n" + image + "env.A = \"${broken}\"\nenv.B = \"${gone}\"\nports = [\"x\"]\n"
	}
	first := resolveAny(files)
	assert.Len(t, first.Problems, 2+40*2)
	for range 10 {
		again := resolveAny(files)
		require.Len(t, again.Problems, len(first.Problems))
		for i, p := range again.Problems {
			require.Equal(t, first.Problems[i].Message+first.Problems[i].At.Place().String(),
				p.Message+p.At.Place().String())
		}
	}
}

func TestTables(t *testing.T) {
	facts := &survey.Survey{
		Survey: 1, Host: "lamp-room", Accounts: []survey.Account{{Name: "keeper", UID: 1311, GID: 1400}},
		Listeners: []survey.Listener{
			{Protocol: "tcp", Address: "0.0.0.0", Port: 22, Process: "sshd", PID: 611},
			{Protocol: "tcp", Address: "0.0.0.0", Port: 8710, Process: "forwarder", Container: "mast.vane"},
			{Protocol: "udp", Address: "127.0.0.1", Port: 8750},
		},
		Containers: []survey.Container{
			{Name: "mast.vane", Lab: "skerry-light", Stack: "mast", Service: "vane",
				Ports: []string{"0.0.0.0:8710 -> 80/tcp", "[::]:8710 -> 80/tcp"}},
			{Name: "mast.gone", Lab: "skerry-light", Stack: "mast", Service: "gone",
				Ports: []string{"0.0.0.0:8730 -> 80/tcp"}},
			{Name: "old", Ports: []string{"192.0.2.14:8740 -> 80/tcp"}},
		},
		Paths: []survey.Path{
			{Path: "/srv/a", Kind: survey.Folder, UID: 1311, GID: 1400, Mode: "0750"},
			{Path: "/srv/b", Kind: survey.Missing},
		},
	}
	l := resolveFiles(t, map[string]string{
		"lab.toml": "lab = \"skerry-light\"\n[host.lamp-room]\nreserved-ports = [\"8712/tcp\"]\n",
		"mast/stack.toml": "[service.vane]\n" + image +
			"run-as = \"keeper\"\nports = [\"8710 -> 80\"]\n" +
			"mounts = [\"/srv/b -> /b\", \"/srv/a -> /a, read-only\"]\n",
	}, facts)
	h := l.Host("lamp-room")
	assert.Equal(t, []PortUse{
		{"lamp-room", "tcp", "", 22, 0, "sshd (pid 611)",
			PortProcess}, {"lamp-room", "tcp", "", 8710, 80, "mast/vane",
			PortDeclared}, {"lamp-room", "tcp", "", 8712, 0, "lab.toml", PortReserved},
		{"lamp-room", "tcp", "", 8730, 80, "mast/gone",
			PortRunning}, {"lamp-room", "tcp", "192.0.2.14", 8740, 80, "container old", PortForeign},
		{"lamp-room", "udp", "127.0.0.1", 8750, 0, "a process that only root may see", PortProcess},
	}, l.Ports(h))
	assert.Equal(t, []MountUse{
		{Host: "lamp-room", Source: "/srv/a", Stack: "mast", Service: "vane", Target: "/a", ReadOnly: true,
			As: "keeper (uid 1311)", Owner: "keeper (uid 1311)", Mode: "0750", Kind: survey.Folder},
		{Host: "lamp-room", Source: "/srv/b", Stack: "mast", Service: "vane", Target: "/b",
			As: "keeper (uid 1311)", Kind: survey.Missing},
	}, l.Mounts())
}
