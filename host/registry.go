package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/registry"
)

// Bounds of asking registries.
const (
	askWithin = 10 * time.Second // for one image
	nearTags  = 5                // how many tags are named in place of one that is not there
)

// patience is how a registry that is in trouble is asked again: somebody waits for the answer.
var patience = remote.Backoff{Duration: 200 * time.Millisecond, Factor: 3, Steps: 2}

// registries asks the registries of images what these declare, without pulling (OCI distribution
// specification). Credentials come from the auth files that engines use, too.
type registries struct {
	logins *registry.Logins
	cache  string // folder of what is known by digest; "" for none

	mu   sync.Mutex
	dead map[string]error // registries that cannot be reached, which are not waited for twice
}

// newRegistries keeps what it learns in the user's cache folder.
func newRegistries(logins *registry.Logins) *registries {
	r := &registries{logins: logins, dead: map[string]error{}}
	if dir, err := os.UserCacheDir(); err == nil {
		r.cache = filepath.Join(dir, "lantern", "images")
	}
	return r
}

// image returns what an image declares for a platform such as linux/amd64. [engine.ErrNotFound] means that
// its registry says that it does not have it; then the image holds tags that are near. Any other error says
// nothing about the image.
func (r *registries) image(ctx context.Context, reference, platform string) (survey.Image, error) {
	ref, err := name.ParseReference(reference)
	if err != nil {
		return survey.Image{}, err
	}
	at := ref.Context().RegistryStr()
	r.mu.Lock()
	dead := r.dead[at]
	r.mu.Unlock()
	if dead != nil {
		return survey.Image{}, dead
	}
	ctx, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	options := []remote.Option{remote.WithContext(ctx), remote.WithAuthFromKeychain(r.logins),
		remote.WithTransport(registry.Transport()), remote.WithRetryBackoff(patience)}
	i, err := r.fetch(ref, platform, options)
	var answer *transport.Error
	switch {
	case err == nil:
		i.Reference, i.Source = reference, survey.FromRegistry
		return i, nil
	case errors.As(err, &answer) && saysAbsent(answer):
		near, _ := tagsNear(ref, options)
		return survey.Image{Reference: reference, Source: survey.Absent, Near: near},
			fmt.Errorf("%s: %w", reference, engine.ErrNotFound)
	case errors.As(err, &answer):
		return survey.Image{}, errors.New(registry.Why(err))
	}
	err = fmt.Errorf("%s %s", at, registry.Why(err))
	r.mu.Lock()
	r.dead[at] = err
	r.mu.Unlock()
	return survey.Image{}, err
}

// saysAbsent reports whether a registry itself says that it has no such image: a bare "not found" may come from
// something in between.
func saysAbsent(e *transport.Error) bool {
	return e.StatusCode == http.StatusNotFound && slices.ContainsFunc(e.Errors, func(d transport.Diagnostic) bool {
		return d.Code == transport.ManifestUnknownErrorCode || d.Code == transport.NameUnknownErrorCode
	})
}

// fetch asks for the digest first: what it stands for never changes, and may be known.
func (r *registries) fetch(ref name.Reference, platform string, options []remote.Option) (survey.Image, error) {
	head, err := remote.Head(ref, options...)
	if err == nil {
		if i, ok := r.known(head.Digest, platform); ok {
			return i, nil
		}
	} else if answer := (*transport.Error)(nil); !errors.As(err, &answer) {
		return survey.Image{}, err
	}
	// One that refuses the short question does not say why; it does for the long one.
	got, err := remote.Get(ref, options...)
	if err != nil {
		return survey.Image{}, err
	}
	i := survey.Image{Digest: got.Digest.String()}
	var image v1.Image
	if got.MediaType.IsIndex() {
		index, err := got.ImageIndex()
		if err != nil {
			return i, err
		}
		image, i.Platforms, err = choose(index, platform)
		if err != nil {
			return i, err
		}
	} else if image, err = got.Image(); err != nil {
		return i, err
	}
	config, err := image.ConfigFile()
	if err != nil {
		return i, err
	}
	if i.Platforms == nil {
		i.Platforms = []string{config.OS + "/" + config.Architecture}
	}
	c := config.Config
	i.Created = config.Created.Time
	i.Ports, i.Volumes = slices.Sorted(maps.Keys(c.ExposedPorts)), slices.Sorted(maps.Keys(c.Volumes))
	i.User, i.Entrypoint, i.Command, i.Labels = c.User, c.Entrypoint, c.Cmd, c.Labels
	if len(c.Env) > 0 {
		i.Env = map[string]string{}
	}
	for _, v := range c.Env {
		name, value, _ := strings.Cut(v, "=")
		i.Env[name] = value
	}
	if m, err := image.Manifest(); err == nil {
		i.Layers = map[string]int64{}
		for _, l := range m.Layers {
			i.Layers[l.Digest.Hex[:min(12, len(l.Digest.Hex))]] = l.Size
		}
	}
	r.keep(got.Digest, platform, i)
	return i, nil
}

// choose returns the image of an index that is for a platform, else its first, and all its platforms.
func choose(index v1.ImageIndex, platform string) (v1.Image, []string, error) {
	m, err := index.IndexManifest()
	if err != nil {
		return nil, nil, err
	}
	var platforms []string
	var digest v1.Hash
	for _, d := range m.Manifests {
		// Attestations stand in an index as images of an unknown platform.
		if d.Platform == nil || d.Platform.OS == "unknown" {
			continue
		}
		own := d.Platform.OS + "/" + d.Platform.Architecture
		if len(platforms) == 0 || own == platform {
			digest = d.Digest
		}
		if !slices.Contains(platforms, own) {
			platforms = append(platforms, own)
		}
	}
	if len(platforms) == 0 {
		return nil, nil, errors.New("its index names no platform")
	}
	image, err := index.Image(digest)
	return image, platforms, err
}

func (r *registries) file(digest v1.Hash, platform string) string {
	return filepath.Join(r.cache,
		digest.Algorithm+"-"+digest.Hex+"-"+strings.ReplaceAll(platform, "/", "-")+".json")
}

// kept is an image as it stands in the cache: with what surveys do not hold.
type kept struct {
	survey.Image
	Created time.Time `json:"created"`
}

func (r *registries) known(digest v1.Hash, platform string) (i survey.Image, ok bool) {
	if r.cache == "" {
		return i, false
	}
	text, err := os.ReadFile(r.file(digest, platform))
	var k kept
	ok = err == nil && json.Unmarshal(text, &k) == nil && k.Digest == digest.String()
	k.Image.Created = k.Created
	return k.Image, ok
}

// keep writes what a digest stands for into the cache. A cache that cannot be written only makes the next
// check slower.
func (r *registries) keep(digest v1.Hash, platform string, i survey.Image) {
	text, err := json.Marshal(kept{i, i.Created})
	if r.cache == "" || err != nil || os.MkdirAll(r.cache, 0o700) != nil {
		return
	}
	own := r.file(digest, platform) + fmt.Sprintf(".%d", os.Getpid()) // another process may write the same
	if os.WriteFile(own, text, 0o600) == nil && os.Rename(own, r.file(digest, platform)) != nil {
		os.Remove(own)
	}
}

// tagsNear returns the tags of a repository that are most like one that it does not have.
func tagsNear(ref name.Reference, options []remote.Option) ([]string, error) {
	tag, ok := ref.(name.Tag)
	if !ok {
		return nil, nil
	}
	tags, err := remote.List(ref.Context(), options...)
	return declare.NearestFew(tag.TagStr(), tags, nearTags), err
}
