package host

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"

	"proudlantern.example/lantern/engine"
)

// askRegistry asks an image's registry whether it has it (OCI distribution specification, "Checking if content exists in the registry"), without
// pulling. [engine.ErrNotFound] means that it says no; any other error says nothing about the image.
func askRegistry(ctx context.Context, reference string) error {
	ref, err := name.ParseReference(reference)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	_, err = remote.Get(ref, remote.WithContext(ctx), remote.WithAuthFromKeychain(authn.DefaultKeychain))
	var answer *transport.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &answer) && answer.StatusCode == http.StatusNotFound:
		for _, d := range answer.Errors {
			if d.Code == transport.ManifestUnknownErrorCode || d.Code == transport.NameUnknownErrorCode {
				return fmt.Errorf("%s: %w", reference, engine.ErrNotFound)
			}
		}
		return fmt.Errorf("it answers with status %d", answer.StatusCode)
	case errors.As(err, &answer):
		return fmt.Errorf("it answers with status %d", answer.StatusCode)
	}
	return fmt.Errorf("%s cannot be reached", ref.Context().RegistryStr())
}
