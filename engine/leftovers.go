package engine

import (
	"context"
	"errors"

	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/survey"
)

// Nameable reports whether lantern may take an image away that it once had under a reference: it has that name,
// or none at all.
func (e *Engine) Nameable(image survey.Image, reference string) bool {
	return len(image.Names) == 0 || e.nameOf(reference, image.Names) != ""
}

// ImagesInUse returns the ids of the images that any container of the engine was made from, made by lantern or not.
func (e *Engine) ImagesInUse(ctx context.Context) (map[string]bool, error) {
	list, err := e.list(ctx, nil)
	if err != nil {
		return nil, err
	}
	used := map[string]bool{}
	for _, c := range list {
		used[imageID(c.ImageID)] = true
	}
	return used, nil
}

// RemoveImage takes a name away from an image, as long as it is the image's: with its last name the image
// goes, unless a container was made from it. One that has no name any more goes by its id. Nothing is forced.
// An image that is not there is no error. Errors: [ErrDiffers] when the name is another image's now, or when
// others have given it names.
func (e *Engine) RemoveImage(ctx context.Context, id, reference string) error {
	image, err := e.Image(ctx, id)
	if err != nil {
		return notThere(err)
	}
	name := id
	if len(image.Names) > 0 {
		if name = e.nameOf(reference, image.Names); name == "" {
			return resourceError("image", ErrDiffers, "it has a name now that lantern did not give it: %s",
				image.Names[0])
		}
	}
	err = e.change(ctx, "image", 0, func(ctx context.Context) error {
		_, err := e.api.ImageRemove(ctx, name, client.ImageRemoveOptions{PruneChildren: true})
		return err
	}, func(ctx context.Context) (bool, error) {
		_, err := e.Image(ctx, name)
		return errors.Is(err, ErrNotFound), notThere(err)
	})
	return notThere(err)
}

// UnusedVolumes returns those volumes that were made for images of a lab and that no container mounts, with
// their sizes in bytes; -1 where the engine does not tell. Where it cannot be known what a container mounts,
// there are none.
func (e *Engine) UnusedVolumes(ctx context.Context, lab string) (map[string]int64, error) {
	volumes, err := e.Volumes(ctx)
	if err != nil {
		return nil, err
	}
	sizes := map[string]int64{}
	for _, v := range volumes {
		if lab != "" && v.Lab == lab && v.ForImage != "" {
			sizes[v.Name] = -1
		}
	}
	if len(sizes) == 0 {
		return nil, nil
	}
	containers, err := e.list(ctx, nil)
	if err != nil {
		return nil, err
	}
	for _, c := range containers {
		s, err := e.Inspect(ctx, c.ID)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return nil, err
		}
		for _, name := range s.Volumes {
			delete(sizes, name)
		}
	}
	var usage client.DiskUsageResult
	err = e.call(ctx, "sizes", 0, func(ctx context.Context) (err error) {
		usage, err = e.api.DiskUsage(ctx, client.DiskUsageOptions{Volumes: true, Verbose: true})
		return err
	})
	if err == nil {
		for _, v := range usage.Volumes.Items {
			if _, ok := sizes[v.Name]; ok && v.UsageData != nil {
				sizes[v.Name] = v.UsageData.Size
			}
		}
	}
	return sizes, nil
}
