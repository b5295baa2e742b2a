package app

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/adopt"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
)

// Adopt writes nothing yet: it makes a stack of containers of a host, or one for each group of those that belong
// together where no name is given. No containers named means all that run and that lantern has not made.
func (w *Workspace) Adopt(ctx context.Context, names []string, stack, onHost string) (*Drafted, error) {
	if stack != "" {
		if err := w.newStack(stack); err != nil {
			return nil, err
		}
	}
	hosts := w.HostsOf(onHost)
	if len(hosts) != 1 {
		return nil, usage("the lab has several hosts: --host says where the containers are")
	}
	h := hosts[0]
	d, err := w.deployer(ctx, h, nil)
	if err != nil {
		return nil, unreachable(h.Name, err)
	}
	defer d.Engine.Close()
	list, err := d.Engine.Survey(ctx)
	if err != nil {
		return nil, unreachable(h.Name, err)
	}
	if names, err = w.adoptable(list, names, h.Name); err != nil {
		return nil, err
	}
	var all []adopt.Container
	for _, name := range names {
		c, err := foreign(ctx, d.Engine, name)
		if err != nil {
			return nil, unreachable(h.Name, err)
		}
		all = append(all, c)
	}
	groups := []adopt.Group{{Name: stack, Containers: all}}
	if stack == "" {
		groups = adopt.Groups(all, func(name string) bool {
			_, err := os.Lstat(filepath.Join(w.Dir, name))
			return w.Stack(name) != nil || !errors.Is(err, fs.ErrNotExist)
		})
	}
	out := &Drafted{Notes: []DraftNote{}}
	place := w.adoptPlace(h.Name, d.Engine)
	for _, g := range groups {
		got, err := adopt.Stack(g.Name, place, g.Containers)
		if err != nil {
			return nil, &Error{Kind: Stopped, Message: err.Error()}
		}
		one := w.imported(g.Name, g.Name+"/"+declare.StackFile, got)
		out.Stacks, out.Lab = append(out.Stacks, g.Name), out.Lab+one.Lab
		out.Files, out.Notes = append(out.Files, one.Files...), append(out.Notes, one.Notes...)
		place.Networks = got.Networks
	}
	if len(groups) == 1 {
		out.Stack, out.Stacks = groups[0].Name, nil
	}
	return out, nil
}

// adoptable returns the containers that are meant.
func (w *Workspace) adoptable(list []survey.Container, names []string, host string) ([]string, error) {
	var there, free []string
	for _, c := range list {
		there = append(there, c.Name)
		if c.State == "running" && c.Lab == "" {
			free = append(free, c.Name)
		}
	}
	if len(names) == 0 {
		if len(free) == 0 {
			return nil, &Error{Kind: Stopped, Message: host + " runs no container that lantern has not made"}
		}
		return free, nil
	}
	var all []string
	for _, name := range names {
		i := slices.IndexFunc(list, func(c survey.Container) bool { return c.Name == strings.TrimPrefix(name, "/") })
		if i < 0 {
			return nil, usage("%s", declare.Unknown(host+" has no container "+name, name, there, "; it has "+strings.Join(there, ", ")))
		}
		if list[i].Lab == w.Name {
			return nil, usage("%s is of this lab already", name)
		}
		if !slices.Contains(all, list[i].Name) {
			all = append(all, list[i].Name)
		}
	}
	return all, nil
}

// foreign looks at a container of somebody else: what its image says is taken out, but what holds data stays in.
func foreign(ctx context.Context, e *engine.Engine, name string) (adopt.Container, error) {
	c, err := e.Inspect(ctx, name)
	if err != nil {
		return adopt.Container{}, err
	}
	image, err := e.Image(ctx, c.ImageID)
	if err != nil && !errors.Is(err, engine.ErrNotFound) {
		return adopt.Container{}, err
	}
	out := adopt.Container{
		ID: c.ID, Name: c.Name, Container: engine.WithoutImage(c.Container, image, plan.Container{}), Check: c.Check, Lost: c.Lost,
		Ended: !c.Running, Unnamed: c.Unnamed,
	}
	out.Settings.Ulimits = c.Container.Settings.Ulimits
	for _, m := range c.Container.Mounts {
		kept := slices.ContainsFunc(out.Mounts, func(o plan.Mount) bool { return o.Target == m.Target })
		if m.Kind == declare.MountVolume && !kept {
			out.Unnamed = append(out.Unnamed, m)
		}
	}
	return out, nil
}

// adoptPlace is what adopting has to know of the lab.
func (w *Workspace) adoptPlace(host string, e *engine.Engine) adopt.Place {
	p := adopt.Place{
		Zone: w.decl.Timezone.Value, Folders: map[string]string{}, Networks: w.Networks, Defaults: w.decl.Default,
		Limits: e.TellsLimits(),
	}
	if len(w.Hosts) > 1 {
		p.Host = host
	}
	folders := w.decl.Folders
	for _, h := range w.decl.Hosts {
		if h.Name == host {
			folders = append(slices.Clone(folders), h.Folders...)
			if h.Timezone.IsSet() {
				p.Zone = h.Timezone.Value
			}
		}
	}
	for _, f := range folders {
		if !strings.Contains(f.Text.Value, "$") {
			p.Folders[f.Name] = f.Text.Value
		}
	}
	return p
}
