package registry

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	answers "github.com/google/go-containerregistry/pkg/v1/remote/transport"
)

// mostTags is how many tags of a repository are read.
const mostTags = 20_000

// Tags asks a registry for the tags of a reference's repository, in no certain order, mostTags at most.
func Tags(ctx context.Context, reference string, logins *Logins) ([]string, error) {
	var all []string
	err := ask(ctx, reference, logins, func(ctx context.Context, ref name.Reference, puller *remote.Puller) error {
		pages, err := puller.Lister(ctx, ref.Context())
		for err == nil && pages.HasNext() && len(all) < mostTags {
			var page *remote.Tags
			if page, err = pages.Next(ctx); err == nil {
				all = append(all, page.Tags...)
			}
		}
		return err
	})
	return all, err
}

// mostRepositories is how many names of a registry are read.
const mostRepositories = 10_000

// Repositories asks the registry of a reference for the names that it has, mostRepositories at most. Many registries
// do not tell.
func Repositories(ctx context.Context, reference string, logins *Logins) ([]string, error) {
	var all []string
	err := ask(ctx, reference, logins, func(ctx context.Context, ref name.Reference, puller *remote.Puller) error {
		pages, err := puller.Catalogger(ctx, ref.Context().Registry)
		for err == nil && pages.HasNext() && len(all) < mostRepositories {
			var page *remote.Catalogs
			if page, err = pages.Next(ctx); err == nil {
				all = append(all, page.Repos...)
			}
		}
		return err
	})
	return all, err
}

// ask asks the registry of a reference something, and does not wait for it for ever.
func ask(ctx context.Context, reference string, logins *Logins,
	question func(context.Context, name.Reference, *remote.Puller) error) error {
	ref, err := name.ParseReference(reference)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	puller, err := remote.NewPuller(remote.WithAuthFromKeychain(logins), remote.WithTransport(Transport()))
	if err != nil {
		return err
	}
	return question(ctx, ref, puller)
}

// Why says what keeps a registry from answering, as the rest of a sentence about it.
func Why(err error) string {
	var answer *answers.Error
	switch {
	case errors.As(err, &answer):
		switch answer.StatusCode {
		case http.StatusUnauthorized, http.StatusForbidden:
			return fmt.Sprintf("it needs a login (status %d)", answer.StatusCode)
		case http.StatusTooManyRequests:
			return fmt.Sprintf("it has been asked too often for now (status %d)", answer.StatusCode)
		}
		return fmt.Sprintf("it answers with status %d", answer.StatusCode)
	case errors.Is(err, ErrPlain):
		return ErrPlain.Error()
	case errors.Is(err, ErrTooMuch):
		return ErrTooMuch.Error()
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Sprintf("has not answered within %s", askWithin)
	}
	return "cannot be reached"
}
