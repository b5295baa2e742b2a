package engine

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/distribution/reference"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
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
	Started   time.Time // zero when it never was
	Finished  time.Time // zero when it never ended
	Addresses []string  // its own, on its networks
	Check     []string  // the command by which its image says that it is well, see [Engine.Run]; nil: it declares none
	Unnamed   []string  // volumes of its image's own making
	Container plan.Container
}

// Create makes a container. Labels come in addition to what it declares; networkOf is the container in whose network it lives, if it does.
// Errors: [ErrNameTaken], [ErrNotFound] for an image or network that is not there; then there is no new container.
func (e *Engine) Create(ctx context.Context, name string, c plan.Container, labels map[string]string, networkOf string) (id string, err error) {
	config, host, network := e.translate(c, labels, networkOf)
	o := client.ContainerCreateOptions{Name: name, Config: config, HostConfig: host, NetworkingConfig: network}
	if system, rest, ok := strings.Cut(c.Settings.Platform, "/"); ok {
		architecture, variant, _ := strings.Cut(rest, "/")
		o.Platform = &ocispec.Platform{OS: system, Architecture: architecture, Variant: variant}
	}
	var made client.ContainerCreateResult
	err = e.call(ctx, "create", 0, func(ctx context.Context) (err error) {
		made, err = e.api.ContainerCreate(ctx, o)
		return err
	})
	if err != nil {
		return "", err
	}
	for _, n := range c.Networks[min(len(c.Networks), e.networksAtOnce(c)):] {
		if err := e.Connect(ctx, made.ID, n); err != nil {
			return "", errors.Join(err, e.Discard(context.WithoutCancel(ctx), made.ID))
		}
	}
	return made.ID, nil
}

// CreateMark makes a container that is never started, for its name and labels alone. Errors: [ErrNameTaken].
func (e *Engine) CreateMark(ctx context.Context, name, image string, labels map[string]string) error {
	// Some images have no command of their own, and without one nothing can be created.
	o := client.ContainerCreateOptions{Name: name, Config: &container.Config{Image: image, Labels: labels, Entrypoint: []string{"/lantern"}}}
	return e.call(ctx, "create", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerCreate(ctx, o)
		return err
	})
}

// Start starts a container; one that runs is left alone. Errors: [ErrPortInUse], [ErrNotFound].
func (e *Engine) Start(ctx context.Context, id string) error {
	return e.call(ctx, "start", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerStart(ctx, id, client.ContainerStartOptions{})
		return err
	})
}

// Stop stops a container, which has the time for it that it was made with: within; one that does not run is left alone. Errors: [ErrNotFound].
func (e *Engine) Stop(ctx context.Context, id string, within time.Duration) error {
	return e.call(ctx, "stop", within, func(ctx context.Context) error {
		_, err := e.api.ContainerStop(ctx, id, client.ContainerStopOptions{})
		return err
	})
}

// Rename gives a container another name. Errors: [ErrNameTaken], [ErrNotFound].
func (e *Engine) Rename(ctx context.Context, id, name string) error {
	var err error
	for range 3 {
		err = e.call(ctx, "rename", 0, func(ctx context.Context) error {
			_, err := e.api.ContainerRename(ctx, id, client.ContainerRenameOptions{NewName: name})
			return err
		})
		// An engine loses sight of the network of a container in a restart loop for a moment.
		if err == nil || !strings.Contains(err.Error(), "sandbox") {
			break
		}
		time.Sleep(300 * time.Millisecond)
	}
	return err
}

// Remove removes a container, running or not, and leaves its volumes. One that is not there is no error.
func (e *Engine) Remove(ctx context.Context, id string) error { return e.remove(ctx, id, false) }

// Discard is as Remove, and removes also the volumes that its image made by itself: for containers that never did any work.
func (e *Engine) Discard(ctx context.Context, id string) error { return e.remove(ctx, id, true) }

func (e *Engine) remove(ctx context.Context, id string, volumes bool) error {
	err := e.call(ctx, "remove", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerRemove(ctx, id, client.ContainerRemoveOptions{Force: true, RemoveVolumes: volumes})
		return err
	})
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}

// SetRestart changes the restart policy of a container. Errors: [ErrUnsupported], [ErrNotFound].
func (e *Engine) SetRestart(ctx context.Context, id string, r declare.Restart) error {
	if !e.CanUpdate() {
		return &Error{Call: "update", Message: "this engine cannot change the restart policy of a container", kind: ErrUnsupported, err: ErrUnsupported}
	}
	policy := restartPolicy(r)
	return e.call(ctx, "update", 0, func(ctx context.Context) error {
		_, err := e.api.ContainerUpdate(ctx, id, client.ContainerUpdateOptions{RestartPolicy: &policy})
		return err
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

// atOnce is how many questions an engine is asked at the same time. With more, those of Podman's service stand in each other's way.
const atOnce = 4

// Containers returns the containers of a lab, or of one of its stacks, by name.
func (e *Engine) Containers(ctx context.Context, lab, stack string) ([]State, error) {
	labels := make(client.Filters).Add("label", plan.LabelLab+"="+lab)
	if stack != "" {
		labels.Add("label", plan.LabelStack+"="+stack)
	}
	var list client.ContainerListResult
	err := e.call(ctx, "list", 0, func(ctx context.Context) (err error) {
		list, err = e.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: labels})
		return err
	})
	if err != nil {
		return nil, err
	}
	found, errs := make([]State, len(list.Items)), make([]error, len(list.Items))
	turns := make(chan struct{}, atOnce)
	var wait sync.WaitGroup
	for i, c := range list.Items {
		wait.Go(func() {
			turns <- struct{}{}
			found[i], errs[i] = e.Inspect(ctx, c.ID)
			<-turns
		})
	}
	wait.Wait()
	var states []State
	for i, s := range found {
		switch {
		case errors.Is(errs[i], ErrNotFound): // gone since the list was made
		case errs[i] != nil:
			return nil, errs[i]
		default:
			states = append(states, s)
		}
	}
	slices.SortFunc(states, func(a, b State) int { return strings.Compare(a.Name, b.Name) })
	return states, nil
}

// GuestsFirst returns containers so that those come first that live in another one's network: some engines remove no container that others depend on.
func GuestsFirst(list []State) []State {
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b State) int { return cmp.Compare(b.Container.Shares, a.Container.Shares) })
	return out
}

// Survey returns all containers of the engine, whoever made them.
func (e *Engine) Survey(ctx context.Context) ([]survey.Container, error) {
	list, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true})
	if err != nil {
		return nil, explain("list", err)
	}
	containers := []survey.Container{}
	for _, c := range list.Items {
		s := survey.Container{
			ID: c.ID, Image: c.Image, State: string(c.State), Lab: c.Labels[plan.LabelLab], Stack: c.Labels[plan.LabelStack], Service: c.Labels[plan.LabelService],
		}
		if len(c.Names) > 0 {
			s.Name = strings.TrimPrefix(c.Names[0], "/")
		}
		for _, p := range c.Ports {
			if p.PublicPort == 0 {
				continue
			}
			address := "0.0.0.0"
			if p.IP.IsValid() {
				address = p.IP.String()
			}
			s.Ports = append(s.Ports, joinAddress(address, int(p.PublicPort))+" -> "+strconv.Itoa(int(p.PrivatePort))+"/"+p.Type)
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
		s.Status, s.Running, s.ExitCode, s.OOMKilled, s.Error = string(st.Status), st.Running, st.ExitCode, st.OOMKilled, st.Error
		s.Started, s.Finished = moment(st.StartedAt), moment(st.FinishedAt)
	}
	if c.NetworkSettings != nil {
		for _, n := range c.NetworkSettings.Networks {
			if n != nil && n.IPAddress.IsValid() {
				s.Addresses = append(s.Addresses, n.IPAddress.String())
			}
		}
		slices.Sort(s.Addresses)
	}
	for _, m := range c.Mounts {
		if m.Type == "volume" && len(m.Name) == unnamedLength {
			s.Unnamed = append(s.Unnamed, m.Name)
		}
	}
	s.Container = e.readBack(c)
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

// Log sends the lines of a container's log since a moment (zero: all) to line, until the log ends; with follow until ctx ends. Lines of
// both streams come in the order in which the engine has them.
func (e *Engine) Log(ctx context.Context, id string, since time.Time, follow bool, tail int, line func(string)) error {
	o := client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Follow: follow}
	if !since.IsZero() {
		o.Since = strconv.FormatInt(since.Unix(), 10)
	}
	if tail > 0 {
		o.Tail = strconv.Itoa(tail)
	}
	stream, err := e.api.ContainerLogs(ctx, id, o)
	if err != nil {
		return explain("logs", err)
	}
	defer stream.Close()
	reader, writer := io.Pipe()
	go func() {
		_, err := stdcopy.StdCopy(writer, writer, stream)
		writer.CloseWithError(err)
	}()
	scanner := bufio.NewScanner(reader)
	scanner.Buffer(nil, 1<<20)
	for scanner.Scan() {
		line(strings.TrimRight(scanner.Text(), "\r"))
	}
	reader.Close()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return explain("logs", scanner.Err())
}

// Image returns what an image on the host declares. Errors: [ErrNotFound].
func (e *Engine) Image(ctx context.Context, reference string) (survey.Image, error) {
	r, err := e.api.ImageInspect(ctx, reference)
	if err != nil {
		return survey.Image{}, explain("image", err)
	}
	i := survey.Image{Reference: reference, Source: survey.FromEngine, ID: r.ID, Platforms: []string{r.Os + "/" + r.Architecture}}
	i.ID, i.Size = imageID(i.ID), r.Size
	i.Name = e.fullName(reference, r.RepoTags)
	i.Digest = digestOf(reference, r.RepoDigests)
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
	return i, nil
}

// imageID returns the id of an image with its algorithm, which one engine leaves out.
func imageID(id string) string {
	if !strings.Contains(id, ":") {
		return "sha256:" + id
	}
	return id
}

// digestOf returns the digest under which a reference's repository has an image. One image can stand in several, and not under the same digest.
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

// fullName returns a reference that names no registry with the one that the engine takes; "" for one that does, and where nobody knows. One
// engine has a single registry for such names, the other one keeps images under the name that it found them by.
func (e *Engine) fullName(short string, tags []string) string {
	if namesRegistry(short) {
		return ""
	}
	if e.kind != kindP {
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

// namesRegistry tells whether a reference begins with a registry.
func namesRegistry(reference string) bool {
	first, _, path := strings.Cut(reference, "/")
	return path && (strings.ContainsAny(first, ".:") || first == "localhost")
}

// AsksDirectly tells whether an image's registry can be asked without the engine: not that of a stand-in, which has none but its own, and
// not where the engine chooses the registry by rules of its own.
func (e *Engine) AsksDirectly(reference string) bool {
	return !e.standIn && (namesRegistry(reference) || e.kind != kindP)
}

// InRegistry asks the image's registry, through the engine, whether it has the image. Errors: [ErrNotFound] when the registry says that it has not,
// [ErrUnsupported] when the engine cannot ask; any other error says nothing about the image.
func (e *Engine) InRegistry(ctx context.Context, reference string) error {
	if e.kind == kindP {
		return &Error{Call: "distribution", Message: "this engine does not ask registries without pulling", kind: ErrUnsupported, err: ErrUnsupported}
	}
	_, err := e.api.DistributionInspect(ctx, reference, client.DistributionInspectOptions{EncodedRegistryAuth: login(reference)})
	if err == nil {
		return nil
	}
	// The engine passes the registry's answer on in its text. "not found" alone may as well be a proxy in between.
	text := err.Error()
	if strings.Contains(text, "manifest unknown") || strings.Contains(text, "name unknown") {
		return &Error{Call: "distribution", Message: text, kind: ErrNotFound, err: err}
	}
	return &Error{Call: "distribution", Message: strings.TrimPrefix(text, "Error response from daemon: "), err: err}
}
