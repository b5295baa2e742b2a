package gate

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"sync"

	"proudlantern.example/lantern/core/sites"
)

// store keeps what a gate was told. Each file stands twice: should one be no longer readable, the other holds what was good
// last.
type store struct {
	folder string

	mu       sync.Mutex
	settings sites.Settings
	stacks   map[string][]sites.Route
	lost     []string // files that could not be read
}

const (
	settingsFile = "settings.json"
	routesFile   = "routes.json"
	mostState    = 64 << 20 // of a file, in bytes
)

func openStore(folder string) (*store, error) {
	if err := os.MkdirAll(filepath.Join(folder, certificateFolder), 0o700); err != nil {
		return nil, err
	}
	s := &store{folder: folder}
	s.settings = remember(s, settingsFile, func(v sites.Settings) bool { return v.Lab != "" })
	s.stacks = remember(s, routesFile, func(v map[string][]sites.Route) bool { return v != nil })
	if s.stacks == nil {
		s.stacks = map[string][]sites.Route{}
	}
	return s, nil
}

// remember reads a file, or what was good before it.
func remember[T any](s *store, name string, good func(T) bool) (nothing T) {
	for _, file := range []string{name, name + ".before"} {
		text, err := os.ReadFile(filepath.Join(s.folder, file))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		var value T
		if err == nil && len(text) <= mostState && json.Unmarshal(text, &value) == nil && good(value) {
			return value
		}
		s.lost = append(s.lost, file)
	}
	return nothing
}

// keep writes a file twice, one after the other: whenever that breaks off, one of them is whole.
func (s *store) keep(name string, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	for _, file := range []string{name, name + ".before"} {
		if err := writeWhole(filepath.Join(s.folder, file), text); err != nil {
			return err
		}
	}
	return nil
}

func (s *store) all() (sites.Settings, map[string][]sites.Route) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.settings, maps.Clone(s.stacks)
}

func (s *store) setStack(stack string, routes []sites.Route) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	stacks := maps.Clone(s.stacks)
	if stacks[stack] = routes; len(routes) == 0 {
		delete(stacks, stack)
	}
	if err := s.keep(routesFile, stacks); err != nil {
		return err
	}
	s.stacks = stacks
	return nil
}

func (s *store) setSettings(settings sites.Settings) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.keep(settingsFile, settings); err != nil {
		return err
	}
	s.settings = settings
	return nil
}

// writeWhole writes a file for nobody else's eyes, so that it is there as a whole or as it was, whenever that breaks off.
func writeWhole(file string, text []byte) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".new-*") // with mode 0600
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}
