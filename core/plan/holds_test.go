package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// What a backup of a stack holds, and why it does not hold the rest.
func TestHolds(t *testing.T) {
	st := &lab.Stack{Name: "mast"}
	readings := &lab.Volume{Name: "readings", EngineName: "mast.readings"}
	vane, cups := service(st, "vane"), service(st, "cups")
	mounts(t, vane, "/srv/vane -> /data", "/srv/vane/old -> /old", "/srv/books -> /books, read-only", "/etc/localtime -> /etc/localtime",
		"/srv/cache -> /cache", "memory -> /tmp", "engine -> /run/engine.sock")
	mounts(t, cups, "/srv/shared -> /shared, read-only", "/srv/shared -> /out", "/srv/pages -> /pages, read-only")
	cups.Mounts[2].FromLab = true
	vane.Mounts = append(vane.Mounts, lab.Mount{
		Mount: declare.Mount{Kind: declare.MountVolume, Source: "readings", Target: "/kept"}, Volume: readings,
	})
	no := false
	vane.Card = &declare.Card{Data: []declare.CardData{{Path: "/cache", Keep: &no}}}
	st.Services = []*lab.Service{vane, cups}
	for name, row := range map[string]struct {
		only, without []string
		want          map[string]string
	}{
		"as it is": {nil, nil, map[string]string{
			"/etc/localtime": "it is of the system", "/srv/books": "it is only read here",
			"/srv/cache": "the card of its image says that nothing there has to be kept", "/srv/pages": "", "/srv/shared": "", "/srv/vane": "",
			"/srv/vane/old": "it lies in /srv/vane", "volume readings": "",
		}},
		"only": {[]string{"/srv/books", "volume readings"}, nil, map[string]string{
			"/etc/localtime": "--only names others", "/srv/books": "", "/srv/cache": "--only names others", "/srv/pages": "--only names others",
			"/srv/shared": "--only names others", "/srv/vane": "--only names others", "/srv/vane/old": "--only names others", "volume readings": "",
		}},
		"without": {nil, []string{"/srv/vane"}, map[string]string{
			"/etc/localtime": "it is of the system", "/srv/books": "it is only read here",
			"/srv/cache": "the card of its image says that nothing there has to be kept", "/srv/pages": "", "/srv/shared": "",
			"/srv/vane": "--without", "/srv/vane/old": "", "volume readings": "",
		}},
	} {
		t.Run(name, func(t *testing.T) {
			all, err := Holds(st, row.only, row.without)
			require.NoError(t, err)
			got := map[string]string{}
			for _, h := range all {
				got[h.Name()] = h.Why
				assert.NotEmpty(t, h.At)
			}
			assert.Equal(t, row.want, got)
		})
	}
	_, err := Holds(st, []string{"/srv/vain"}, nil)
	assert.ErrorContains(t, err, "/srv/vane is one")
}
