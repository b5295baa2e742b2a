package registry

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"proudlantern.example/lantern/core/declare"
)

// CardType is the type of a card that stands beside an image: an artifact with the image as its subject (OCI
// distribution specification 1.1, Referrers; in a tag where the registry has none).
const CardType types.MediaType = "application/vnd.proudlantern.card.v1+toml"

// createdAt is the annotation that says when a card was made.
const createdAt = "org.opencontainers.image.created"

// mostReferrers is how many cards beside one image are looked at.
const mostReferrers = 16

// Card asks a registry for the card beside an image, the newest where there are several; "" where there is none. More
// than declare.MostCard bytes are an error.
func Card(ctx context.Context, reference string, logins *Logins) (string, error) {
	text := ""
	err := ask(ctx, reference, logins, func(ctx context.Context, ref name.Reference, puller *remote.Puller) error {
		head, err := puller.Head(ctx, ref)
		if err != nil {
			return err
		}
		options := []remote.Option{remote.WithContext(ctx), remote.Reuse(puller)}
		index, err := remote.Referrers(ref.Context().Digest(head.Digest.String()),
			append(options, remote.WithFilter("artifactType", string(CardType)))...)
		if err != nil {
			return err
		}
		list, err := index.IndexManifest()
		if err != nil {
			return err
		}
		newest, at := v1.Descriptor{}, ""
		for _, d := range list.Manifests[:min(len(list.Manifests), mostReferrers)] {
			if made := d.Annotations[createdAt]; d.ArtifactType == string(CardType) && (at == "" || made > at) {
				newest, at = d, cmp.Or(made, "0")
			}
		}
		if at == "" {
			return nil
		}
		card, err := remote.Image(ref.Context().Digest(newest.Digest.String()), options...)
		if err != nil {
			return err
		}
		text, err = textOf(card)
		return err
	})
	return text, err
}

// textOf returns what the one layer of a card holds.
func textOf(card v1.Image) (string, error) {
	layers, err := card.Layers()
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(layers, func(l v1.Layer) bool {
		kind, err := l.MediaType()
		return err == nil && kind == CardType
	})
	if i < 0 {
		return "", fmt.Errorf("the card has no layer of type %s", CardType)
	}
	content, err := layers[i].Compressed() // as it is: nothing is unpacked
	if err != nil {
		return "", err
	}
	defer content.Close()
	text, err := io.ReadAll(io.LimitReader(content, declare.MostCard+1))
	if err == nil && len(text) > declare.MostCard {
		err = ErrTooMuch
	}
	return string(text), err
}

// Attach puts a card beside an image, and returns the digest of the image that it stands beside now.
func Attach(ctx context.Context, reference, card string, made time.Time, logins *Logins) (digest string, err error) {
	err = ask(ctx, reference, logins, func(ctx context.Context, ref name.Reference, puller *remote.Puller) error {
		head, err := puller.Head(ctx, ref)
		if err != nil {
			return err
		}
		digest = head.Digest.String()
		image, err := mutate.AppendLayers(empty.Image, static.NewLayer([]byte(card), CardType))
		if err != nil {
			return err
		}
		image = mutate.ConfigMediaType(mutate.MediaType(image, types.OCIManifestSchema1), CardType)
		image = mutate.Annotations(image, map[string]string{createdAt: made.UTC().Format(time.RFC3339)}).(v1.Image)
		image = mutate.Subject(image, *head).(v1.Image)
		own, err := image.Digest()
		if err != nil {
			return err
		}
		return remote.Write(ref.Context().Digest(own.String()), image, remote.WithContext(ctx),
			remote.WithAuthFromKeychain(logins), remote.WithTransport(Transport()))
	})
	return digest, err
}
