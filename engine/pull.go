package engine

import (
	"context"
	"errors"
	"strings"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/moby/moby/client"
)

// PullProgress is how far a pull is. Neither number ever goes down, and Total only rises while sizes become
// known.
type PullProgress struct {
	Current, Total int64 // bytes of layers, as they are transferred
	Layers, Done   int
}

// Pull fetches an image, with the login of the auth files. Sizes are those of its layers in bytes, by the
// first 12 digits of their digests, as its registry tells them; without, the total is that of the layers
// whose transfer has begun. Errors: [ErrNotFound] when the registry has none, [ErrDiskFull].
func (e *Engine) Pull(ctx context.Context, reference string, sizes map[string]int64,
	progress func(PullProgress)) error {
	r, err := e.api.ImagePull(ctx, reference, client.ImagePullOptions{RegistryAuth: e.login(reference)})
	if err != nil {
		return pullError(err)
	}
	defer r.Close()
	p := newPulled(sizes)
	for m, err := range r.JSONMessages(ctx) {
		if err != nil {
			return pullError(err)
		}
		if m.Error != nil {
			return pullError(errors.New(m.Error.Message))
		}
		current, total := int64(0), int64(0)
		if m.Progress != nil {
			current, total = m.Progress.Current, m.Progress.Total
		}
		if p.heard(m.ID, m.Status, current, total) {
			progress(p.sum())
		}
	}
	return nil
}

// pulled adds up what a pull says of its layers.
type pulled struct {
	known  bool // sizes are those of all layers
	layers map[string]*pulledLayer
	last   PullProgress
}

type pulledLayer struct {
	current, total int64
	done           bool
}

func newPulled(sizes map[string]int64) *pulled {
	p := &pulled{known: len(sizes) > 0, layers: map[string]*pulledLayer{}}
	for id, size := range sizes {
		p.layers[id] = &pulledLayer{total: size}
	}
	return p
}

// heard takes in one message, and reports whether it was about a layer.
func (p *pulled) heard(id, status string, current, total int64) bool {
	l := p.layers[id]
	if l == nil {
		if p.known || status != "Pulling fs layer" && status != "Downloading" && status != "Already exists" {
			return false // the image's configuration, or its name
		}
		l = &pulledLayer{}
		p.layers[id] = l
	}
	switch status {
	case "Downloading":
		if total > 0 && !p.known {
			l.total = total
		}
		// A transfer that broke off begins again; what is shown stays where it was until it has caught up.
		l.current = max(l.current, min(current, l.total))
	case "Already exists", "Download complete", "Pull complete", "Verifying Checksum", "Extracting":
		l.current, l.done = l.total, true
	}
	return true
}

func (p *pulled) sum() PullProgress {
	s := PullProgress{Layers: len(p.layers)}
	for _, l := range p.layers {
		s.Current += l.current
		s.Total += l.total
		if l.done {
			s.Done++
		}
	}
	s.Current, s.Total = max(s.Current, p.last.Current), max(s.Total, p.last.Total)
	p.last = s
	return s
}

func pullError(err error) error {
	text := short(err.Error())
	switch {
	case strings.Contains(text, "manifest unknown") || strings.Contains(text, "name unknown") ||
		cerrdefs.IsNotFound(err):
		return &Error{Call: "pull", Message: text, kind: ErrNotFound, err: err}
	case strings.Contains(text, "no space left on device"):
		return &Error{Call: "pull", Message: text, kind: ErrDiskFull, err: err}
	}
	return explain("pull", err)
}
