package app

import (
	"context"
	"errors"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/google/go-containerregistry/pkg/name"
	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/tags"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/registry"
)

// Update is what a registry has of a service's image.
type Update struct {
	Host    string `json:"host"`
	Stack   string `json:"stack"`
	Service string `json:"service"`
	Image   string `json:"image"` // as declared
	// digest of what runs; "" when nothing does, or it was built here
	Running  string       `json:"running,omitempty"`
	Registry string       `json:"registry,omitempty"` // digest that the tag stands for now
	Moved    bool         `json:"moved"`              // the tag stands for another image than what runs of it
	Newer    []tags.Newer `json:"newer"`              // tags of the same shape
	Skipped  string       `json:"skipped,omitempty"`  // why the registry was not asked, or did not say

	Deployed bool   `json:"-"` // it has a container
	Runs     string `json:"-"` // the image that it was made from

	service *lab.Service
}

// Name returns stack and service.
func (u Update) Name() string { return u.Stack + "/" + u.Service }

// atOnce is how many questions go to registries at the same time.
const atOnce = 4

// Updates asks the registries about the images of services. Nothing is pulled. The lab has to be surveyed.
func (w *Workspace) Updates(ctx context.Context, named Targets, onHost string) ([]Update, error) {
	stacks, err := w.StacksOf(named, onHost)
	if err != nil {
		return nil, err
	}
	var all []Update
	asking := asking{known: map[string]*answer{}}
	for _, h := range w.HostsOf(onHost) {
		var ofHost []Update
		for _, st := range stacks {
			for _, s := range st.Services {
				if st.Gate != nil || w.Builder(st.Host, s.Image.Text) != nil {
					continue // it is as new as lantern, or as its folder
				}
				if st.Host == h && named.Has(st.Name, s.Name) && !s.Image.Unknown {
					ofHost = append(ofHost, Update{
						Host: h.Name, Stack: st.Name, Service: s.Name, Image: s.Image.Text,
						Newer: []tags.Newer{}, service: s,
					})
				}
			}
		}
		if ofHost == nil {
			continue
		}
		d, err := w.deployer(ctx, h, nil)
		if err != nil {
			return nil, err
		}
		err = asking.updates(ctx, d, ofHost)
		d.Engine.Close()
		if err != nil {
			return nil, unreachable(h.Name, err)
		}
		all = append(all, ofHost...)
	}
	return all, ctx.Err()
}

// asking remembers what registries have answered: many services have one image.
type asking struct {
	mu    sync.Mutex
	known map[string]*answer
	dead  sync.Map // registries that are not asked again, with the reason
}

type answer struct {
	once   sync.Once
	digest string
	newer  []tags.Newer
	why    string // it did not say
}

// updates fills in what the engine and the registries say.
func (a *asking) updates(ctx context.Context, d *deploy.Deployer, list []Update) error {
	containers, err := d.Engine.Containers(ctx, d.Lab, "")
	if err != nil {
		return err
	}
	var work errgroup.Group
	work.SetLimit(atOnce)
	for i := range list {
		u := &list[i]
		c := slices.IndexFunc(containers, func(c engine.State) bool { return c.Name == u.service.ContainerName() })
		if c >= 0 {
			image, err := d.Engine.Image(ctx, containers[c].ImageID)
			if err != nil && !errors.Is(err, engine.ErrNotFound) {
				return err
			}
			u.Deployed, u.Runs = true, containers[c].Container.Image
			u.Running = digestFor(u.Image, image.Digests)
		}
		work.Go(func() error {
			said := a.ask(ctx, d.Engine, u.Image)
			u.Registry, u.Skipped = said.digest, said.why
			u.Newer = append(u.Newer, said.newer...)
			// What runs under another tag was not moved: its files were changed, and a deploy would replace it.
			u.Moved = u.Running != "" && u.Registry != "" && u.Running != u.Registry && u.Runs == u.Image
			return nil
		})
	}
	return work.Wait()
}

// digestFor returns the digest under which the repository of a reference has an image that is on a host.
func digestFor(reference string, digests []string) string {
	ref, err := name.ParseReference(reference)
	if err != nil {
		return ""
	}
	for _, d := range digests {
		if of, err := name.NewDigest(d); err == nil && of.Context().Name() == ref.Context().Name() {
			return of.DigestStr()
		}
	}
	return ""
}

// ask asks the registry of an image, once.
func (a *asking) ask(ctx context.Context, e *engine.Engine, reference string) *answer {
	a.mu.Lock()
	known := a.known[reference]
	if known == nil {
		known = &answer{}
		a.known[reference] = known
	}
	a.mu.Unlock()
	known.once.Do(func() { a.question(ctx, e, reference, known) })
	return known
}

func (a *asking) question(ctx context.Context, e *engine.Engine, reference string, to *answer) {
	withoutDigest, _, pinned := strings.Cut(reference, "@")
	ref, err := name.ParseReference(withoutDigest)
	if err != nil {
		to.why = "the name of the image cannot be read"
		return
	}
	tag, isTag := ref.(name.Tag)
	at := ref.Context().RegistryStr()
	if why, ok := a.dead.Load(at); ok {
		to.why = why.(string)
		return
	}
	failed := func(err error) {
		switch {
		case errors.Is(err, engine.ErrUnsupported):
			to.why = err.Error()
			return
		case errors.Is(err, engine.ErrNotFound):
			to.why = "its registry does not have this image"
			return
		}
		to.why = at + " " + registry.Why(err)
		a.dead.Store(at, to.why) // it would answer the same for the next one
	}
	if !pinned {
		if to.digest, err = e.RemoteDigest(ctx, reference); err != nil {
			failed(err)
			return
		}
	}
	if !isTag || pinned && !strings.Contains(withoutDigest[strings.LastIndexByte(withoutDigest, '/')+1:], ":") {
		return // a digest alone stands for itself
	}
	all, err := e.Tags(ctx, withoutDigest)
	if err != nil {
		failed(err)
		return
	}
	to.newer = tags.NewerThan(tag.TagStr(), all)
}

// Written is a change of an image in a file.
type Written struct {
	Update
	To string // the image as it is declared then
	At source.Span

	edits []source.Edit
}

// digestForm is what a digest looks like (OCI image specification): anything else goes into no file.
var digestForm = regexp.MustCompile(`^sha(256|512):[0-9a-f]{64,128}$`)

// Newest works out which images would be written for a level, [tags.Patch] and so on; with pin their digests, too.
// Only what stands in a file to the letter can be written: for the others the reason is returned, by name.
func (w *Workspace) Newest(ctx context.Context, list []Update, level string,
	pin bool) ([]Written, map[string]string) {
	var all []Written
	not := map[string]string{}
	for _, u := range list {
		image, _, pinned := strings.Cut(u.Image, "@")
		colon := strings.LastIndexByte(image, ':')
		if colon < strings.LastIndexByte(image, '/') {
			colon = -1
		}
		tag := ""
		if level != "" {
			tag = tags.Within(u.Newer, level)
		}
		switch {
		case u.Skipped != "" || tag == "" && (!pin || pinned):
			continue
		case colon < 0:
			not[u.Name()] = "the image has no tag that could be written"
			continue
		}
		to := image
		if tag != "" {
			to = image[:colon+1] + tag
		}
		if pin || pinned {
			digest := u.Registry
			if tag != "" || digest == "" {
				var err error
				if digest, err = w.digestOf(ctx, u.Host, to); err != nil {
					not[u.Name()] = "the digest of " + to + ": " + err.Error()
					continue
				}
			}
			if !digestForm.MatchString(digest) {
				not[u.Name()] = "its registry says a digest that is none"
				continue
			}
			to += "@" + digest
		}
		at := u.service.Image.Part(colon+1, len(u.Image))
		if at.File == nil || at.Text() != u.Image[colon+1:] {
			not[u.Name()] = "its image is put together from references, and is left as it is"
			continue
		}
		all = append(all, Written{
			Update: u, To: to, At: at,
			edits: []source.Edit{{At: at, New: to[colon+1:]}},
		})
	}
	return all, not
}

// digestOf asks the registry of an image for its digest.
func (w *Workspace) digestOf(ctx context.Context, host, reference string) (string, error) {
	d, err := w.deployer(ctx, w.Host(host), nil)
	if err != nil {
		return "", err
	}
	defer d.Engine.Close()
	digest, err := d.Engine.RemoteDigest(ctx, reference)
	if err != nil {
		return "", errors.New(registry.Why(err))
	}
	return digest, nil
}

// WriteImages writes images into the files: the comments and the layout stay.
func (w *Workspace) WriteImages(list []Written) error {
	var edits [][]source.Edit
	was := map[string]*source.File{}
	var written []source.Span
	for _, v := range list {
		if slices.Contains(written, v.At) {
			continue // several services may share one place
		}
		written = append(written, v.At)
		edits = append(edits, v.edits)
		was[v.At.File.Path] = v.At.File
	}
	texts, _ := source.Apply(edits)
	for path, text := range texts {
		if err := writeFile(path, w.Dir, path, was[path].Text, text, 0o600); err != nil {
			return err
		}
	}
	return nil
}
