package prepare

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// steps works out the steps for a stack on a host.
func steps(stack string, facts *survey.Survey) ([]Step, []Open) {
	texts := map[string]string{"lab.toml": "lab = \"skerry-light\"\n[host.lamp-room]\n", "mast/stack.toml": stack}
	facts.Host = "lamp-room"
	facts.Index()
	l := lab.Resolve(declare.Read([]string{"mast"}, func(path string) (string, error) {
		if text, ok := texts[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	}), lab.Input{Surveys: map[string]*survey.Survey{"lamp-room": facts}})
	return Steps(l, l.Hosts[0], l.Stacks, false)
}

func folder(path string, uid, gid survey.ID, mode string) survey.Path {
	return survey.Path{Path: path, Real: path, Kind: survey.Folder, UID: uid, GID: gid, Mode: mode}
}

// An engine without root: ids inside are others on the host, and its own user has to get through.
func TestWithoutRoot(t *testing.T) {
	facts := &survey.Survey{
		Engine: &survey.Engine{
			Rootless: true, UIDMap: []survey.IDMap{{Inside: 0, Host: 1311, Count: 1}, {Inside: 1, Host: 6000, Count: 3000}},
			GIDMap: []survey.IDMap{{Inside: 0, Host: 1400, Count: 1}, {Inside: 1, Host: 6000, Count: 3000}},
		},
		Paths: []survey.Path{folder("/", 0, 0, "0755"), folder("/srv", 0, 0, "0750"), folder("/srv/a", 1399, 1400, "0700"),
			{Path: "/srv/b", Kind: survey.Missing}},
	}
	found, open := steps(`[service.desk]
image = "a:1"
run-as = "1000:1000"
mounts = ["/srv/a -> /a", "/srv/b -> /b, create"]
`, facts)
	assert.Empty(t, open)
	var said []string
	for _, s := range found {
		for _, c := range s.Changes {
			said = append(said, c.Action+" "+c.Path+" "+c.To)
		}
	}
	assert.Equal(t, []string{"acl /srv user:1311:--x", "acl /srv/a user:6999:rwx", "make /srv/b uid 6999 and gid 6999, mode 0750"}, said)
}

// What is not known, or not certain, is left to a person.
func TestLeftOpen(t *testing.T) {
	facts := &survey.Survey{
		Paths: []survey.Path{folder("/", 0, 0, "0755"), folder("/srv", 0, 0, "0755"), {Path: "/srv/hidden", Kind: survey.Hidden},
			{Path: "/srv/Journals", Kind: survey.Missing, Near: []string{"journals"}}, folder("/srv/disk", 1399, 1400, "0700"),
			{Path: "/srv/socket", Real: "/srv/socket", Kind: survey.Socket}},
		FileSystems: []survey.FileSystem{{Mount: "/srv/disk", Options: []string{"ro"}, Mounted: true}},
	}
	found, open := steps(`[service.desk]
image = "a:1"
run-as = "1000:1000"
mounts = ["/srv/hidden -> /a", "/srv/Journals -> /b", "/srv/disk -> /c", "/srv/socket -> /d"]
[service.unknown]
image = "a:1"
mounts = ["/srv/disk -> /c"]
`, facts)
	assert.Empty(t, found)
	var said []string
	for _, o := range open {
		said = append(said, o.Service+" "+o.Path+": "+o.Why)
	}
	assert.Equal(t, []string{
		"mast/unknown /srv/disk: what the image a:1 declares is not known",
		"mast/desk /srv/Journals: it does not exist; perhaps this is meant: /srv/journals",
		"mast/desk /srv/disk: the file system at /srv/disk is mounted read-only",
		"mast/desk /srv/hidden: what is there cannot be seen without more rights",
	}, said)
}
