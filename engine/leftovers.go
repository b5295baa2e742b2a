package engine

import (
	"context"
	"errors"

	"github.com/moby/moby/client"
)

// ImagesInUse returns the ids of the images that any container of the engine was made from, whoever made it.
func (e *Engine) ImagesInUse(ctx context.Context) (map[string]bool, error) {
	list, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true})
	if err != nil {
		return nil, explain("list", err)
	}
	used := map[string]bool{}
	for _, c := range list.Items {
		used[imageID(c.ImageID)] = true
	}
	return used, nil
}

// RemoveImage removes an image by its id, under all its names. One that is not there is no error.
func (e *Engine) RemoveImage(ctx context.Context, id string) error {
	// Without force an engine keeps an image that has several names.
	_, err := e.api.ImageRemove(ctx, id, client.ImageRemoveOptions{Force: true, PruneChildren: true})
	if err = explain("image", err); errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}

// UnusedVolumes returns those of the named volumes that are there and that no container mounts, with their sizes in bytes; -1 where the engine does
// not tell.
func (e *Engine) UnusedVolumes(ctx context.Context, names []string) (map[string]int64, error) {
	if len(names) == 0 {
		return nil, nil
	}
	list, err := e.api.VolumeList(ctx, client.VolumeListOptions{})
	if err != nil {
		return nil, explain("volumes", err)
	}
	there := map[string]bool{}
	for _, v := range list.Items {
		there[v.Name] = true
	}
	containers, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true})
	if err != nil {
		return nil, explain("list", err)
	}
	for _, c := range containers.Items {
		r, err := e.api.ContainerInspect(ctx, c.ID, client.ContainerInspectOptions{})
		if err != nil {
			continue // gone since the list was made
		}
		for _, m := range r.Container.Mounts {
			delete(there, m.Name)
		}
	}
	sizes := map[string]int64{}
	for _, n := range names {
		if there[n] {
			sizes[n] = -1
		}
	}
	if usage, err := e.api.DiskUsage(ctx, client.DiskUsageOptions{Volumes: true, Verbose: true}); err == nil {
		for _, v := range usage.Volumes.Items {
			if _, ok := sizes[v.Name]; ok && v.UsageData != nil {
				sizes[v.Name] = v.UsageData.Size
			}
		}
	}
	return sizes, nil
}

// RemoveUnnamed removes a volume of an image's own making. One that is not there is no error.
func (e *Engine) RemoveUnnamed(ctx context.Context, name string) error {
	if len(name) != unnamedLength {
		return resourceError("volume", ErrDiffers, "the volume %s has a name that somebody gave it", name)
	}
	_, err := e.api.VolumeRemove(ctx, name, client.VolumeRemoveOptions{})
	if err = explain("volume", err); errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}
