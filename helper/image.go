package helper

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/gate"
)

// label is on the image of a helper, and on each container of it.
const label = "proudlantern.helper"

// programPath is where the program lies in the image of a helper.
const programPath = "/lantern-helper"

// programImage is an image that holds nothing but this program.
type programImage struct {
	repository string   // its name; its tag is the digest of the program
	command    []string // the program, where it lies, and what it is told to be
	env, label string
	state      string // a folder that belongs to who runs it: a new volume there does, too; "" for none
	uid        int    // who that is
}

var (
	helperImage = programImage{"localhost/lantern-helper", []string{programPath, Argument}, inContainer, label, "", 0}
	gateImage   = programImage{lab.GateImageName, lab.GateProgram, gate.Environment, "proudlantern.gate", lab.GateState, lab.GateUID}
)

// loaded returns the name of the helper's image, which the engine has then.
func loaded(ctx context.Context, e *engine.Engine, platform string) (string, error) {
	return helperImage.load(ctx, e, platform)
}

// LoadGate gives an engine the image of gates, and returns its name.
func LoadGate(ctx context.Context, e *engine.Engine, platform string) (string, error) {
	return gateImage.load(ctx, e, platform)
}

// OwnPlatform is that of this program.
const OwnPlatform = runtime.GOOS + "/" + runtime.GOARCH

// GateDigest returns the digest of the program that a gate of a platform would be.
func GateDigest(platform string) (string, error) {
	file, err := program(platform)
	if err != nil {
		return "", err
	}
	return digestOf(file)
}

func (i programImage) load(ctx context.Context, e *engine.Engine, platform string) (string, error) {
	file, err := program(platform)
	if err != nil {
		return "", err
	}
	sum, err := digestOf(file)
	if err != nil {
		return "", err
	}
	reference := i.repository + ":" + sum
	if _, err := e.Image(ctx, reference); err == nil || !errors.Is(err, engine.ErrNotFound) {
		return reference, err
	}
	archive, err := i.pack(file, reference, platform)
	if err != nil {
		return "", err
	}
	return reference, e.LoadImage(ctx, archive, int64(archive.Len()))
}

// Clear removes the helper's images that an engine has.
func Clear(ctx context.Context, e *engine.Engine) error { return helperImage.clear(ctx, e) }

// ClearGate removes the images of gates that an engine has. One that is in use stays.
func ClearGate(ctx context.Context, e *engine.Engine) error { return gateImage.clear(ctx, e) }

func (i programImage) clear(ctx context.Context, e *engine.Engine) error {
	images, err := e.ImagesNamed(ctx, i.repository)
	for _, reference := range images {
		err = errors.Join(err, e.RemoveImage(ctx, reference, reference))
	}
	return err
}

// NoProgramError is that there is no program for the machine of an engine.
type NoProgramError struct{ Platform, Because, Do string }

func (e *NoProgramError) Error() string { return e.Because }

// program returns the file of the program for a platform: this one's own, or the one of the same release beside it.
func program(platform string) (string, error) {
	system, architecture, _ := strings.Cut(platform, "/")
	own, err := os.Executable()
	if err != nil {
		return "", err
	}
	if system != runtime.GOOS || architecture != runtime.GOARCH {
		other := filepath.Join(filepath.Dir(own), "lantern-"+system+"-"+architecture)
		if _, err := os.Stat(other); err != nil {
			return "", &NoProgramError{
				Platform: platform, Because: "there is no program of lantern for " + platform + " beside this one",
				Do: "put " + filepath.Base(other) + " of the same release into " + filepath.Dir(own),
			}
		}
		own = other
	}
	f, err := elf.Open(own)
	if err != nil {
		return "", err
	}
	defer f.Close()
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP {
			return "", &NoProgramError{
				Platform: platform, Because: "this program needs libraries of its machine: it was not built by scripts/build",
				Do: "build it with CGO_ENABLED=0",
			}
		}
	}
	return own, nil
}

// digestOf returns a digest of a file, as long as tells programs apart.
func digestOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil))[:16], nil
}

// pack makes the image of a program, as an archive with its name.
func (i programImage) pack(file, reference, platform string) (*bytes.Buffer, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		h := &tar.Header{Typeflag: tar.TypeReg, Name: strings.TrimPrefix(i.command[0], "/"), Mode: 0o555, Size: int64(len(text))}
		if i.state != "" {
			state := &tar.Header{Typeflag: tar.TypeDir, Name: strings.TrimPrefix(i.state, "/") + "/", Mode: 0o700, Uid: i.uid, Gid: i.uid}
			if err := w.WriteHeader(state); err != nil {
				return nil, err
			}
		}
		if err := w.WriteHeader(h); err != nil {
			return nil, err
		}
		if _, err := w.Write(text); err != nil {
			return nil, err
		}
		return io.NopCloser(&b), w.Close()
	})
	if err != nil {
		return nil, err
	}
	image, err := mutate.AppendLayers(empty.Image, layer)
	if err != nil {
		return nil, err
	}
	config, err := image.ConfigFile()
	if err != nil {
		return nil, err
	}
	config = config.DeepCopy()
	config.OS, config.Architecture, _ = strings.Cut(platform, "/")
	config.Config = v1.Config{Entrypoint: i.command, Env: []string{i.env + "=1"}, Labels: map[string]string{i.label: "program"}}
	if image, err = mutate.ConfigFile(image, config); err != nil {
		return nil, err
	}
	tag, err := name.NewTag(reference)
	if err != nil {
		return nil, fmt.Errorf("helper: %w", err)
	}
	var archive bytes.Buffer
	return &archive, tarball.Write(tag, image, &archive)
}
