//go:build linux

package registry_test

import (
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	oci "github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/registry"
)

// A card goes beside an image and comes back, in registries with and without a list of referrers.
func TestCards(t *testing.T) {
	auths(t, map[string]any{}, "exit 1")
	for _, referrers := range []bool{true, false} {
		s := httptest.NewServer(oci.New(oci.WithReferrersSupport(referrers)))
		defer s.Close()
		reference := strings.TrimPrefix(s.URL, "http://") + "/tide-desk:2.3"
		ref, err := name.ParseReference(reference)
		require.NoError(t, err)
		image, err := random.Image(100, 1)
		require.NoError(t, err)
		require.NoError(t, remote.Write(ref, image))
		logins, ctx := &registry.Logins{}, t.Context()

		text, err := registry.Card(ctx, reference, logins)
		require.NoError(t, err)
		assert.Empty(t, text, "there is none yet")
		first := time.Date(2026, 11, 28, 10, 0, 0, 0, time.UTC)
		for i, card := range []string{"about = \"the second\"\n", "about = \"the first\"\n"} {
			digest, err := registry.Attach(ctx, reference, card, first.Add(-time.Duration(i)*time.Hour), logins)
			require.NoError(t, err)
			own, err := image.Digest()
			require.NoError(t, err)
			assert.Equal(t, own.String(), digest)
		}
		text, err = registry.Card(ctx, reference, logins)
		require.NoError(t, err)
		assert.Equal(t, "about = \"the second\"\n", text, "the newest counts, whichever was attached last")

		_, err = registry.Attach(ctx, reference, strings.Repeat("#", declare.MostCard+1), first.Add(time.Hour), logins)
		require.NoError(t, err)
		_, err = registry.Card(ctx, reference, logins)
		assert.ErrorIs(t, err, registry.ErrTooMuch)
		_, err = registry.Card(ctx, strings.Replace(reference, "2.3", "2.4", 1), logins)
		assert.Error(t, err)
	}
}
