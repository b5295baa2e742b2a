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
	"time"

	cerrdefs "github.com/containerd/errdefs"
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
	made, err := e.api.ContainerCreate(ctx, o)
	if err != nil {
		return "", explain("create", err)
	}
	for _, n := range c.Networks[min(len(c.Networks), e.networksAtOnce(c)):] {
		if err := e.connect(ctx, made.ID, n); err != nil {
			return "", errors.Join(err, e.Remove(context.WithoutCancel(ctx), made.ID))
		}
	}
	return made.ID, nil
}

// CreateMark makes a container that is never started, for its name and labels alone. Errors: [ErrNameTaken].
func (e *Engine) CreateMark(ctx context.Context, name, image string, labels map[string]string) error {
	// Some images have no command of their own, and without one nothing can be created.
	_, err := e.api.ContainerCreate(ctx, client.ContainerCreateOptions{Name: name, Config: &container.Config{Image: image, Labels: labels, Entrypoint: []string{"/lantern"}}})
	return explain("create", err)
}

// Start starts a container; one that runs is left alone. Errors: [ErrPortInUse], [ErrNotFound].
func (e *Engine) Start(ctx context.Context, id string) error {
	_, err := e.api.ContainerStart(ctx, id, client.ContainerStartOptions{})
	return explain("start", err)
}

// Stop stops a container within its own stop time; one that does not run is left alone. Errors: [ErrNotFound].
func (e *Engine) Stop(ctx context.Context, id string) error {
	_, err := e.api.ContainerStop(ctx, id, client.ContainerStopOptions{})
	return explain("stop", err)
}

// Rename gives a container another name. Errors: [ErrNameTaken], [ErrNotFound].
func (e *Engine) Rename(ctx context.Context, id, name string) error {
	var err error
	for range 3 {
		_, err = e.api.ContainerRename(ctx, id, client.ContainerRenameOptions{NewName: name})
		// An engine loses sight of the network of a container in a restart loop for a moment.
		if err == nil || !strings.Contains(err.Error(), "sandbox") {
			break
		}
		time.Sleep(300 * time.Millisecond)
	}
	return explain("rename", err)
}

// Remove removes a container, running or not, and leaves its volumes. One that is not there is no error.
func (e *Engine) Remove(ctx context.Context, id string) error {
	_, err := e.api.ContainerRemove(ctx, id, client.ContainerRemoveOptions{Force: true})
	if err = explain("remove", err); errors.Is(err, ErrNotFound) {
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
	_, err := e.api.ContainerUpdate(ctx, id, client.ContainerUpdateOptions{RestartPolicy: &policy})
	return explain("update", err)
}

// Inspect returns a container by name or id. Errors: [ErrNotFound].
func (e *Engine) Inspect(ctx context.Context, name string) (State, error) {
	r, err := e.api.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	if err != nil {
		return State{}, explain("inspect", err)
	}
	return e.state(r.Container), nil
}

// Containers returns the containers of a lab, by name.
func (e *Engine) Containers(ctx context.Context, lab string) ([]State, error) {
	list, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: make(client.Filters).Add("label", plan.LabelLab+"="+lab)})
	if err != nil {
		return nil, explain("list", err)
	}
	var states []State
	for _, c := range list.Items {
		s, err := e.Inspect(ctx, c.ID)
		if errors.Is(err, ErrNotFound) {
			continue // gone since the list was made
		}
		if err != nil {
			return nil, err
		}
		states = append(states, s)
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
	if !strings.Contains(i.ID, ":") {
		i.ID = "sha256:" + i.ID
	}
	i.Name = e.fullName(reference, r.RepoTags)
	for _, d := range r.RepoDigests {
		_, i.Digest, _ = strings.Cut(d, "@")
	}
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
	return e.name != StandInName && (namesRegistry(reference) || e.kind != kindP)
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

// Progress is how far a pull is, in bytes over all layers known so far.
type Progress struct{ Current, Total int64 }

// Pull fetches an image, with the login of the auth files. Errors: [ErrNotFound] when the registry has none.
func (e *Engine) Pull(ctx context.Context, reference string, progress func(Progress)) error {
	r, err := e.api.ImagePull(ctx, reference, client.ImagePullOptions{RegistryAuth: login(reference)})
	if err != nil {
		return pullError(err)
	}
	defer r.Close()
	layers := map[string]Progress{}
	for m, err := range r.JSONMessages(ctx) {
		if err != nil {
			return pullError(err)
		}
		if m.Error != nil {
			return pullError(errors.New(m.Error.Message))
		}
		if m.Progress != nil && m.Progress.Total > 0 && m.Status == "Downloading" {
			layers[m.ID] = Progress{m.Progress.Current, m.Progress.Total}
			var sum Progress
			for _, l := range layers {
				sum.Current += l.Current
				sum.Total += l.Total
			}
			progress(sum)
		}
	}
	return nil
}

func pullError(err error) error {
	text := err.Error()
	if strings.Contains(text, "manifest unknown") || strings.Contains(text, "name unknown") || cerrdefs.IsNotFound(err) {
		return &Error{Call: "pull", Message: text, kind: ErrNotFound, err: err}
	}
	return explain("pull", err)
}
