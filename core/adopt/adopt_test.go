package adopt

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
)

// made is a container with these variables, NAME=value.
func made(id, name string, env ...string) Container {
	c := Container{ID: id, Name: name, Container: plan.Container{Image: "registry.skerry.example/tide-desk:2.3"}}
	for _, v := range env {
		key, value, _ := strings.Cut(v, "=")
		c.Env = append(c.Env, plan.Variable{Name: key, Value: secret.Plain(value)})
	}
	return c
}

// What a container is becomes these lines of its stack.
func TestLines(t *testing.T) {
	place := Place{Zone: "Atlantic/Faroe", Folders: map[string]string{"data": "/srv/skerry", "tides": "/srv/skerry/tides", "all": "/"}}
	for name, row := range map[string]struct {
		set       func(c *Container)
		want, not string
	}{
		"the lab's zone":  {func(c *Container) { c.Env = made("", "", "TZ=Atlantic/Faroe").Env }, "", "timezone"},
		"another zone":    {func(c *Container) { c.Env = made("", "", "TZ=UTC").Env }, `timezone = "UTC"`, "env.TZ"},
		"no zone":         {func(*Container) {}, `timezone = "none"`, ""},
		"no zone at all":  {func(c *Container) { c.Env = made("", "", "TZ=lighthouse").Env }, `env.TZ = "lighthouse"`, ""},
		"an address":      {func(c *Container) { c.Env = made("", "", "STORE=pg://tides:moon@store/x").Env }, `env-files = ["desk.env"]`, "moon"},
		"a reference":     {func(c *Container) { c.Env = made("", "", "A=${B}").Env }, `env.A = "${$}{B}"`, ""},
		"ids":             {func(c *Container) { c.Env = made("", "", "RUN_UID=5", "RUN_GID=6").Env }, "owner = \"5:6\"\nowner-variables = [\"RUN_UID\", \"RUN_GID\"]", "env."},
		"half of the ids": {func(c *Container) { c.Env = made("", "", "RUN_UID=5").Env }, `env.RUN_UID = "5"`, "owner"},
		"ids of names":    {func(c *Container) { c.Env = made("", "", "RUN_UID=a", "RUN_GID=b").Env }, `env.RUN_GID = "b"`, "owner"},
		"the nearest one": {func(c *Container) { c.Mounts = []plan.Mount{{Source: "/srv/skerry/tides/a", Target: "/a"}} }, `"${folder.tides}/a -> /a"`, ""},
		"the folder":      {func(c *Container) { c.Mounts = []plan.Mount{{Source: "/srv/skerry", Target: "/a", ReadOnly: true}} }, `"${folder.data} -> /a, read-only"`, ""},
		"no folder":       {func(c *Container) { c.Mounts = []plan.Mount{{Source: "/srv/skerryman", Target: "/a"}} }, `"/srv/skerryman -> /a"`, ""},
		"an odd path":     {func(c *Container) { c.Mounts = []plan.Mount{{Source: "/a, b", Target: "/a"}} }, `"'/a, b' -> /a"`, ""},
		"a volume": {func(c *Container) {
			c.Mounts = []plan.Mount{{Kind: declare.MountVolume, Source: "tides_old", Target: "/a"}}
		}, "[volume.old]\nexisting = true\nengine-name = \"tides_old\"", ""},
		"no name":       {func(c *Container) { c.Hostname = "0123456789ab" }, "", "hostname"},
		"a name":        {func(c *Container) { c.Hostname = "lamp" }, `hostname = "lamp"`, ""},
		"an account":    {func(c *Container) { c.User = "keeper:watch" }, `run-as = "inside keeper:watch"`, ""},
		"ids to run as": {func(c *Container) { c.User = "5:6" }, `run-as = "5:6"`, ""},
		"a range of ports": {func(c *Container) {
			c.Ports = []plan.Port{{Address: "", Host: 81, Container: 81, Protocol: "tcp"}, {Address: "", Host: 80, Container: 80, Protocol: "tcp"}, {Address: "::1", Host: 90, Container: 82, Protocol: "udp"}}
		}, "ports = [\"80-81 -> 80-81\", \"[::1]:90 -> 82/udp\"]", ""},
		"any port": {func(c *Container) {
			c.Ports = []plan.Port{{Address: "", Host: 0, Container: 80, Protocol: "tcp"}, {Address: "", Host: 0, Container: 81, Protocol: "tcp"}}
		}, `ports = ["any -> 80", "any -> 81"]`, ""},
		"the usual":      {func(c *Container) { c.Restart.Policy = "unless-stopped" }, "", "restart"},
		"a log":          {func(c *Container) { c.LogLimit.Size = 1_000_000 }, `log-limit = "1 x 1MB"`, ""},
		"a log not told": {func(c *Container) { c.NotReported = []string{"log-limit"} }, "", "log-limit"},
		"no words":       {func(c *Container) { c.Settings.Command = []secret.Text{} }, "command = []", ""},
		"words": {func(c *Container) {
			c.Settings.Command = secret.Plains([]string{"serve", "--api-token=moon", "--password", "over", "--level", "info", "pg://a:the@skerry/x"})
		}, `command = ["serve", "--api-token=${desk-api-token}", "--password", "${desk-password}", "--level", "info", "${desk-address}"]`, "moon"},
		"labels": {func(c *Container) {
			c.Settings.Labels = []lab.Pair{{Name: "example.tool.project", Value: "x"}, {Name: "example.tool.version", Value: "1"}, {Name: "room", Value: "lamp"}}
		}, `labels.room = "lamp"`, "version"},
	} {
		t.Run(name, func(t *testing.T) {
			c := made("0123456789abcdef", "tides-desk")
			row.set(&c)
			got, err := Stack("tides", place, []Container{c})
			require.NoError(t, err)
			assert.Contains(t, got.Text, row.want)
			assert.Contains(t, got.Text, "[service.desk]\n", "without the name of the stack")
			assert.Contains(t, got.Text, `takes-over = "tides-desk"`)
			if row.not != "" {
				assert.NotContains(t, got.Text, row.not)
			}
			read := declare.Read([]string{"tides"}, func(path string) (string, error) {
				switch path {
				case "tides/stack.toml":
					return got.Text, nil
				case "tides/desk.env", "tides/commands.env":
					return got.Env[strings.TrimPrefix(path, "tides/")], nil
				}
				return "lab = \"skerry-light\"\n", nil
			})
			assert.Empty(t, read.Problems)
		})
	}
}

// Containers that belong together become one stack, with a name that is free; what cannot be one stack is said.
func TestGroups(t *testing.T) {
	on := func(c Container, network string, aliases ...string) Container {
		c.Networks = []plan.Attachment{{Network: "bridge"}}
		if network != "" {
			c.Networks = []plan.Attachment{{Network: network, Aliases: aliases}}
		}
		return c
	}
	labelled := func(c Container, project string) Container {
		c.Settings.Labels = []lab.Pair{{Name: "example.tool.project", Value: project}, {Name: "example.tool.service", Value: "Log"}}
		return c
	}
	guest := made("e", "guest")
	guest.NetworkOf = "container:a"
	all := []Container{
		on(made("a", "desk"), "tides_net", "tides"), on(made("b", "alone"), ""), on(made("c", "store"), "tides_net"),
		labelled(on(made("d", "x"), ""), "birds"), guest, labelled(on(made("f", "y"), "other"), "birds"), on(made("g", "alone2"), ""),
	}
	groups := Groups(all, func(name string) bool { return name == "alone" })
	got := map[string][]string{}
	for _, g := range groups {
		for _, c := range g.Containers {
			got[g.Name] = append(got[g.Name], c.Name)
		}
	}
	assert.Equal(t, map[string][]string{
		"tides-net": {"desk", "store", "guest"}, "alone-2": {"alone"}, "birds": {"x", "y"}, "alone2": {"alone2"},
	}, got)

	out, err := Stack("tides", Place{Networks: []*lab.Network{{Name: "causeway", EngineName: "other"}}}, groups[0].Containers)
	require.NoError(t, err)
	assert.Contains(t, out.Text, "own-network = false")
	assert.Contains(t, out.Text, "networks = [\"tides-net\"]\n")
	assert.Contains(t, out.Text, `aliases = ["desk", "tides"]`)
	assert.Contains(t, out.Text, `shares-network-with = "desk"`)
	assert.Contains(t, out.Lab, "[network.tides-net]")
	assert.Contains(t, out.Lab, "existing = true\nengine-name = \"tides_net\"")
	out, err = Stack("birds", Place{Networks: []*lab.Network{{Name: "causeway", EngineName: "other"}}}, groups[2].Containers)
	require.NoError(t, err)
	assert.Contains(t, out.Text, "networks = [\"causeway\"]")
	assert.Empty(t, out.Lab)
	require.NotEmpty(t, out.Notes)
	assert.Contains(t, out.Text, "[service.log]")
	assert.Contains(t, out.Text, "[service.log-2]")
	for _, n := range out.Notes {
		assert.Positive(t, n.Line)
	}
	_, err = Stack("tides", Place{}, []Container{guest})
	assert.ErrorContains(t, err, "adopt that one, too")
	_, err = Stack("tides", Place{}, []Container{made("a", "tides.desk")})
	assert.ErrorContains(t, err, "the very name")
}
