package deploy

import (
	"context"
	"errors"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// Kinds of what a sweep finds.
const (
	SweepImage   = "image"
	SweepVolume  = "volume"
	SweepNetwork = "network"
)

// Sweepable is something that lantern left on a host and that nothing uses.
type Sweepable struct {
	Host  string `json:"host"`
	Kind  string `json:"kind"`
	Name  string `json:"name"`            // as it is called there, or its id
	About string `json:"about,omitempty"` // what it was
	Bytes int64  `json:"bytes"`           // that removing it frees at most; -1 where nobody knows
}

// Remembered is what the logbook knows of a host.
type Remembered struct {
	Images  map[string]string // ids that were deployed, to what they were for
	Keep    map[string]bool   // ids that stay: declared now, or what a revert would need
	Volumes map[string]string // of images' own making that were left, to whose they were
}

// Sweepable returns what lies around on the host: images that were deployed once and that no container uses, volumes of images' own making that a
// replacement left, and networks of the lab without anybody on them.
func (d *Deployer) Sweepable(ctx context.Context, known Remembered) ([]Sweepable, error) {
	var all []Sweepable
	used, err := d.Engine.ImagesInUse(ctx)
	if err != nil {
		return nil, err
	}
	for id, about := range known.Images {
		if used[id] || known.Keep[id] {
			continue
		}
		image, err := d.Engine.Image(ctx, id)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, Sweepable{d.Host, SweepImage, id, about, image.Size})
	}
	var names []string
	for name := range known.Volumes {
		names = append(names, name)
	}
	volumes, err := d.Engine.UnusedVolumes(ctx, names)
	if err != nil {
		return nil, err
	}
	for name, size := range volumes {
		all = append(all, Sweepable{d.Host, SweepVolume, name, known.Volumes[name], size})
	}
	containers, err := d.Engine.Containers(ctx, d.Lab, "")
	if err != nil {
		return nil, err
	}
	atWork := slices.ContainsFunc(containers, func(c engine.State) bool { return c.Labels[plan.LabelService] == "" })
	networks, err := d.Engine.Networks(ctx, d.Lab)
	if err != nil {
		return nil, err
	}
	for _, n := range networks {
		on := slices.ContainsFunc(containers, func(c engine.State) bool { return onNetwork(c, n.Name) })
		if !on && !atWork {
			all = append(all, Sweepable{d.Host, SweepNetwork, n.Name, "nobody is on it", 0})
		}
	}
	slices.SortFunc(all, func(a, b Sweepable) int { return strings.Compare(a.Kind+a.About+a.Name, b.Kind+b.About+b.Name) })
	return all, nil
}

// Sweep removes one thing that [Deployer.Sweepable] found.
func (d *Deployer) Sweep(ctx context.Context, s Sweepable) error {
	switch s.Kind {
	case SweepImage:
		return d.Engine.RemoveImage(ctx, s.Name)
	case SweepVolume:
		return d.Engine.RemoveUnnamed(ctx, s.Name)
	}
	return d.Engine.RemoveNetwork(ctx, s.Name, d.Lab)
}
