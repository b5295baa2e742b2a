package plan

import (
	"fmt"
	"path"
	"slices"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// Network is a network that a stack's services are on.
type Network struct {
	Name     string // on the engine
	Subnet   string // "": the engine's choice
	Internal bool
	Shared   bool // the lab's, not the stack's
	Existing bool // made by somebody else: never made and never removed
}

// Volume is a volume of the engine that a stack's services mount.
type Volume struct {
	Name            string // on the engine
	Driver          string // "": the engine's own
	Options, Labels map[string]string
	Existing        bool // made by somebody else: never made and never removed
}

// NetworksOf returns the networks that a stack needs: its own first.
func NetworksOf(st *lab.Stack) []Network {
	var all []Network
	for _, s := range st.Services {
		if st.Own && s.NetworkMode == "" && s.Shares == nil && len(all) == 0 {
			all = []Network{{Name: NetworkName(st.Name)}}
		}
	}
	for _, s := range st.Services {
		for _, n := range s.Networks {
			network := Network{n.EngineName, n.Subnet, n.Internal, true, n.Existing}
			if !slices.Contains(all, network) {
				all = append(all, network)
			}
		}
	}
	return all
}

// VolumesOf returns the volumes that a stack's services mount.
func VolumesOf(st *lab.Stack) []Volume {
	var all []Volume
	texts := func(pairs []lab.Pair) map[string]string {
		if pairs == nil {
			return nil
		}
		m := make(map[string]string, len(pairs))
		for _, p := range pairs {
			m[p.Name] = p.Value
		}
		return m
	}
	for _, v := range st.Volumes {
		used := slices.ContainsFunc(st.Services, func(s *lab.Service) bool {
			return slices.ContainsFunc(s.Mounts, func(m lab.Mount) bool { return m.Volume == v })
		})
		if used {
			all = append(all, Volume{v.EngineName, v.Driver, texts(v.Options), texts(v.Labels), v.Existing})
		}
	}
	return all
}

// Folders are folders to make on a host: Paths below Below, which is there, so that Path is.
type Folders struct {
	Path, Below string
	Paths       []string // in the order in which they are made
	UID, GID    int
	Mode        uint32
}

// defaultFolderMode is that of a folder that create makes.
const defaultFolderMode = 0o750

// FoldersOf returns the folders that a service's mounts may make (create) and that its host does not have.
func FoldersOf(s *lab.Service) ([]Folders, error) {
	facts := s.Stack.Host.Survey
	var all []Folders
	for _, m := range s.Mounts {
		if m.Kind != declare.MountPath || !m.Create || facts == nil {
			continue
		}
		f := Folders{Path: m.Source, Mode: m.Mode}
		if f.Mode == 0 {
			f.Mode = defaultFolderMode
		}
		for f.Below = m.Source; f.Below != "/"; f.Below = path.Dir(f.Below) {
			if p, ok := facts.Path(f.Below); !ok || p.Kind != survey.Missing {
				break
			}
			f.Paths = append([]string{f.Below}, f.Paths...)
		}
		if f.Paths == nil {
			continue
		}
		id, ok, why := s.Identity()
		if !ok {
			return nil, fmt.Errorf("%s is to be made for %s, and whose it should be is not known: %s", m.Source, s.FullName(), why)
		}
		f.UID, f.GID = id.UID, id.GID
		all = append(all, f)
	}
	return all, nil
}

// Order returns stacks so that each comes behind those that its services wait for; otherwise they stay in their order.
func Order(stacks []*lab.Stack) []*lab.Stack {
	var out []*lab.Stack
	begun := map[*lab.Stack]bool{}
	var add func(st *lab.Stack)
	add = func(st *lab.Stack) {
		if begun[st] { // also in a circle, which the check reports
			return
		}
		begun[st] = true
		for _, s := range st.Services {
			for _, a := range s.After {
				if slices.Contains(stacks, a.Service.Stack) {
					add(a.Service.Stack)
				}
			}
		}
		out = append(out, st)
	}
	for _, st := range stacks {
		add(st)
	}
	return out
}
