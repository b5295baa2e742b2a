package observe

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
	SweepFolder  = "folder" // or file: what was there before a restore
)

// Sweepable is something that lantern left on a host and that nothing uses.
type Sweepable struct {
	Host  string `json:"host"`
	Kind  string `json:"kind"`
	Name  string `json:"name"`            // as it is called there, or its id
	About string `json:"about,omitempty"` // what it was
	Bytes int64  `json:"bytes"`           // that removing it frees at most; -1 where that is not known

	Reference string `json:"-"` // of an image: what it was deployed as
}

// Remembered is what the logbook knows of a host.
type Remembered struct {
	Images map[string]RememberedImage // that were deployed, by id
	Keep   map[string]bool            // ids that stay: declared now, or what a revert would need
}

// RememberedImage is an image that was deployed once.
type RememberedImage struct{ Reference, About string }

// Sweepable returns what lies around on the host: images that were deployed once, that no container uses and
// that have no other name, volumes that were made for images and that a replacement left, and networks of the
// lab without anybody on them. Of images only the logbook knows; all else is read from the things themselves.
func (o *Observer) Sweepable(ctx context.Context, known Remembered) ([]Sweepable, error) {
	var all []Sweepable
	for _, find := range []func(context.Context, Remembered) ([]Sweepable, error){
		o.unusedImages, o.unusedVolumes, o.unusedNetworks,
	} {
		found, err := find(ctx, known)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	slices.SortFunc(all, func(a, b Sweepable) int {
		return strings.Compare(a.Kind+a.About+a.Name, b.Kind+b.About+b.Name)
	})
	return all, nil
}

// unusedImages are those of earlier versions that no container was made from.
func (o *Observer) unusedImages(ctx context.Context, known Remembered) (all []Sweepable, err error) {
	used, err := o.Engine.ImagesInUse(ctx)
	if err != nil {
		return nil, err
	}
	for id, was := range known.Images {
		if used[id] || known.Keep[id] {
			continue
		}
		image, err := o.Engine.Image(ctx, id)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if o.Engine.Nameable(image, was.Reference) {
			all = append(all, Sweepable{
				Host:      o.Host,
				Kind:      SweepImage,
				Name:      id,
				About:     was.About,
				Bytes:     image.Size,
				Reference: was.Reference,
			})
		}
	}
	return all, nil
}

// unusedVolumes are those of the lab that no container mounts.
func (o *Observer) unusedVolumes(ctx context.Context, _ Remembered) (all []Sweepable, err error) {
	volumes, err := o.Engine.UnusedVolumes(ctx, o.Lab)
	if err != nil {
		return nil, err
	}
	for name, size := range volumes {
		stack, _, _ := strings.Cut(name, ".")
		all = append(all, Sweepable{
			Host:  o.Host,
			Kind:  SweepVolume,
			Name:  name,
			About: "left by " + stack,
			Bytes: size,
		})
	}
	return all, nil
}

// unusedNetworks are those of the lab that no container is on.
func (o *Observer) unusedNetworks(ctx context.Context, _ Remembered) (all []Sweepable, err error) {
	containers, err := o.Engine.Containers(ctx, o.Lab, "")
	if err != nil {
		return nil, err
	}
	atWork := slices.ContainsFunc(containers, func(c engine.State) bool {
		return c.Labels[plan.LabelService] == ""
	})
	networks, err := o.Engine.Networks(ctx, o.Lab)
	if err != nil {
		return nil, err
	}
	for _, n := range networks {
		on := slices.ContainsFunc(containers, func(c engine.State) bool { return OnNetwork(c, n.Name) })
		if !on && !atWork {
			all = append(all, Sweepable{
				Host:  o.Host,
				Kind:  SweepNetwork,
				Name:  n.Name,
				About: "no containers on it",
			})
		}
	}
	return all, nil
}

func OnNetwork(c engine.State, network string) bool {
	return slices.ContainsFunc(c.Container.Networks, func(a plan.Attachment) bool { return a.Network == network })
}
