// Package registry holds what is true of every conversation with a registry of images: whose credentials go
// where, and how much may come back.
package registry

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"time"

	"github.com/docker/cli/cli/config/configfile"
	helper "github.com/docker/docker-credential-helpers/client"
	"github.com/google/go-containerregistry/pkg/authn"

	"proudlantern.example/lantern/internal/system"
)

// Logins finds credentials for registries in the auth files that engines use: DOCKER_CONFIG or
// ~/.docker/config.json, REGISTRY_AUTH_FILE, and containers/auth.json in the runtime folder; the first that
// is there counts. A file can name a helper, a program docker-credential-NAME that keeps them; it is run as
// engines' clients do, for at most [HelperWithin]. The zero value is ready.
type Logins struct {
	NoHelpers bool // helpers are not run: what only they know is not known

	known sync.Map // authority to authn.Authenticator: a helper may ask a person
}

// Bounds of looking for credentials.
const (
	HelperWithin = 15 * time.Second
	mostAuth     = 1 << 20 // bytes of an auth file, and of a helper's answer
)

// Resolve is that of [authn.Keychain].
func (l *Logins) Resolve(r authn.Resource) (authn.Authenticator, error) {
	if a, ok := l.known.Load(r.String()); ok {
		return a.(authn.Authenticator), nil
	}
	a, err := l.resolve(r)
	if err == nil && a != authn.Anonymous {
		l.known.Store(r.String(), a)
	}
	return a, err
}

func (l *Logins) resolve(r authn.Resource) (authn.Authenticator, error) {
	file, err := authFile()
	if err != nil || file == nil {
		return authn.Anonymous, err
	}
	for _, server := range []string{r.String(), r.RegistryStr()} {
		if server == "index.docker.io" {
			server = authn.DefaultAuthKey
		}
		a, err := l.of(file, server)
		if err != nil {
			return nil, err
		}
		if a != (authn.AuthConfig{}) {
			return authn.FromConfig(a), nil
		}
	}
	return authn.Anonymous, nil
}

// of returns what the file, or its helper, knows of a server.
func (l *Logins) of(file *configfile.ConfigFile, server string) (authn.AuthConfig, error) {
	name := file.CredentialsStore
	if own, ok := file.CredentialHelpers[server]; ok {
		name = own
	}
	if name == "" {
		c, err := file.GetAuthConfig(server)
		return authn.AuthConfig{
			Username:      c.Username,
			Password:      c.Password,
			Auth:          c.Auth,
			IdentityToken: c.IdentityToken,
			RegistryToken: c.RegistryToken,
		}, err
	}
	if l.NoHelpers {
		return authn.AuthConfig{}, nil
	}
	if filepath.Base(name) != name {
		return authn.AuthConfig{}, fmt.Errorf("the auth file names a helper that is no plain name: %q", name)
	}
	c, err := helper.Get(func(args ...string) helper.Program {
		return &program{name: "docker-credential-" + name, args: args}
	}, server)
	if err != nil {
		return authn.AuthConfig{}, nil // it has none, or is not there: registries then say so themselves
	}
	if c.Username == "<token>" {
		return authn.AuthConfig{IdentityToken: c.Secret}, nil
	}
	return authn.AuthConfig{Username: c.Username, Password: c.Secret}, nil
}

// authFile reads the file that counts; nil: there is none.
func authFile() (*configfile.ConfigFile, error) {
	var places []string
	if dir := os.Getenv("DOCKER_CONFIG"); dir != "" {
		places = append(places, filepath.Join(dir, "config.json"))
	} else if home, err := os.UserHomeDir(); err == nil {
		places = append(places, filepath.Join(home, ".docker", "config.json"))
	}
	if file := os.Getenv("REGISTRY_AUTH_FILE"); file != "" {
		places = append(places, file)
	}
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		places = append(places, filepath.Join(dir, "containers", "auth.json"))
	}
	for _, place := range places {
		f, err := os.OpenFile(place, os.O_RDONLY|system.NonBlock, 0)
		if err != nil {
			continue
		}
		defer f.Close()
		if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
			return nil, fmt.Errorf("the auth file %s is no plain file", place)
		}
		text, err := io.ReadAll(io.LimitReader(f, mostAuth+1))
		if err != nil || len(text) > mostAuth {
			return nil, fmt.Errorf("the auth file %s cannot be read, or is larger than 1 MiB", place)
		}
		file := configfile.New(place)
		if err := file.LoadFromReader(bytes.NewReader(text)); err != nil {
			return nil, fmt.Errorf("the auth file %s is not what engines write", place)
		}
		return file, nil
	}
	return nil, nil
}

// program runs a helper, for a bounded time and a bounded answer.
type program struct {
	name string
	args []string
	in   io.Reader
}

func (p *program) Input(in io.Reader) { p.in = in }

func (p *program) Output() ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), HelperWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, p.name, p.args...)
	cmd.Stdin, cmd.WaitDelay = p.in, time.Second
	out := &bounded{most: mostAuth, full: cancel}
	cmd.Stdout = out
	err := cmd.Run()
	return out.text, err
}

// bounded takes so many bytes and no more.
type bounded struct {
	text []byte // not a bytes.Buffer: io.Copy into one goes past Write
	most int
	full func() // told when more comes
}

func (b *bounded) Write(p []byte) (int, error) {
	if len(b.text)+len(p) > b.most {
		b.full()
		return 0, errors.New("too much")
	}
	b.text = append(b.text, p...)
	return len(p), nil
}
