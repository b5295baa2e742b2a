package demo

import (
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine/standin"
)

func readLab(t *testing.T, dir string) *lab.Lab {
	t.Helper()
	stacks, err := filepath.Glob(filepath.Join(dir, "*", "stack.toml"))
	require.NoError(t, err)
	var names []string
	for _, s := range stacks {
		names = append(names, filepath.Base(filepath.Dir(s)))
	}
	decl := declare.Read(names, func(path string) (string, error) {
		text, err := os.ReadFile(filepath.Join(dir, path))
		return string(text), err
	})
	surveys := map[string]*survey.Survey{}
	for _, h := range Hosts {
		text, err := machineFiles.ReadFile(h.Name + ".json")
		require.NoError(t, err)
		s, err := survey.Parse(text)
		require.NoError(t, err)
		surveys[h.Name] = s
	}
	return lab.Resolve(decl, lab.Input{Folder: dir, Surveys: surveys})
}

// Skerry Light is as the story tells it: two hosts, four stacks, nine services, five mistakes of five families.
func TestSkerryLight(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "skerry")
	require.NoError(t, Write(dir))
	assert.Error(t, Write(dir), "not over what is there already")
	l := readLab(t, dir)
	services := 0
	for _, st := range l.Stacks {
		services += len(st.Services)
	}
	assert.Equal(t, []int{2, 4, 9}, []int{len(l.Hosts), len(l.Stacks), services})
	var found []string
	for _, f := range check.Run(l, check.All()).Findings {
		// Missing paths need the nearest names, which a survey of the stand-in adds.
		found = append(found, f.Rule)
	}
	slices.Sort(found)
	assert.Equal(t, []string{"account-unknown", "env-placeholder", "port-clash", "zone-unknown"}, found)

	info, err := os.Stat(filepath.Join(dir, "tide-log", "tide-log.env"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode(), "secrets are for their owner")
	text, err := machineFiles.ReadFile("images.toml")
	require.NoError(t, err)
	catalogue, err := standin.ParseCatalogue(text)
	require.NoError(t, err)
	for _, st := range l.Stacks {
		for _, s := range st.Services {
			assert.Contains(t, catalogue.Image, s.Image.Text)
		}
	}
}

// Where a port of the lab is taken on this machine, all of them move, and the two that clash still do.
func TestPortsMove(t *testing.T) {
	held, err := net.Listen("tcp", "127.0.0.1:8714")
	if err == nil {
		defer held.Close()
	}
	distance := freeDistance()
	require.Positive(t, distance)
	dir := filepath.Join(t.TempDir(), "skerry")
	require.NoError(t, Write(dir))
	l := readLab(t, dir)
	assert.Equal(t, 8714+distance, l.Stack("lamp-journal").Service("archive").Ports[0].Host.First)
	assert.Equal(t, 8090, l.Stack("lamp-journal").Service("archive").Ports[0].Container.First,
		"the container's side stays")
	assert.Equal(t, l.Stack("tide-log").Service("desk").Ports[0].Host,
		l.Stack("notice-board").Service("pages").Ports[0].Host)
}

func TestEngines(t *testing.T) {
	dir, err := os.MkdirTemp("", "skerry")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	end, err := Engines(dir)
	require.NoError(t, err)
	_, err = Engines(dir)
	assert.ErrorContains(t, err, "listens on", "one engine a socket")
	end()
	again, err := Engines(dir)
	require.NoError(t, err, "a socket that is left over is replaced")
	again()
	_, err = Engines(filepath.Join(dir, strings.Repeat("far-", 40)))
	assert.Error(t, err, "the path of a socket has at most 107 bytes")
}
