package engine

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/survey"
)

// VolumeRoot looks at the root folder of a volume through a container that mounts it: owner, mode, and
// whether anything is in it. It is nil where no container does. Ids are those that containers see.
func (e *Engine) VolumeRoot(ctx context.Context, name string) (root *survey.VolumeRoot, err error) {
	filter := make(client.Filters).Add("volume", name)
	var list client.ContainerListResult
	err = e.call(ctx, "containers", 0, func(ctx context.Context) (err error) {
		list, err = e.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: filter})
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, c := range list.Items {
		for _, m := range c.Mounts {
			if m.Name != name || m.Destination == "" {
				continue
			}
			err = e.call(ctx, "archive", 0, func(ctx context.Context) (err error) {
				root, err = e.rootInside(ctx, c.ID, m.Destination)
				return err
			})
			return root, err
		}
	}
	return nil, nil
}

// ReadInside returns the text of a file inside a container that runs, or of one that it mounts, as far as it has at
// most so many bytes.
func (e *Engine) ReadInside(ctx context.Context, id, file string, most int64) (text string, err error) {
	err = e.call(ctx, "archive", 0, func(ctx context.Context) error {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		answer, err := e.api.CopyFromContainer(ctx, id, client.CopyFromContainerOptions{SourcePath: file})
		if err != nil {
			return err
		}
		defer answer.Content.Close()
		archive := tar.NewReader(io.LimitReader(answer.Content, most+64<<10)) // with its headers
		h, err := archive.Next()
		if err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg || h.Size > most {
			return fmt.Errorf("%s is no file, or larger than %d bytes", file, most)
		}
		content, err := io.ReadAll(archive)
		text = string(content)
		return err
	})
	return text, err
}

// rootInside reads the beginning of the archive that an engine makes of a folder: the folder itself, and
// whether another entry follows.
func (e *Engine) rootInside(ctx context.Context, id, folder string) (*survey.VolumeRoot, error) {
	ctx, stop := context.WithCancel(ctx) // what follows may be as large as the volume
	defer stop()
	answer, err := e.api.CopyFromContainer(ctx, id, client.CopyFromContainerOptions{SourcePath: folder})
	if err != nil {
		return nil, err
	}
	defer answer.Content.Close()
	archive := tar.NewReader(io.LimitReader(answer.Content, 1<<20))
	h, err := archive.Next()
	if err != nil {
		return nil, err
	}
	if h.Typeflag != tar.TypeDir {
		return nil, fmt.Errorf("%s is no folder", folder)
	}
	_, err = archive.Next()
	return &survey.VolumeRoot{
		UID:   survey.ID(h.Uid),
		GID:   survey.ID(h.Gid),
		Mode:  fmt.Sprintf("%04o", h.Mode&0o7777),
		Empty: errors.Is(err, io.EOF),
	}, nil
}
