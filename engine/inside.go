package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
)

// Run runs a command inside a container that runs and returns its exit code and the end of what it said. A
// program that is not there ends with 126 or 127, as in a shell.
func (e *Engine) Run(ctx context.Context, id string, command []string) (code int, said string, err error) {
	out := &ending{most: 300}
	code, err = e.Exec(ctx, id, Exec{Command: command, Out: out, Err: out, left: true})
	return code, strings.TrimSpace(strings.ToValidUTF8(string(out.text), "?")), err
}

// usualPath is where programs are looked for in an image that declares no PATH, as engines do.
const usualPath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// Runnable tells why the command of a container that was not started yet cannot be run: its program is not in
// the image, or is none. It is "" when it can be, and when only a start will tell.
func (e *Engine) Runnable(ctx context.Context, id string) (why string, err error) {
	var c client.ContainerInspectResult
	err = e.call(ctx, "inspect", 0, func(ctx context.Context) (err error) {
		c, err = e.api.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
		return err
	})
	if err != nil {
		return "", err
	}
	program := c.Container.Path
	if program == "" || c.Container.Config == nil {
		return "", nil
	}
	var places []string
	if strings.Contains(program, "/") {
		places = []string{path.Join("/", c.Container.Config.WorkingDir, program)}
		if path.IsAbs(program) {
			places = []string{path.Clean(program)}
		}
	} else {
		search := usualPath
		for _, v := range c.Container.Config.Env {
			if value, ok := strings.CutPrefix(v, "PATH="); ok {
				search = value
			}
		}
		for _, folder := range strings.Split(search, ":") {
			places = append(places, path.Join("/", folder, program))
		}
	}
	for _, place := range places {
		if slices.ContainsFunc(c.Container.Mounts, func(m container.MountPoint) bool {
			return declare.Below(place, m.Destination)
		}) {
			return "", nil // not of the image
		}
		stat, err := e.statPath(ctx, id, place)
		switch {
		case err != nil:
			return "", err
		case stat == nil:
			continue
		case stat.Mode.IsDir():
			return program + " is a folder in the image", nil
		case stat.Mode.IsRegular() && stat.Mode&0o111 == 0:
			return fmt.Sprintf("%s may not be executed: its mode in the image is %04o",
				program, stat.Mode.Perm()), nil
		}
		return "", nil
	}
	return program + " is not in the image", nil
}

// statPath looks at a path inside a container that need not run; nil: there is nothing. The client does not
// tell what Podman's service says beside its 404: that there is a link, of which it cannot see where it
// leads.
func (e *Engine) statPath(ctx context.Context, id, place string) (*container.PathStat, error) {
	var stat *container.PathStat
	err := e.raw(ctx, http.MethodHead,
		"/v"+e.apiVer+"/containers/"+id+"/archive?path="+url.QueryEscape(place), func(answer *http.Response) error {
			said := answer.Header.Get("X-Docker-Container-Path-Stat")
			if said == "" && answer.StatusCode == http.StatusNotFound {
				return nil
			}
			stat = &container.PathStat{}
			text, err := base64.StdEncoding.DecodeString(said)
			if err == nil {
				err = json.Unmarshal(text, stat)
			}
			return err
		})
	return stat, err
}

// checkCommand turns the check of an image's configuration into a command: CMD with its words, CMD-SHELL with
// a line for the shell, NONE.
func checkCommand(test []string) []string {
	switch {
	case len(test) > 1 && test[0] == "CMD":
		return test[1:]
	case len(test) > 1 && test[0] == "CMD-SHELL":
		return []string{"/bin/sh", "-c", strings.Join(test[1:], " ")}
	}
	return nil
}

// Folder is a folder to make on the engine's host.
type Folder struct {
	Path     string
	UID, GID survey.ID
	Mode     uint32
}

// MakeFolders makes folders below one that is there, in their order, and leaves those that exist as they are.
// It works with the rights that the engine has: a container of the image, never started and removed at the
// end, mounts the one that is there, and the folders come as an archive. Name and labels are that
// container's.
func (e *Engine) MakeFolders(ctx context.Context, name, image string, labels map[string]string, below string,
	folders []Folder) (err error) {
	const inside = "/lantern-folder"
	o, err := e.neverStarted(ctx, name, image, labels)
	if err != nil {
		return err
	}
	o.HostConfig.Mounts = append(o.HostConfig.Mounts, mount.Mount{
		Type:   mount.TypeBind,
		Source: below,
		Target: inside,
	})
	id, err := e.create(ctx, o, o.Config.Labels[plan.LabelMade])
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, e.Remove(context.WithoutCancel(ctx), id)) }()
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	for _, f := range folders {
		uid, gid, err := e.inside(f.UID, f.GID)
		if err != nil {
			return fmt.Errorf("the folder %s: %w", f.Path, err)
		}
		name := strings.TrimPrefix(strings.TrimPrefix(path.Clean(f.Path), path.Clean(below)), "/")
		if err := w.WriteHeader(&tar.Header{
			Typeflag: tar.TypeDir,
			Name:     name + "/",
			Mode:     int64(f.Mode),
			Uid:      int(uid),
			Gid:      int(gid),
			ModTime:  time.Now(),
		}); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return e.call(ctx, "archive", 0, func(ctx context.Context) error {
		_, err = e.api.CopyToContainer(ctx, id, client.CopyToContainerOptions{
			DestinationPath: inside,
			Content:         io.Reader(&archive),
		})
		return err
	})
}

// inside returns what ids of the host are called inside containers: an engine without root has others there.
func (e *Engine) inside(uid, gid survey.ID) (insideUID, insideGID survey.ID, err error) {
	if !e.libpod.Host.Security.Rootless {
		return uid, gid, nil
	}
	insideUID, known := survey.InsideID(idMaps(e.libpod.Host.IDMappings.UID), uid)
	insideGID, also := survey.InsideID(idMaps(e.libpod.Host.IDMappings.GID), gid)
	if !known || !also {
		return 0, 0, fmt.Errorf("the engine runs without root, and cannot give anything to %d:%d of the host", uid, gid)
	}
	return insideUID, insideGID, nil
}
