package draft

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/survey"
)

func TestSuggest(t *testing.T) {
	s := &survey.Survey{
		Host: "lamp-room", Timezone: "Atlantic/Faroe", Platform: "linux/amd64",
		Engine: &survey.Engine{Name: "Engine\nx = 1", Version: "1\r2"},
		Accounts: []survey.Account{{Name: "root"}, {Name: "ranger", UID: 1312, GID: 1401}, {Name: "keeper", UID: 1311, GID: 1400},
			{Name: "nobody", UID: 65534, GID: 65534}},
		FileSystems: []survey.FileSystem{
			{Mount: "/", Mounted: true, Free: 500e9}, {Mount: "/tank", Mounted: true, Free: 300e9},
			{Mount: "/mnt", Mounted: true, Free: 900e9, Options: []string{"ro"}}, {Mount: "/media", Free: 900e9},
			{Mount: "/var/lib", Mounted: true, Free: 900e9},
		},
	}
	l, c := Suggest(s, "Skerry Light", "keeper")
	assert.Equal(t, Lab{Name: "skerry-light", Host: "lamp-room", Address: "lamp-room", Timezone: "Atlantic/Faroe",
		Owner: "keeper", Data: "/tank/skerry-light"}, l)
	assert.Equal(t, []Choice{{"keeper", "uid 1311, gid 1400, you"}, {"ranger", "uid 1312, gid 1401"}}, c.Owners)
	assert.Equal(t, []Choice{{"/tank/skerry-light", "300 GB free"}, {"/srv/skerry-light", "500 GB free"}}, c.Data)
	for _, l := range []Lab{l, {Name: "a", Host: "b"}, {Name: "a", Host: "b", Address: "x\"y", Timezone: "\n[let]"}} {
		option, _ := l.Wrong()
		assert.Empty(t, option)
		decl := declare.Read(nil, func(path string) (string, error) {
			if path == declare.LabFile {
				return l.File(s), nil
			}
			return "", errors.New("there is none")
		})
		require.Empty(t, decl.Problems, l.File(s))
		assert.Equal(t, l.Name, decl.Name.Value)
		assert.Equal(t, l.Timezone, decl.Timezone.Value)
		require.Len(t, decl.Hosts, 1)
		assert.Equal(t, l.Host, decl.Hosts[0].Name)
		assert.Equal(t, l.Address, decl.Hosts[0].Address.Value)
	}
	assert.Contains(t, Lab{Name: "a", Host: "b"}.File(s), `# timezone = ""  # in which zone are the services?`)

	for from, to := range map[string]string{"Skerry  Light!": "skerry-light", "9 lives": "lives", "Ä": "lab", "": "lab",
		"-a-": "a", "a.b_c": "a-b-c"} {
		l, _ := Suggest(&survey.Survey{}, from, "")
		assert.Equal(t, to, l.Name, from)
	}
	for option, l := range map[string]Lab{"name": {Name: "A", Host: "b"}, "host-name": {Name: "a", Host: ""},
		"data": {Name: "a", Host: "b", Data: "srv"}} {
		wrong, why := l.Wrong()
		assert.Equal(t, option, wrong)
		assert.NotEmpty(t, why)
	}
}
