package app

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/draft"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/tags"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/host"
	"proudlantern.example/lantern/registry"
)

// ImageFacts are what an image tells of itself, and its registry of its tags.
type ImageFacts struct {
	Reference  string            `json:"reference"`
	Source     string            `json:"source"` // engine, registry or absent; "" where that is not known
	Digest     string            `json:"digest,omitempty"`
	Created    time.Time         `json:"created,omitzero"`
	Size       int64             `json:"size,omitempty"` // bytes: on the host, or to be pulled
	Platforms  []string          `json:"platforms,omitempty"`
	Ports      []string          `json:"ports,omitempty"`
	Volumes    []string          `json:"volumes,omitempty"`
	User       string            `json:"user,omitempty"`
	Env        map[string]string `json:"env,omitempty"`
	Entrypoint []string          `json:"entrypoint,omitempty"`
	Command    []string          `json:"command,omitempty"`
	Labels     map[string]string `json:"labels,omitempty"`
	Links      ImageLinks        `json:"links,omitzero"`
	Tags       []ImageTag        `json:"tags,omitempty"` // newest versions first
	Card       *ImageCard        `json:"card,omitempty"`
	Near       []string          `json:"near,omitempty"`    // of one that is absent: what its registry has instead
	Unknown    string            `json:"unknown,omitempty"` // why it, or its tags, could not be asked for

	Fits bool `json:"-"` // it runs on the host, as far as it says
}

// ImageLinks are addresses that an image gives (OCI image specification, annotations).
type ImageLinks struct {
	Source        string `json:"source,omitempty"`
	Documentation string `json:"documentation,omitempty"`
	URL           string `json:"url,omitempty"`
}

// ImageTag is a tag of an image's repository.
type ImageTag struct {
	Tag   string `json:"tag"`
	Moves bool   `json:"moves"` // it most likely stands for another image some day
}

// ImageLook is where images are looked at.
type ImageLook struct {
	Host     string // "" outside of a lab
	Platform string // of the host; "" where no engine answers
	NoEngine error  // why no engine answers: then registries alone are asked

	engine *engine.Engine
	logins *registry.Logins
	cards  []*declare.Card // of the lab
}

// LookAtImages connects to the engine of a host of the lab, or without a lab (nil) to the one of this machine. Where
// none answers, registries are asked alone. It has to be closed.
func LookAtImages(ctx context.Context, w *Workspace, onHost string, noHelpers bool) (*ImageLook, error) {
	l := &ImageLook{logins: &registry.Logins{NoHelpers: noHelpers}}
	if w == nil {
		l.engine, l.NoEngine = engine.Dial(ctx, "")
	} else {
		hosts := w.HostsOf(onHost)
		if len(hosts) == 0 {
			return nil, usage("the lab has no host")
		}
		l.Host, l.logins, l.cards = hosts[0].Name, w.logins, w.decl.Cards
		l.engine, l.NoEngine = engine.DialHost(ctx, hosts[0])
	}
	if l.NoEngine != nil {
		l.engine = nil
		return l, nil
	}
	l.engine.Logins = l.logins
	facts := &survey.Survey{}
	if err := l.engine.Facts(ctx, facts); err != nil {
		l.Close()
		return nil, unreachable(l.Host, err)
	}
	l.Platform = facts.Platform
	return l, nil
}

// Close ends the connection to the engine.
func (l *ImageLook) Close() {
	if l.engine != nil {
		l.engine.Close()
	}
}

// nearNames is how many names are told in place of one that is not there.
const nearNames = 5

// Images looks at images. Nothing is pulled.
func (l *ImageLook) Images(ctx context.Context, references []string) ([]ImageFacts, error) {
	found := make([]ImageFacts, len(references))
	looked := host.Look(ctx, l.engine, l.logins, l.Platform, references)
	var work errgroup.Group
	work.SetLimit(atOnce)
	for i := range looked {
		found[i] = l.image(looked[i])
		work.Go(func() error {
			l.ask(ctx, &found[i])
			l.card(ctx, &found[i])
			return nil
		})
	}
	work.Wait()
	return found, ctx.Err()
}

// image takes over what the engine or the registry has said.
func (l *ImageLook) image(k host.Looked) ImageFacts {
	i := ImageFacts{
		Reference: k.Reference, Source: k.Source, Digest: k.Digest, Created: k.Created, Size: k.Size,
		Platforms: k.Platforms, Ports: k.Ports, Volumes: k.Volumes, User: k.User, Env: k.Env,
		Entrypoint: k.Entrypoint, Command: k.Command, Labels: k.Labels, Near: k.Near,
	}
	if k.Err != nil {
		i.Unknown = k.Err.Error()
	}
	if k.Err == nil && i.Source == survey.FromRegistry && len(i.Platforms) == 0 {
		i.Unknown = "its registry has it, and does not tell what it declares"
	}
	for _, n := range k.Layers {
		i.Size += n
	}
	const annotation = "org.opencontainers.image."
	i.Links = ImageLinks{
		Source:        k.Labels[annotation+"source"],
		Documentation: k.Labels[annotation+"documentation"],
		URL:           k.Labels[annotation+"url"],
	}
	i.Fits = l.Platform == "" || len(i.Platforms) == 0 ||
		slices.ContainsFunc(i.Platforms, func(p string) bool { return p == l.Platform || strings.HasPrefix(p, l.Platform+"/") })
	return i
}

// About returns what the image says that it is.
func (i ImageFacts) About() string { return i.Labels["org.opencontainers.image.description"] }

// Guide returns where more about the image is found, as it says itself.
func (i ImageFacts) Guide() string { return cmp.Or(i.Links.Documentation, i.Links.URL, i.Links.Source) }

// ask asks the registry for tags, and for names that are near where it has no such image.
func (l *ImageLook) ask(ctx context.Context, i *ImageFacts) {
	ref, err := name.ParseReference(i.Reference)
	if err != nil {
		i.Source, i.Unknown = "", "the name of the image cannot be read"
		return
	}
	if i.Source == "" {
		return
	}
	all, err := l.tags(ctx, i.Reference)
	if i.Source == survey.Absent {
		if err != nil || len(all) == 0 {
			i.Near = l.namesNear(ctx, i.Reference, ref)
		} else if tag, ok := ref.(name.Tag); ok && len(i.Near) == 0 {
			i.Near = declare.NearestFew(tag.TagStr(), all, nearNames)
		}
		return
	}
	if err != nil {
		i.Unknown = "its tags: " + ref.Context().RegistryStr() + " " + registry.Why(err)
		if errors.Is(err, engine.ErrUnsupported) {
			i.Unknown = "its tags: " + err.Error()
		}
		return
	}
	for _, t := range tags.Sorted(all) {
		i.Tags = append(i.Tags, ImageTag{t, tags.Moves(t, all)})
	}
}

// tags asks for the tags of a reference's repository.
func (l *ImageLook) tags(ctx context.Context, reference string) ([]string, error) {
	if l.engine != nil {
		return l.engine.Tags(ctx, reference)
	}
	return registry.Tags(ctx, reference, l.logins)
}

// withTags gives references that name no tag the newest version, where there is one; chosen are those.
func (l *ImageLook) withTags(ctx context.Context, references []string) (with, chosen []string) {
	for _, r := range references {
		if last := r[strings.LastIndexByte(r, '/')+1:]; !strings.ContainsAny(last, ":@") {
			if all, err := l.tags(ctx, r); err == nil && draft.Newest(all) != "" {
				r += ":" + draft.Newest(all)
				chosen = append(chosen, r)
			}
		}
		with = append(with, r)
	}
	return with, chosen
}

// namesNear returns names of the registry that are like one that it does not have.
func (l *ImageLook) namesNear(ctx context.Context, reference string, ref name.Reference) []string {
	repositories := func() ([]string, error) { return registry.Repositories(ctx, reference, l.logins) }
	if l.engine != nil {
		repositories = func() ([]string, error) { return l.engine.Repositories(ctx, reference) }
	}
	all, err := repositories()
	if err != nil {
		return nil // many registries do not tell
	}
	var near []string
	own := ref.Context().RepositoryStr()
	for _, n := range declare.NearestFew(own, all, nearNames) {
		if declare.Near(own, n) {
			near = append(near, ref.Context().RegistryStr()+"/"+n)
		}
	}
	return near
}
