package plan

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/wiring"
)

// Volume is a volume of the engine that a stack's services mount.
type Volume struct {
	Name     string // on the engine
	Driver   string // "": the engine's own
	Options  map[string]secret.Text
	Labels   map[string]string
	Existing bool // made by somebody else: never made and never removed
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
			options := make(map[string]secret.Text, len(v.Options))
			for _, o := range v.Options {
				options[o.Name] = o.Value
			}
			all = append(all, Volume{v.EngineName, v.Driver, options, texts(v.Labels), v.Existing})
		}
	}
	return all
}

// Resource is what a deploy does with a network or a volume.
type Resource struct {
	Name        string // on the engine
	Action      Action // create, replace, keep or remove
	Differences []Difference
}

// compareNetworks compares the networks that a stack needs with those that the host has. What somebody else
// made is left out, and so are those shared ones that the stack no longer needs: other stacks may.
func compareNetworks(stack *lab.Stack, found Found) []Resource {
	var all []Resource
	declared := wiring.NetworksOf(stack)
	for _, n := range declared {
		if n.Existing {
			continue
		}
		i := slices.IndexFunc(found.Networks, func(f survey.Network) bool {
			return f.Name == n.Name && f.Lab == found.Lab
		})
		if i < 0 {
			all = append(all, Resource{Name: n.Name, Action: Create})
			continue
		}
		all = append(all, there(n.Name, networkDifferences(n, found.Networks[i])))
	}
	for _, f := range found.Networks {
		if f.Lab == found.Lab && f.Stack == stack.Name &&
			!slices.ContainsFunc(declared, func(n Network) bool { return n.Name == f.Name }) {
			all = append(all, Resource{Name: f.Name, Action: Remove})
		}
	}
	return all
}

// there is what becomes of something that the host has.
func there(name string, differences []Difference) Resource {
	if differences != nil {
		return Resource{name, Replace, differences}
	}
	return Resource{name, Keep, nil}
}

func networkDifferences(n Network, f survey.Network) []Difference {
	var d []Difference
	if n.Subnet != "" && !slices.Contains(f.Subnets, n.Subnet) {
		d = append(d, Difference{"subnet", strings.Join(f.Subnets, ", "), n.Subnet})
	}
	if n.Internal != f.Internal {
		d = append(d, Difference{"internal", strconv.FormatBool(f.Internal), strconv.FormatBool(n.Internal)})
	}
	return d
}

// compareVolumes compares the volumes that a stack mounts with those that the host has. A volume that is no
// longer declared stays as it is.
func compareVolumes(stack *lab.Stack, found Found) []Resource {
	var all []Resource
	for _, v := range VolumesOf(stack) {
		if v.Existing {
			continue
		}
		i := slices.IndexFunc(found.Volumes, func(f survey.Volume) bool {
			return f.Name == v.Name && f.Lab == found.Lab
		})
		if i < 0 {
			all = append(all, Resource{Name: v.Name, Action: Create})
			continue
		}
		all = append(all, there(v.Name, v.differences(found.Volumes[i])))
	}
	return all
}

// usualDriver is the volume driver that every engine has.
const usualDriver = "local"

func (v Volume) differences(f survey.Volume) []Difference {
	var d []Difference
	if want := cmp.Or(v.Driver, usualDriver); want != f.Driver {
		d = append(d, Difference{"driver", f.Driver, want})
	}
	names := slices.Collect(maps.Keys(v.Options))
	for name := range f.Options {
		if _, ok := v.Options[name]; !ok {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		was, is := f.Options[name], v.Options[name]
		if is.Is(was) {
			continue
		}
		// mount options of a share
		hides := is.Secret() || declare.IsSecret(name) || name == "o" && strings.Contains(was+is.Reveal(), "pass")
		d = append(d,
			Difference{"options." + name, secret.Of(was, hides).String(), secret.Of(is.Reveal(), hides).String()})
	}
	return d
}

// Folders are folders to make on a host: Paths below Below, which is there, so that Path is.
type Folders struct {
	Path, Below string
	Paths       []string // in the order in which they are made
	UID, GID    survey.ID
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
			return nil,
				fmt.Errorf("%s is to be made for %s, and whose it should be is not known: %s",
					m.Source, s.FullName(), why)
		}
		if f.UID, f.GID, ok = onHost(facts.Engine, id); !ok {
			return nil, fmt.Errorf("%s is to be made for %s, and nobody on %s is uid %d and gid %d inside of its engine without root",
				m.Source, s.FullName(), s.Stack.Host.Name, id.UID, id.GID)
		}
		all = append(all, f)
	}
	return all, nil
}

// onHost is what an identity inside of an engine is on its host.
func onHost(e *survey.Engine, id lab.Identity) (uid, gid survey.ID, ok bool) {
	if e == nil || !e.Rootless {
		return id.UID, id.GID, true
	}
	uid, known := survey.HostID(e.UIDMap, id.UID)
	gid, also := survey.HostID(e.GIDMap, id.GID)
	return uid, gid, known && also
}

// Order returns stacks so that each comes behind those that its services wait for, and gates before all others;
// otherwise they stay in their order.
func Order(stacks []*lab.Stack) []*lab.Stack {
	makers := slices.DeleteFunc(slices.Clone(stacks), func(st *lab.Stack) bool {
		return !slices.ContainsFunc(st.Services, func(s *lab.Service) bool { return s.Build != nil })
	})
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
			for _, other := range makers { // images come before what uses them
				if other != st && other.Host == st.Host && slices.ContainsFunc(ImagesOf(s), func(image string) bool { return other.Builder(image) != nil }) {
					add(other)
				}
			}
		}
		out = append(out, st)
	}
	for _, st := range stacks { // sites are told to a gate that runs
		if st.Gate != nil {
			add(st)
		}
	}
	for _, st := range stacks {
		add(st)
	}
	return out
}

// ImagesOf returns the image of a service, and those that it is made of.
func ImagesOf(s *lab.Service) []string {
	if s.Build == nil {
		return []string{s.Image.Text}
	}
	return s.Build.Bases()
}
