//go:build linux

package host

import (
	"errors"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
	"proudlantern.example/lantern/registry"
)

// A survey of this machine, with an engine on it: the containers own their ports.
func TestSurveyOfThisMachine(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		h := &lab.Host{Name: "lamp-room", Engine: target.Address}
		dir := t.TempDir()
		asked := 0
		s, err := Survey(t.Context(), h, &registry.Logins{}, func(first *survey.Survey) survey.Ask {
			asked++
			assert.NotEmpty(t, first.Accounts, "accounts are known when the lab is asked")
			return survey.Ask{Paths: []string{dir}, Images: []string{enginetest.Page, enginetest.Page}}
		})
		require.NoError(t, err)
		assert.Equal(t, 1, asked)
		assert.Equal(t, "lamp-room", s.Host)
		require.NotNil(t, s.Engine)
		assert.NotEmpty(t, s.Engine.Version)
		assert.NotEmpty(t, s.Timezone)
		p, ok := s.Path(dir)
		require.True(t, ok)
		assert.Equal(t, survey.ID(os.Getuid()), p.UID)
		require.Len(t, s.Images, 1)
		assert.Equal(t, survey.FromEngine, s.Images[0].Source)
		assert.Equal(t, "8080", s.Images[0].Env["PROBE_PAGE"])
	})
}

func TestSurveyWithoutEngine(t *testing.T) {
	s, err := Survey(t.Context(), &lab.Host{Name: "lamp-room", Engine: "unix:///nowhere/engine.sock"},
		&registry.Logins{}, func(*survey.Survey) survey.Ask {
			return survey.Ask{Paths: []string{"/etc"}}
		})
	var u *engine.Unreachable
	require.True(t, errors.As(err, &u))
	assert.Contains(t, s.Unknown["engine"], "there is no socket")
	assert.NotEmpty(t, s.Accounts, "the machine is known all the same")
	_, ok := s.Path("/etc")
	assert.True(t, ok)
}

// The stand-in stands in for its machine, too.
func TestSurveyOfAStandIn(t *testing.T) {
	machine := &survey.Survey{
		Survey: 1, Host: "lamp-room", Timezone: "Atlantic/Faroe", Memory: 1 << 30, CPUs: 4,
		Accounts:  []survey.Account{{Name: "keeper", UID: 1311, GID: 1400}},
		Listeners: []survey.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 8712, Process: "lampd", PID: 812}},
		Paths:     []survey.Path{{Path: "/srv/skerry", Kind: survey.Folder, UID: 1311, GID: 1400, Mode: "0750"}},
	}
	h := &lab.Host{
		Name:   "lamp-room",
		Engine: enginetest.StandIn(t, standin.Options{Machine: machine, Platform: "linux/arm64"}),
	}
	s, err := Survey(t.Context(), h, &registry.Logins{}, func(*survey.Survey) survey.Ask {
		return survey.Ask{
			Paths: []string{"/srv/Skerry", "/srv/skerry"},
			Images: []string{enginetest.Page, "registry.skerry.example/probe:pulled",
				"registry.skerry.example/nobody:1"},
		}
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"linux/arm64", "Atlantic/Faroe"}, []string{s.Platform, s.Timezone})
	assert.Equal(t, machine.Accounts, s.Accounts)
	wrong, _ := s.Path("/srv/Skerry")
	assert.Equal(t, survey.Path{Path: "/srv/Skerry", Kind: survey.Missing, Near: []string{"skerry"}}, wrong)
	sources := map[string]string{}
	for _, i := range s.Images {
		sources[i.Reference] = i.Source
	}
	assert.Equal(t,
		map[string]string{
			enginetest.Page:                        survey.FromEngine,
			"registry.skerry.example/probe:pulled": survey.FromRegistry,
			"registry.skerry.example/nobody:1":     survey.Absent,
		}, sources)
}

func TestListenersOfContainers(t *testing.T) {
	s := &survey.Survey{
		Listeners: []survey.Listener{
			{Protocol: "tcp", Address: "0.0.0.0", Port: 8710, Process: "forwarder"},
			{Protocol: "udp", Address: "0.0.0.0", Port: 8710},
			{Protocol: "tcp", Address: "::", Port: 8711},
		},
		Containers: []survey.Container{{Name: "tide-log.desk",
			Ports: []string{"0.0.0.0:8710 -> 80/tcp", "[::]:8711 -> 81/tcp"}}},
	}
	nameContainers(s)
	assert.Equal(t, []string{"tide-log.desk", "", "tide-log.desk"},
		[]string{s.Listeners[0].Container, s.Listeners[1].Container, s.Listeners[2].Container})
}
