package engine

import (
	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/moby/moby/api/pkg/authconfig"
	"github.com/moby/moby/api/types/registry"
)

// login returns the credentials for the registry of an image, as the API takes them; "" for none, and for an
// engine that is reached over a plain connection from another machine: a program that listens there would have them.
// An engine has none of its own: each request brings them along.
func (e *Engine) login(reference string) string {
	ref, err := name.ParseReference(reference)
	if err != nil || !e.Conn.Private {
		return ""
	}
	keychain, err := e.Logins.Resolve(ref.Context())
	if err != nil || keychain == authn.Anonymous {
		return ""
	}
	c, err := keychain.Authorization()
	if err != nil {
		return ""
	}
	text, err := authconfig.Encode(registry.AuthConfig{
		Username: c.Username, Password: c.Password, Auth: c.Auth, IdentityToken: c.IdentityToken,
		RegistryToken: c.RegistryToken, ServerAddress: ref.Context().RegistryStr(),
	})
	if err != nil {
		return ""
	}
	return text
}
