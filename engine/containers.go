package engine

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/distribution/reference"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/image"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/client"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/registry"
)

// State is a container as the engine shows it.
type State struct {
	ID, Name  string
	Labels    map[string]string
	ImageID   string
	Status    string // created, running, restarting, exited, …
	Running   bool
	ExitCode  int
	OOMKilled bool
	Error     string // why it could not start; some engines leave this empty
	Restarts  int
	Started   time.Time         // zero when it never was
	Finished  time.Time         // zero when it never ended
	Addresses []string          // its own, on its networks
	On        map[string]string // its address on each network that it has one on
	PID       int               // of its first process, on the host; 0 for none
	// the command by which its image says that it is well, see [Engine.Run]; nil: it declares none
	Check            []string
	Volumes          []string    // all that it mounts, by name
	AnonymousVolumes []string    // volumes that were made for what its image declares and the files do not
	Lost             []plan.Lost // what it was made with that lantern cannot declare
	Fleeing          bool        // the engine removes it as soon as it ends
	// volumes that the engine made because the container, or its image, wants one at a path and nobody named it
	Unnamed   []plan.Mount
	Container plan.Container
}

// Create makes a container. Labels come in addition to what it declares; networkOf is the container in whose
// network it lives, if it does. For each path that its image declares as a volume and that nothing is mounted
// at, a volume is made first, with labels that say so: one that the engine makes by itself bears no sign of
// whose it is. Errors: [ErrNameTaken], [ErrNotFound] for an image or network that is not there; then there is
// no new container.
func (e *Engine) Create(ctx context.Context, name string, c plan.Container, labels map[string]string,
	networkOf string) (id string, err error) {
	own := map[string]string{plan.LabelMade: chance()}
	maps.Copy(own, labels)
	labels = own
	image, err := e.Image(ctx, c.Image)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return "", err
	}
	c.Mounts = slices.Clone(c.Mounts)
	var made []string
	for _, path := range image.Volumes {
		if slices.ContainsFunc(c.Mounts, func(m plan.Mount) bool { return m.Target == path }) {
			continue
		}
		v, err := e.createForImage(ctx, path, labels)
		if err != nil {
			return "", err
		}
		made = append(made, v)
		c.Mounts = append(c.Mounts, plan.Mount{Kind: declare.MountVolume, Source: v, Target: path})
	}
	labels[plan.LabelVolumes] = namesLabel(made)
	config, host, network := e.translate(c, labels, networkOf)
	o := client.ContainerCreateOptions{Name: name, Config: config, HostConfig: host, NetworkingConfig: network}
	if system, rest, ok := strings.Cut(c.Settings.Platform, "/"); ok {
		architecture, variant, _ := strings.Cut(rest, "/")
		o.Platform = &ocispec.Platform{OS: system, Architecture: architecture, Variant: variant}
	}
	if id, err = e.create(ctx, o, labels[plan.LabelMade]); err != nil {
		return "", err
	}
	for _, n := range c.Networks[min(len(c.Networks), e.networksAtOnce(c)):] {
		if err := e.Connect(ctx, id, n); err != nil {
			return "", errors.Join(err, e.Remove(context.WithoutCancel(ctx), id))
		}
	}
	return id, nil
}

// create makes a container and returns its id. Where the answer is lost, the engine is asked for the
// container that bears the label.
func (e *Engine) create(ctx context.Context, o client.ContainerCreateOptions, made string) (id string, err error) {
	err = e.change(ctx, "create", 0, func(ctx context.Context) error {
		r, err := e.api.ContainerCreate(ctx, o)
		id = r.ID
		return err
	}, func(ctx context.Context) (bool, error) {
		s, err := e.Inspect(ctx, o.Name)
		id = s.ID
		return err == nil && s.Labels[plan.LabelMade] == made, notThere(err)
	})
	if err != nil {
		return "", err
	}
	return id, nil
}

// chance returns a word that no other call returns.
func chance() string {
	b := make([]byte, 16)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// namesLabel writes names as a label; none as "".
func namesLabel(names []string) string {
	if names == nil {
		return ""
	}
	text, err := json.Marshal(names)
	if err != nil {
		panic("engine: names without JSON: " + err.Error()) // they are texts
	}
	return string(text)
}

// CreatePlaceholder makes a container that is never started, for its name and labels alone, and returns its
// id. It has no volumes. Errors: [ErrNameTaken].
func (e *Engine) CreatePlaceholder(ctx context.Context, name, image string,
	labels map[string]string) (id string, err error) {
	o, err := e.neverStarted(ctx, name, image, labels)
	if err != nil {
		return "", err
	}
	return e.create(ctx, o, o.Config.Labels[plan.LabelMade])
}

// neverStarted describes a container that does nothing. Where its image declares volumes it gets memory, so
// that no engine makes volumes for it.
func (e *Engine) neverStarted(ctx context.Context, name, image string,
	labels map[string]string) (client.ContainerCreateOptions, error) {
	declared, err := e.Image(ctx, image)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return client.ContainerCreateOptions{}, err
	}
	// An image may bear labels of ours: all that tell what this is are given again.
	own := map[string]string{plan.LabelService: "", plan.LabelVolumes: "", plan.LabelMade: chance()}
	maps.Copy(own, labels)
	// Some images have no command of their own, and without one nothing can be created.
	o := client.ContainerCreateOptions{
		Name:       name,
		Config:     &container.Config{Image: image, Labels: own, Entrypoint: []string{"/lantern"}},
		HostConfig: &container.HostConfig{},
	}
	for _, path := range declared.Volumes {
		o.HostConfig.Mounts = append(o.HostConfig.Mounts, mount.Mount{Type: mount.TypeTmpfs, Target: path})
	}
	return o, nil
}

// Start starts a container; one that runs is left alone. Errors: [ErrPortInUse], [ErrNotFound].
func (e *Engine) Start(ctx context.Context, id string) error {
	before := time.Now()
	return e.change(ctx, "start", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerStart(ctx, id, client.ContainerStartOptions{})
		return err
	}, func(ctx context.Context) (bool, error) {
		s, err := e.Inspect(ctx, id)
		return s.Running || s.Started.After(before), err
	})
}

// Stop stops a container, which has the time for it that it was made with: within; one that does not run is
// left alone. Errors: [ErrNotFound].
func (e *Engine) Stop(ctx context.Context, id string, within time.Duration) error {
	return e.change(ctx, "stop", within, func(ctx context.Context) error {
		_, err := e.api.ContainerStop(ctx, id, client.ContainerStopOptions{})
		return err
	}, func(ctx context.Context) (bool, error) {
		s, err := e.Inspect(ctx, id)
		return err == nil && !s.Running, err
	})
}

// Signal sends a signal, such as SIGHUP, to the first process of a container that runs. Errors: [ErrNotFound].
func (e *Engine) Signal(ctx context.Context, id, signal string) error {
	return e.call(ctx, "kill", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerKill(ctx, id, client.ContainerKillOptions{Signal: signal})
		return err
	})
}

// Rename gives a container another name. Errors: [ErrNameTaken], [ErrNotFound].
func (e *Engine) Rename(ctx context.Context, id, name string) error {
	var err error
	for range 3 {
		err = e.change(ctx, "rename", 0, func(ctx context.Context) error {
			_, err := e.api.ContainerRename(ctx, id, client.ContainerRenameOptions{NewName: name})
			return err
		}, func(ctx context.Context) (bool, error) {
			s, err := e.Inspect(ctx, id)
			return s.Name == name, err
		})
		// An engine loses sight of the network of a container in a restart loop for a moment.
		if err == nil || !strings.Contains(err.Error(), "sandbox") {
			break
		}
		time.Sleep(300 * time.Millisecond)
	}
	return err
}

// Remove removes a container, running or not, and never a volume with it. One that is not there is no error.
func (e *Engine) Remove(ctx context.Context, id string) error {
	err := e.change(ctx, "remove", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerRemove(ctx, id, client.ContainerRemoveOptions{Force: true})
		return err
	}, func(ctx context.Context) (bool, error) {
		_, err := e.Inspect(ctx, id)
		return errors.Is(err, ErrNotFound), notThere(err)
	})
	// Of one that goes by itself when it ends, the engine may be at it.
	for began := time.Now(); err != nil && strings.Contains(err.Error(), "already in progress") && time.Since(began) < settles; {
		time.Sleep(50 * time.Millisecond)
		if _, lost := e.Inspect(ctx, id); lost != nil {
			return notThere(lost)
		}
	}
	return notThere(err)
}

// notThere takes the error away that says that there is nothing.
func notThere(err error) error {
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}

// SetRestart changes the restart policy of a container. Errors: [ErrUnsupported], [ErrNotFound].
func (e *Engine) SetRestart(ctx context.Context, id string, r declare.Restart) error {
	if !e.CanUpdate() {
		return &Error{
			Call:    "update",
			Message: "this engine cannot change the restart policy of a container",
			kind:    ErrUnsupported,
			err:     ErrUnsupported,
		}
	}
	policy := restartPolicy(r)
	return e.change(ctx, "update", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerUpdate(ctx, id, client.ContainerUpdateOptions{RestartPolicy: &policy})
		return err
	}, func(ctx context.Context) (bool, error) {
		s, err := e.Inspect(ctx, id)
		return s.Container.Restart == r, err
	})
}

// Inspect returns a container by name or id. Errors: [ErrNotFound].
func (e *Engine) Inspect(ctx context.Context, name string) (State, error) {
	var r client.ContainerInspectResult
	err := e.call(ctx, "inspect", 0, func(ctx context.Context) (err error) {
		r, err = e.api.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
		return err
	})
	if err != nil {
		return State{}, err
	}
	return e.state(r.Container), nil
}

// Own returns a container of a lab as it is now. Errors: [ErrNotFound]; [ErrForeign] when it is not the lab's
// ([plan.Owns]), whatever its labels say.
func (e *Engine) Own(ctx context.Context, lab, id string) (State, error) {
	s, err := e.Inspect(ctx, id)
	if err != nil {
		return s, err
	}
	ours, err := e.owns(ctx, lab, s)
	if err == nil && !ours {
		err = resourceError("inspect", ErrForeign, "the container %s is not of this lab", s.Name)
	}
	return s, err
}

func (e *Engine) owns(ctx context.Context, lab string, s State) (bool, error) {
	if !plan.Owns(lab, s.Name, s.Labels, nil) {
		return false, nil
	}
	labels, err := e.imageLabels(ctx, s.ImageID)
	return err == nil && plan.Owns(lab, s.Name, s.Labels, labels), err
}

// imageLabels returns the labels of an image; none of one that is not there any more. They never change under
// an id, so each is asked for once.
func (e *Engine) imageLabels(ctx context.Context, id string) (map[string]string, error) {
	if known, ok := e.images.Load(imageID(id)); ok {
		return known.(map[string]string), nil
	}
	image, err := e.Image(ctx, id)
	return image.Labels, notThere(err)
}

// Containers returns the containers of a lab, or of one of its stacks, by name. What the engine lists is
// looked at one by one: see [Engine.Own].
func (e *Engine) Containers(ctx context.Context, lab, stack string) ([]State, error) {
	labels := make(client.Filters).Add("label", plan.LabelLab+"="+lab)
	if stack != "" {
		labels.Add("label", plan.LabelStack+"="+stack)
	}
	items, err := e.list(ctx, labels)
	if err != nil {
		return nil, err
	}
	found, errs := make([]State, len(items)), make([]error, len(items))
	var work errgroup.Group
	for i, c := range items {
		e.slots <- struct{}{} // shared by all that ask the engine at the same time
		work.Go(func() error {
			defer func() { <-e.slots }()
			found[i], errs[i] = e.Inspect(ctx, c.ID)
			return nil
		})
	}
	work.Wait()
	var states []State
	for i, s := range found {
		switch {
		case errors.Is(errs[i], ErrNotFound): // gone since the list was made
		case errs[i] != nil:
			return nil, errs[i]
		case stack == "" || s.Labels[plan.LabelStack] == stack:
			ours, err := e.owns(ctx, lab, s)
			if err != nil {
				return nil, err
			}
			if ours {
				states = append(states, s)
			}
		}
	}
	slices.SortFunc(states, func(a, b State) int { return strings.Compare(a.Name, b.Name) })
	return states, nil
}

// Stacks returns the names of a lab's stacks that seem to have containers, sorted: labels alone are looked at.
func (e *Engine) Stacks(ctx context.Context, lab string) ([]string, error) {
	items, err := e.list(ctx, make(client.Filters).Add("label", plan.LabelLab+"="+lab))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range items {
		names = append(names, c.Labels[plan.LabelStack])
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// list returns all containers of the engine that a filter lets through.
func (e *Engine) list(ctx context.Context, filter client.Filters) ([]container.Summary, error) {
	var list client.ContainerListResult
	err := e.call(ctx, "list", 0, func(ctx context.Context) (err error) {
		list, err = e.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: filter})
		return err
	})
	if len(list.Items) > mostContainers {
		return nil,
			resourceError("list", ErrTooMuch,
				"the engine lists %d containers; lantern looks after %d at most", len(list.Items), mostContainers)
	}
	return list.Items, err
}

// mostContainers is how many containers of an engine are looked at.
const mostContainers = 20_000

// GuestsFirst returns containers so that those come first that live in another one's network: some engines
// remove no container that others depend on.
func GuestsFirst(list []State) []State {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b State) int {
		return cmp.Compare(b.Container.NetworkOf, a.Container.NetworkOf)
	})
	return out
}

// Survey returns all containers of the engine, made by lantern or not.
func (e *Engine) Survey(ctx context.Context) ([]survey.Container, error) {
	list, err := e.list(ctx, nil)
	if err != nil {
		return nil, err
	}
	containers := []survey.Container{}
	for _, c := range list {
		s := survey.Container{ID: c.ID, Image: c.Image, State: string(c.State)}
		if len(c.Names) > 0 {
			s.Name = strings.TrimPrefix(c.Names[0], "/")
		}
		if plan.Owns(c.Labels[plan.LabelLab], s.Name, c.Labels, nil) {
			s.Lab, s.Stack, s.Service = c.Labels[plan.LabelLab], c.Labels[plan.LabelStack],
				c.Labels[plan.LabelService]
		}
		for _, p := range c.Ports {
			if p.PublicPort == 0 {
				continue
			}
			address := "0.0.0.0"
			if p.IP.IsValid() {
				address = p.IP.String()
			}
			s.Ports = append(s.Ports,
				joinAddress(address, int(p.PublicPort))+" -> "+strconv.Itoa(int(p.PrivatePort))+"/"+p.Type)
		}
		slices.Sort(s.Ports)
		for _, m := range c.Mounts {
			s.Mounts = append(s.Mounts, m.Source+" -> "+m.Destination)
		}
		if c.NetworkSettings != nil {
			for name, n := range c.NetworkSettings.Networks {
				s.Networks = append(s.Networks, name)
				if n != nil && n.IPAddress.IsValid() {
					s.Addresses = append(s.Addresses, n.IPAddress.String())
				}
			}
			slices.Sort(s.Networks)
			slices.Sort(s.Addresses)
		}
		containers = append(containers, s)
	}
	slices.SortFunc(containers, func(a, b survey.Container) int { return strings.Compare(a.Name, b.Name) })
	return containers, nil
}

func joinAddress(address string, port int) string {
	if a, err := netip.ParseAddr(address); err == nil {
		return netip.AddrPortFrom(a, uint16(port)).String()
	}
	return address + ":" + strconv.Itoa(port)
}

// state translates an inspected container.
func (e *Engine) state(c container.InspectResponse) State {
	s := State{ID: c.ID, Name: strings.TrimPrefix(c.Name, "/"), ImageID: c.Image, Restarts: c.RestartCount}
	if c.Config != nil {
		s.Labels = c.Config.Labels
		if h := c.Config.Healthcheck; h != nil {
			s.Check = checkCommand(h.Test)
		}
	}
	if st := c.State; st != nil {
		s.PID = st.Pid
		s.Status, s.Running, s.ExitCode, s.OOMKilled, s.Error = string(st.Status), st.Running, st.ExitCode,
			st.OOMKilled, st.Error
		s.Started, s.Finished = moment(st.StartedAt), moment(st.FinishedAt)
	}
	if c.NetworkSettings != nil {
		s.On = map[string]string{}
		for name, n := range c.NetworkSettings.Networks {
			if n != nil && n.IPAddress.IsValid() {
				s.Addresses, s.On[name] = append(s.Addresses, n.IPAddress.String()), n.IPAddress.String()
			}
		}
		slices.Sort(s.Addresses)
	}
	var made []string
	if text := s.Labels[plan.LabelVolumes]; text != "" && json.Unmarshal([]byte(text), &made) != nil {
		made = nil
	}
	for _, m := range c.Mounts {
		if m.Type != "volume" {
			continue
		}
		s.Volumes = append(s.Volumes, m.Name)
		if slices.Contains(made, m.Name) {
			s.AnonymousVolumes = append(s.AnonymousVolumes, m.Name)
		}
	}
	s.Container = e.readBack(c)
	for _, m := range c.Mounts {
		if m.Type == "volume" &&
			!slices.ContainsFunc(s.Container.Mounts, func(o plan.Mount) bool { return o.Target == m.Destination }) {
			s.Unnamed = append(s.Unnamed, plan.Mount{Kind: declare.MountVolume, Source: m.Name, Target: m.Destination, ReadOnly: !m.RW})
		}
	}
	s.Container.ForImage = made
	s.Lost = lost(c)
	s.Fleeing = c.HostConfig != nil && c.HostConfig.AutoRemove
	if text := s.Labels[plan.LabelSecret]; text != "" {
		json.Unmarshal([]byte(text), &s.Container.Secret) // what cannot be read was not said
	}
	s.Container.HideSecrets()
	return s
}

// moment reads a time of the API; the year 1 stands for never.
func moment(s string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil || t.Year() <= 1 {
		return time.Time{}
	}
	return t
}

// Log sends the lines of a container's log since a moment (zero: all) to line, until the log ends; with
// follow until ctx ends. Lines of both streams come in the order in which the engine has them.
func (e *Engine) Log(ctx context.Context, id string, since time.Time, follow bool, tail int,
	line func(string)) error {
	o := client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Follow: follow}
	if !since.IsZero() {
		o.Since = strconv.FormatInt(since.Unix(), 10)
	}
	if tail > 0 {
		o.Tail = strconv.Itoa(tail)
	}
	reading := ctx
	if !follow {
		limited, cancel := context.WithTimeout(ctx, e.CallTimeout)
		defer cancel()
		reading = limited
	}
	stream, err := e.api.ContainerLogs(reading, id, o)
	if err != nil {
		return explain("logs", err)
	}
	defer stream.Close()
	from := io.Reader(&unframed{from: stream})
	if !follow {
		from = io.LimitReader(from, mostLog)
	}
	err = lines(from, line)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return explain("logs", err)
}

// Image returns what an image on the host declares. Errors: [ErrNotFound].
func (e *Engine) Image(ctx context.Context, reference string) (survey.Image, error) {
	var r client.ImageInspectResult
	err := e.call(ctx, "image", 0, func(ctx context.Context) (err error) {
		r, err = e.api.ImageInspect(ctx, reference)
		return err
	})
	if err != nil {
		return survey.Image{}, err
	}
	i := e.declared(reference, r.InspectResponse)
	e.images.Store(i.ID, i.Labels)
	return i, nil
}

// declared is what an engine says that an image declares.
func (e *Engine) declared(reference string, r image.InspectResponse) survey.Image {
	i := survey.Image{
		Reference: reference,
		Source:    survey.FromEngine,
		ID:        r.ID,
		Platforms: []string{r.Os + "/" + r.Architecture},
	}
	i.ID, i.Size, i.Names = imageID(i.ID), r.Size, r.RepoTags
	i.Name = e.fullName(reference, r.RepoTags)
	i.Created, _ = time.Parse(time.RFC3339Nano, r.Created) // else it does not say
	i.Digest, i.Digests = digestOf(reference, r.RepoDigests), r.RepoDigests
	if c := r.Config; c != nil {
		for p := range c.ExposedPorts {
			i.Ports = append(i.Ports, p)
		}
		for v := range c.Volumes {
			i.Volumes = append(i.Volumes, v)
		}
		slices.Sort(i.Ports)
		slices.Sort(i.Volumes)
		i.User, i.Entrypoint, i.Command, i.Labels = c.User, c.Entrypoint, c.Cmd, c.Labels
		i.WorkingDir, i.StopSignal = c.WorkingDir, c.StopSignal
		for _, v := range c.Env {
			if i.Env == nil {
				i.Env = map[string]string{}
			}
			name, value, _ := strings.Cut(v, "=")
			i.Env[name] = value
		}
	}
	return i
}

// imageID returns the id of an image with its algorithm, which one engine leaves out.
func imageID(id string) string {
	if !strings.Contains(id, ":") {
		return "sha256:" + id
	}
	return id
}

// digestOf returns the digest under which a reference's repository has an image. One image can stand in
// several, and not under the same digest.
func digestOf(short string, digests []string) string {
	repository := short
	if named, err := reference.ParseNormalizedNamed(short); err == nil {
		repository = named.Name()
	}
	last := ""
	for _, d := range digests {
		name, digest, _ := strings.Cut(d, "@")
		if named, err := reference.ParseNormalizedNamed(name); err == nil && named.Name() == repository {
			return digest
		}
		last = digest
	}
	return last
}

// fullName returns a reference that names no registry with the one that the engine takes; "" for one that
// does, and where that is not known. One engine has a single registry for such names, the other one keeps images
// under the name that it found them by.
func (e *Engine) fullName(short string, tags []string) string {
	if namesRegistry(short) {
		return ""
	}
	if e.can.oneShortRegistry {
		full, err := reference.ParseNormalizedNamed(short)
		if err != nil {
			return ""
		}
		return full.String()
	}
	for _, t := range tags {
		if strings.HasSuffix(t, "/"+short) {
			return t
		}
	}
	return ""
}

// RemoteDigest asks an image's registry for the digest that a reference stands for now. Errors:
// [ErrNotFound], [ErrUnsupported]; any other says nothing about the image.
func (e *Engine) RemoteDigest(ctx context.Context, reference string) (string, error) {
	if e.AsksDirectly(reference) {
		return registry.Digest(ctx, reference, e.Logins)
	}
	if !e.can.askRegistries {
		return "", &Error{
			Call:    "distribution",
			Message: "this engine does not ask registries without pulling",
			kind:    ErrUnsupported,
			err:     ErrUnsupported,
		}
	}
	digest, auth := "", e.login(reference)
	err := e.call(ctx, "distribution", 0, func(ctx context.Context) error {
		r, err := e.api.DistributionInspect(ctx, reference, client.DistributionInspectOptions{
			EncodedRegistryAuth: auth,
		})
		digest = string(r.Descriptor.Digest)
		return err
	})
	return digest, err
}

// Tags asks an image's registry for all tags of its repository. Errors: [ErrUnsupported]; any other says nothing
// about the image, see [registry.Why].
func (e *Engine) Tags(ctx context.Context, reference string) ([]string, error) {
	return e.listOf(ctx, reference, registry.Tags, StandInTags)
}

// Repositories asks an image's registry for all names that it has. Errors as of [Engine.Tags].
func (e *Engine) Repositories(ctx context.Context, reference string) ([]string, error) {
	return e.listOf(ctx, reference, registry.Repositories, StandInRepositories)
}

func (e *Engine) listOf(ctx context.Context, reference string,
	ask func(context.Context, string, *registry.Logins) ([]string, error), standIn string) ([]string, error) {
	switch {
	case e.AsksDirectly(reference):
		return ask(ctx, reference, e.Logins)
	case e.standIn:
		var all []string
		err := e.raw(ctx, http.MethodGet, standIn+"?of="+url.QueryEscape(reference), func(r *http.Response) error {
			return json.NewDecoder(r.Body).Decode(&all)
		})
		return all, err
	}
	return nil, &Error{
		Call:    "registry",
		Message: "the engine chooses the registry of a name without one by rules of its own",
		kind:    ErrUnsupported,
		err:     ErrUnsupported,
	}
}

// nameOf returns that of an image's names which a reference stands for; "" for none.
func (e *Engine) nameOf(short string, names []string) string {
	for _, n := range names {
		if n == short || n == e.fullName(short, names) {
			return n
		}
		a, err := reference.ParseNormalizedNamed(short)
		b, err2 := reference.ParseNormalizedNamed(n)
		if err == nil && err2 == nil && reference.TagNameOnly(a).String() == reference.TagNameOnly(b).String() {
			return n
		}
	}
	return ""
}

// namesRegistry reports whether a reference begins with a registry.
func namesRegistry(reference string) bool {
	first, _, path := strings.Cut(reference, "/")
	return path && (strings.ContainsAny(first, ".:") || first == "localhost")
}

// AsksDirectly reports whether an image's registry can be asked without the engine: not that of a stand-in,
// which has none but its own, and not where the engine chooses the registry by rules of its own.
func (e *Engine) AsksDirectly(reference string) bool {
	return !e.standIn && (namesRegistry(reference) || e.can.oneShortRegistry)
}

// InRegistry asks the image's registry, through the engine, whether it has the image. Errors: [ErrNotFound]
// when the registry says that it has not, [ErrUnsupported] when the engine cannot ask; any other error says
// nothing about the image.
func (e *Engine) InRegistry(ctx context.Context, reference string) error {
	if !e.can.askRegistries {
		return &Error{
			Call:    "distribution",
			Message: "this engine does not ask registries without pulling",
			kind:    ErrUnsupported,
			err:     ErrUnsupported,
		}
	}
	auth := e.login(reference)
	err := e.call(ctx, "distribution", 0, func(ctx context.Context) error {
		_, err := e.api.DistributionInspect(ctx, reference, client.DistributionInspectOptions{
			EncodedRegistryAuth: auth,
		})
		return err
	})
	if err == nil {
		return nil
	}
	// The engine passes the registry's answer on in its text. "not found" alone may as well be a proxy in
	// between.
	text := err.Error()
	if strings.Contains(text, "manifest unknown") || strings.Contains(text, "name unknown") {
		return &Error{Call: "distribution", Message: text, kind: ErrNotFound, err: err}
	}
	return &Error{
		Call:    "distribution",
		Message: short(strings.TrimPrefix(text, "Error response from daemon: ")),
		err:     err,
	}
}
