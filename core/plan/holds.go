package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// Held is a folder, file or volume that a stack keeps data in.
type Held struct {
	Path   string      // of the host; "" for a volume
	Volume *lab.Volume // nil for a path
	At     []string    // where it is mounted: SERVICE PATH-INSIDE of each
	Why    string      // why a backup leaves it out; "": it does not
}

// Name is what a person calls it.
func (h Held) Name() string {
	if h.Volume != nil {
		return "volume " + h.Volume.Name
	}
	return h.Path
}

// ofTheSystem are paths that hold no data of a service, also where one mounts them.
var ofTheSystem = []string{"/dev", "/proc", "/sys", "/run", "/var/run", "/etc/localtime", "/etc/timezone", "/etc/resolv.conf"}

// Holds returns what a stack keeps data in, sorted by name, and what a backup of it leaves out. With only, nothing but
// that is taken; without takes away. A name that the stack does not mount is an error.
func Holds(st *lab.Stack, only, without []string) ([]Held, error) {
	var all []Held
	for _, s := range st.Services {
		for _, m := range s.Mounts {
			if m.Kind != declare.MountPath && m.Kind != declare.MountVolume {
				continue
			}
			h := Held{Path: m.Source, Volume: m.Volume, At: []string{s.Name + " " + m.Target}, Why: leftOut(s, m)}
			if h.Volume != nil {
				h.Path = ""
			}
			if i := slices.IndexFunc(all, func(o Held) bool { return o.Name() == h.Name() }); i >= 0 {
				all[i].At = append(all[i].At, h.At...)
				if h.Why == "" {
					all[i].Why = "" // one that needs it is enough
				}
				continue
			}
			all = append(all, h)
		}
	}
	slices.SortFunc(all, func(a, b Held) int { return cmp.Compare(a.Name(), b.Name()) })
	for _, name := range slices.Concat(only, without) {
		if !slices.ContainsFunc(all, func(h Held) bool { return h.Name() == name }) {
			var names []string
			for _, h := range all {
				names = append(names, h.Name())
			}
			return nil, fmt.Errorf("%s", declare.Unknown(st.Name+" mounts no "+name, name, names, "; it mounts "+strings.Join(names, ", ")))
		}
	}
	for i, h := range all {
		switch {
		case slices.Contains(without, h.Name()):
			all[i].Why = "--without"
		case len(only) > 0 && !slices.Contains(only, h.Name()):
			all[i].Why = "--only names others"
		case len(only) > 0:
			all[i].Why = ""
		}
	}
	// What lies in another one of these goes with it.
	for i, h := range all {
		for _, o := range all {
			if h.Path != "" && o.Path != "" && o.Path != h.Path && o.Why == "" && declare.Below(h.Path, o.Path) {
				all[i].Why = "it lies in " + o.Path
			}
		}
	}
	return all, nil
}

// leftOut says why a mount is left out where nobody says otherwise.
func leftOut(s *lab.Service, m lab.Mount) string {
	if s.Card != nil {
		for _, d := range s.Card.Data {
			if d.Path == m.Target && d.Keep != nil && !*d.Keep {
				return "the card of its image says that nothing there has to be kept"
			}
		}
	}
	switch {
	case m.Kind == declare.MountPath && slices.ContainsFunc(ofTheSystem, func(p string) bool { return declare.Below(m.Source, p) }):
		return "it is of the system"
	case m.ReadOnly && !m.FromLab:
		return "it is only read here"
	}
	return ""
}
