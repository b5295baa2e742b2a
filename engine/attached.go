package engine

import (
	"context"
	"errors"
	"io"
	"net"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/plan"
)

// Attached says how a container of a program is started whose input and output are a connection.
type Attached struct {
	Name, Image  string
	Command      []string
	Labels       map[string]string
	ReadOnly     []string // folders of the host that it sees, at the same paths
	Writable     []string // those that it may change
	Capabilities []string // beyond those of somebody without any
	NetworkOf    string   // the container in whose network it is; "" for none at all
}

// Attach starts it as root, with nothing of its own to write and no log. The connection has to be closed, which
// removes it; it also goes by itself once nobody is connected any more.
func (e *Engine) Attach(ctx context.Context, a Attached) (net.Conn, error) {
	labels := map[string]string{
		plan.LabelLab: "", plan.LabelStack: "", plan.LabelService: "", plan.LabelVolumes: "", plan.LabelMade: chance(),
	}
	for name, value := range a.Labels {
		labels[name] = value
	}
	o := client.ContainerCreateOptions{
		Name: a.Name,
		Config: &container.Config{
			Image: a.Image, Labels: labels, Entrypoint: a.Command, User: "0:0",
			OpenStdin: true, StdinOnce: true, AttachStdin: true, AttachStdout: true, AttachStderr: true,
		},
		HostConfig: &container.HostConfig{
			NetworkMode: "none", ReadonlyRootfs: true, AutoRemove: true,
			CapDrop: []string{"ALL"}, CapAdd: a.Capabilities,
			SecurityOpt: []string{"no-new-privileges", "label=disable"}, // SELinux would keep the host's folders closed
			LogConfig:   container.LogConfig{Type: "none"},              // what it says are files of the host
		},
	}
	for _, p := range a.ReadOnly {
		o.HostConfig.Mounts = append(o.HostConfig.Mounts, mount.Mount{Type: mount.TypeBind, Source: p, Target: p, ReadOnly: true})
	}
	for _, p := range a.Writable {
		o.HostConfig.Mounts = append(o.HostConfig.Mounts, mount.Mount{Type: mount.TypeBind, Source: p, Target: p})
	}
	if a.NetworkOf != "" {
		o.HostConfig.NetworkMode = container.NetworkMode("container:" + a.NetworkOf)
	}
	id, err := e.create(ctx, o, labels[plan.LabelMade])
	if err != nil {
		return nil, err
	}
	remove := func() error {
		err := e.Remove(context.WithoutCancel(ctx), id)
		if errors.Is(err, ErrNotFound) {
			return nil // it went by itself
		}
		return err
	}
	var stream client.ContainerAttachResult
	err = e.call(ctx, "attach", 0, func(ctx context.Context) (err error) {
		stream, err = e.api.ContainerAttach(ctx, id, client.ContainerAttachOptions{Stream: true, Stdin: true, Stdout: true, Stderr: true})
		return err
	})
	if err == nil {
		if err = e.Start(ctx, id); err != nil {
			stream.Close()
		}
	}
	if err != nil {
		return nil, errors.Join(err, remove())
	}
	c := &attachedConn{Conn: stream.Conn, said: ending{most: 500}, close: stream.Close, remove: remove}
	reader, writer := io.Pipe()
	c.out = reader
	go func() { writer.CloseWithError(apart(stream.Reader, writer, &c.said)) }()
	return c, nil
}

// attachedConn is the input and output of a container.
type attachedConn struct {
	net.Conn
	out    *io.PipeReader
	said   ending // to standard error
	close  func()
	remove func() error
}

func (c *attachedConn) Read(p []byte) (int, error) {
	n, err := c.out.Read(p)
	if err == io.EOF && len(c.said.text) > 0 {
		err = errors.New(string(c.said.text))
	}
	return n, err
}

func (c *attachedConn) Close() error {
	c.out.Close()
	c.close()
	return c.remove()
}

// A stream of an engine knows no times; whoever waits closes it.
func (c *attachedConn) SetDeadline(time.Time) error      { return nil }
func (c *attachedConn) SetReadDeadline(time.Time) error  { return nil }
func (c *attachedConn) SetWriteDeadline(time.Time) error { return nil }

// LoadImage gives the engine an image, as an archive with its name in it, of so many bytes.
func (e *Engine) LoadImage(ctx context.Context, archive io.Reader, size int64) error {
	return e.call(ctx, "load", time.Duration(size/copiesASecond)*time.Second, func(ctx context.Context) error {
		r, err := e.api.ImageLoad(ctx, archive)
		if err != nil {
			return err
		}
		defer r.Close()
		_, err = io.Copy(io.Discard, r)
		return err
	})
}

// ImagesNamed returns the names of all images of a repository.
func (e *Engine) ImagesNamed(ctx context.Context, repository string) (references []string, err error) {
	err = e.call(ctx, "images", 0, func(ctx context.Context) error {
		list, err := e.api.ImageList(ctx, client.ImageListOptions{Filters: make(client.Filters).Add("reference", repository)})
		for _, i := range list.Items {
			for _, name := range i.RepoTags {
				if strings.HasPrefix(name, repository+":") {
					references = append(references, name)
				}
			}
		}
		return err
	})
	return references, err
}

// Platform returns what programs have to be made for that run there, as linux/amd64.
func (e *Engine) Platform(ctx context.Context) (platform string, err error) {
	err = e.call(ctx, "info", 0, func(ctx context.Context) error {
		info, err := e.api.Info(ctx, client.InfoOptions{})
		platform = info.Info.OSType + "/" + architecture(info.Info.Architecture)
		return err
	})
	return platform, err
}
