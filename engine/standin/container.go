package standin

import (
	"cmp"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	dockerspec "github.com/moby/docker-image-spec/specs-go/v1"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/events"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/api/types/volume"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/gate"
)

// simulatedContainer is a container that runs nothing but answers as if it did.
type simulatedContainer struct {
	id, name string // name under the server's lock
	server   *Server
	created  time.Time
	image    Image
	imageID  string
	config   *container.Config
	address  netip.Addr
	unnamed  []container.MountPoint // volumes of the image's own making
	network  string
	networks map[string]*network.EndpointSettings

	files map[string]file // that were put into it, under the server's lock

	mu        sync.Mutex
	host      *container.HostConfig
	state     container.State
	restarts  int
	run       *run // nil when it does not run
	log       []line
	changed   chan struct{} // closed and renewed when log or state change
	byHand    bool          // stopped by hand: unless-stopped does not apply any more
	generated int           // runs so far, so that an old run's timers do nothing
}

type line struct {
	at     time.Time
	text   string
	stderr bool
}

// run is what goes on while a container runs.
type run struct {
	listeners []interface{ Close() error }
	timers    []*time.Timer
	ready     bool
	gate      *gate.Gate // nil: it is none
}

// shorter returns how long something takes with the time that the stand-in has.
func (s *Server) shorter(d time.Duration) time.Duration {
	if s.options.Speed > 0 {
		return time.Duration(float64(d) / s.options.Speed)
	}
	return d
}

func newID() string {
	b := make([]byte, 32)
	rand.Read(b)
	return hex.EncodeToString(b)
}

func (s *Server) create(r *http.Request) (int, any, error) {
	var ask container.CreateRequest
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		return 400, nil, err
	}
	if ask.HostConfig == nil {
		ask.HostConfig = &container.HostConfig{}
	}
	name := r.URL.Query().Get("name")
	s.mu.Lock()
	defer s.mu.Unlock()
	reference, image, ok := s.image(ask.Image)
	if !ok {
		return 404, nil, fmt.Errorf("No such image: %s", ask.Image)
	}
	if taken := s.named(name); taken != nil {
		return 409, nil, conflict(name, taken.id)
	}
	for _, m := range ask.HostConfig.Mounts {
		if m.Type == "bind" && !s.exists(m.Source) {
			return 400, nil,
				fmt.Errorf("invalid mount config for type %q: bind source path does not exist: %s",
					m.Type, m.Source)
		}
	}
	mode := string(ask.HostConfig.NetworkMode)
	partner, guest := strings.CutPrefix(mode, "container:")
	if guest && s.containers[partner] == nil {
		return 404, nil, fmt.Errorf("No such container: %s", partner)
	}
	s.addVolumes(ask.HostConfig)
	s.made++
	b := &simulatedContainer{
		id: newID(), name: name, server: s, created: time.Now(), image: image, imageID: image.id(reference),
		config: ask.Config, host: ask.HostConfig,
		network: mode, networks: map[string]*network.EndpointSettings{}, changed: make(chan struct{}),
		address: netip.AddrFrom4([4]byte{127, s.base, byte(s.made >> 8), byte(s.made)}),
	}
	if guest {
		b.address = s.containers[partner].address
	}
	b.state.Status = "created"
	if ask.NetworkingConfig != nil {
		for n, e := range ask.NetworkingConfig.EndpointsConfig {
			if e == nil {
				e = &network.EndpointSettings{}
			}
			b.networks[n] = e
		}
	}
	if mode == "" || mode == "default" || mode == "bridge" {
		if len(b.networks) == 0 {
			b.networks["bridge"] = &network.EndpointSettings{}
		}
	}
	s.fromImage(b)
	s.containers[b.id] = b
	s.tellOf(b, events.ActionCreate)
	return 201, container.CreateResponse{ID: b.id, Warnings: []string{}}, nil
}

// fromImage gives a container what its image declares, unless it says so itself: volumes, the check, variables.
func (s *Server) fromImage(b *simulatedContainer) {
	for _, path := range b.image.Volumes {
		if !slices.ContainsFunc(mountPoints(b.host), func(m container.MountPoint) bool { return m.Destination == path }) &&
			!slices.ContainsFunc(b.host.Mounts, func(m mount.Mount) bool { return m.Target == path }) {
			m := container.MountPoint{Type: mount.TypeVolume, Name: newID(), Destination: path, RW: true}
			s.volumes[m.Name] = &volume.Volume{Name: m.Name, Driver: "local", Scope: "local"}
			b.unnamed = append(b.unnamed, m)
		}
	}
	if b.image.Check != nil && b.config.Healthcheck == nil {
		b.config.Healthcheck = &dockerspec.HealthcheckConfig{Test: append([]string{"CMD"}, b.image.Check...)}
	}
	for k, v := range b.image.Labels {
		if _, own := b.config.Labels[k]; !own {
			if b.config.Labels == nil {
				b.config.Labels = map[string]string{}
			}
			b.config.Labels[k] = v
		}
	}
	env := b.config.Env
	for k, v := range b.image.Env {
		if !slices.ContainsFunc(env, func(e string) bool { return strings.HasPrefix(e, k+"=") }) {
			b.config.Env = append(b.config.Env, k+"="+v)
		}
	}
}

// exists reports whether the machine that is stood in for has a path.
func (s *Server) exists(path string) bool {
	if s.options.Machine == nil {
		_, err := os.Stat(path)
		return err == nil
	}
	p, ok := s.options.Machine.Path(path)
	return ok && p.Kind != survey.Missing
}

func (s *Server) start(b *simulatedContainer, r *http.Request) (int, any, error) {
	if err := s.networksOf(b); err != nil {
		return 404, nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.run != nil {
		return 304, nil, nil
	}
	b.byHand, b.restarts = false, 0
	if err := b.begin(); err != nil {
		b.state.Error, b.state.ExitCode = err.Error(), 128
		return 500, nil, err
	}
	return 204, nil, nil
}

// networksOf reports whether all that a container needs of the network is there.
func (s *Server) networksOf(b *simulatedContainer) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if id, ok := strings.CutPrefix(b.network, "container:"); ok {
		partner := s.containers[id]
		if partner == nil || !partner.running() {
			return fmt.Errorf("cannot join network of a non running container: %s", id)
		}
		return nil
	}
	for n, e := range b.networks {
		// Once it has run it wants the very network back, not another one of its name.
		if s.networks[n] == nil || e.NetworkID != "" && e.NetworkID != s.networks[n].ID {
			return fmt.Errorf("network %s not found", n)
		}
	}
	for n, e := range b.networks {
		e.NetworkID = s.networks[n].ID
	}
	return nil
}

// begin lets a container run; the caller holds the lock.
func (b *simulatedContainer) begin() error {
	r := &run{}
	open := b.publish
	if isGateImage(b.config.Image) {
		open = b.openGate
	}
	if err := open(r); err != nil {
		for _, l := range r.listeners {
			l.Close()
		}
		return err
	}
	b.generated++
	generation := b.generated
	b.run = r
	b.state = container.State{
		Status:     "running",
		Running:    true,
		Pid:        os.Getpid(),
		StartedAt:  time.Now().UTC().Format(time.RFC3339Nano),
		FinishedAt: b.state.FinishedAt,
	}
	last := len(b.image.Log) - 1
	for _, text := range b.image.Errors {
		b.log = append(b.log, line{time.Now(), text, true})
	}
	for i, text := range b.image.Log {
		if i < last || b.image.NeverReady && b.image.Exits == nil {
			b.say(text)
		}
	}
	after := func(d time.Duration, f func()) {
		r.timers = append(r.timers, time.AfterFunc(b.server.shorter(d), func() {
			b.mu.Lock()
			defer b.mu.Unlock()
			if b.generated == generation && b.run != nil {
				f()
			}
		}))
	}
	if !b.image.NeverReady {
		after(b.image.ReadyAfter.Duration, func() {
			r.ready = true
			if last >= 0 {
				b.say(b.image.Log[last])
			}
		})
	}
	if b.image.Exits != nil {
		after(b.image.ExitsAfter.Duration, func() {
			if last >= 0 {
				b.say(b.image.Log[last])
			}
			b.end(*b.image.Exits)
			b.maybeRestart()
		})
	}
	b.tell()
	b.server.tellOf(b, events.ActionStart)
	return nil
}

// publish listens on the container's own address and on the published ports, these always on loopback.
func (b *simulatedContainer) publish(r *run) error {
	for _, p := range b.image.Ports {
		number, proto, _ := strings.Cut(p, "/")
		number = b.pagePort(number)
		port, _ := strconv.Atoi(number)
		// Without root, ports below 1024 cannot be had here; then the published port is the only way in.
		address := b.address.String()
		if b.network == "host" {
			address = "127.0.0.1"
		}
		if proto != "udp" && b.network != "none" {
			if l, err := net.Listen("tcp", net.JoinHostPort(address, number)); err == nil {
				b.serve(r, l, port)
			}
		}
	}
	for port, bindings := range b.host.PortBindings {
		for _, binding := range bindings {
			address := "0.0.0.0"
			if binding.HostIP.IsValid() {
				address = binding.HostIP.String()
			}
			at, want := net.JoinHostPort("127.0.0.1", binding.HostPort), net.JoinHostPort(address, binding.HostPort)
			if binding.HostIP.Is6() {
				at = net.JoinHostPort("::1", binding.HostPort)
			}
			if port.Proto() == "udp" {
				c, err := net.ListenPacket("udp", at)
				if err != nil {
					return b.portError("udp4", want)
				}
				r.listeners = append(r.listeners, c)
				continue
			}
			l, err := net.Listen("tcp", at)
			if err != nil {
				return b.portError("tcp4", want)
			}
			b.serve(r, l, int(port.Num()))
		}
	}
	return nil
}

// pagePort returns the port on which the page of an image's port really is: a variable may say another one.
func (b *simulatedContainer) pagePort(port string) string {
	if _, page := b.image.Page[port]; page && b.image.PagePort != "" {
		for _, e := range b.config.Env {
			if value, ok := strings.CutPrefix(e, b.image.PagePort+"="); ok {
				return value
			}
		}
	}
	return port
}

func (b *simulatedContainer) portError(network, address string) error {
	return fmt.Errorf(
		"driver failed programming external connectivity on endpoint %s (%s): Error starting userland "+
			"proxy: listen %s %s: bind: address already in use", b.name, b.id, network, address)
}

// serve answers on a container port: with its page when it has one, else by accepting connections.
func (b *simulatedContainer) serve(r *run, l net.Listener, port int) {
	r.listeners = append(r.listeners, l)
	text, page := "", false
	for declared, says := range b.image.Page {
		if b.pagePort(declared) == strconv.Itoa(port) {
			text, page = says, true
		}
	}
	if !page {
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				c.Close()
			}
		}()
		return
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		b.mu.Lock()
		ready := r.ready
		b.mu.Unlock()
		switch {
		case !ready:
			http.Error(w, "not ready yet", http.StatusServiceUnavailable)
		case b.image.Echo:
			json.NewEncoder(w).Encode(map[string]any{"user": b.config.User, "env": b.config.Env})
		default:
			fmt.Fprintln(w, text)
		}
	})}
	r.listeners = append(r.listeners, server)
	go server.Serve(l)
}

// end lets a container end; the caller holds the lock.
func (b *simulatedContainer) end(code int) {
	if b.run == nil {
		return
	}
	for _, t := range b.run.timers {
		t.Stop()
	}
	for _, l := range b.run.listeners {
		l.Close()
	}
	b.run = nil
	b.state.Status, b.state.Running, b.state.Pid, b.state.ExitCode = "exited", false, 0, code
	b.state.FinishedAt = time.Now().UTC().Format(time.RFC3339Nano)
	b.tell()
	b.server.tellOf(b, events.ActionDie)
}

// maybeRestart obeys the restart policy after an end by itself; the caller holds the lock. Each try waits
// twice as long, as engines do.
func (b *simulatedContainer) maybeRestart() {
	p := b.host.RestartPolicy
	again := p.Name == "always" || p.Name == "unless-stopped" && !b.byHand ||
		p.Name == "on-failure" && b.state.ExitCode != 0 &&
			(p.MaximumRetryCount == 0 || b.restarts < p.MaximumRetryCount)
	if !again {
		return
	}
	b.state.Status, b.state.Restarting, b.state.Running = "restarting", true, true
	generation := b.generated
	time.AfterFunc(b.server.shorter(100*time.Millisecond<<min(b.restarts, 9)), func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if b.generated != generation || !b.state.Restarting {
			return
		}
		b.restarts++
		if err := b.begin(); err != nil {
			b.state.Error = err.Error()
		}
	})
}

func (b *simulatedContainer) stop() (int, any, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.byHand = true
	if b.state.Restarting {
		b.state.Restarting, b.state.Running, b.state.Status = false, false, "exited"
		return 204, nil, nil
	}
	if b.run == nil {
		return 304, nil, nil
	}
	b.end(143)
	return 204, nil, nil
}

func (b *simulatedContainer) kill(code int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.byHand, b.state.Restarting = true, false
	b.end(code)
}

func (b *simulatedContainer) running() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.state.Running
}

func update(b *simulatedContainer, r *http.Request) (int, any, error) {
	var ask struct{ RestartPolicy container.RestartPolicy }
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		return 400, nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if ask.RestartPolicy.Name != "" {
		b.host.RestartPolicy = ask.RestartPolicy
	}
	return 200, container.UpdateResponse{}, nil
}

// say adds a line to the log; the caller holds the lock.
func (b *simulatedContainer) say(text string) {
	b.log = append(b.log, line{time.Now(), text, false})
	b.tell()
}

// tell wakes those who follow the log.
func (b *simulatedContainer) tell() {
	close(b.changed)
	b.changed = make(chan struct{})
}

// logs streams the log in the frames of the engine API.
func (s *Server) logs(w http.ResponseWriter, r *http.Request) {
	b := s.find(r.PathValue("id"))
	if b == nil {
		w.WriteHeader(404)
		json.NewEncoder(w).Encode(map[string]string{"message": "No such container: " + r.PathValue("id")})
		return
	}
	q := r.URL.Query()
	since, until := moment(q.Get("since")), moment(q.Get("until"))
	stamps, _ := strconv.ParseBool(q.Get("timestamps"))
	follow, _ := strconv.ParseBool(q.Get("follow"))
	w.Header().Set("Content-Type", "application/vnd.docker.multiplexed-stream")
	w.WriteHeader(200)
	b.mu.Lock()
	at := 0
	if n, err := strconv.Atoi(q.Get("tail")); err == nil {
		at = max(0, len(b.log)-n)
	}
	b.mu.Unlock()
	for {
		b.mu.Lock()
		lines, running, changed := b.log[at:], b.run != nil, b.changed
		b.mu.Unlock()
		for _, l := range lines {
			at++
			if l.at.Before(since) || !until.IsZero() && l.at.After(until) {
				continue
			}
			text := l.text
			if stamps {
				text = l.at.UTC().Format(time.RFC3339Nano) + " " + text
			}
			stream := stdcopy.Stdout
			if l.stderr {
				stream = stdcopy.Stderr
			}
			writeFrame(w, stream, text)
		}
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
		if !follow || !running {
			return
		}
		select {
		case <-changed:
		case <-r.Context().Done():
			return
		}
	}
}

// moment reads a time of the API: seconds with their fraction; zero when there is none.
func moment(text string) time.Time {
	seconds, fraction, _ := strings.Cut(text, ".")
	n, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return time.Time{}
	}
	nano, _ := strconv.ParseInt((fraction + "000000000")[:9], 10, 64)
	return time.Unix(n, nano)
}

// writeFrame writes a line of a stream: a header of stream, three zeros and the length, then the line.
func writeFrame(w io.Writer, stream stdcopy.StdType, text string) {
	header := [8]byte{byte(stream)}
	binary.BigEndian.PutUint32(header[4:], uint32(len(text)+1))
	w.Write(header[:])
	fmt.Fprintln(w, text)
}

// program is what the container runs, as far as anybody said so.
func (b *simulatedContainer) program() string {
	if words := slices.Concat(b.config.Entrypoint, b.config.Cmd); len(words) > 0 {
		return words[0]
	}
	return ""
}

func (b *simulatedContainer) inspect() container.InspectResponse {
	b.server.mu.Lock()
	name := b.name
	b.server.mu.Unlock()
	b.mu.Lock()
	defer b.mu.Unlock()
	state, host := b.state, *b.host
	answer := container.InspectResponse{
		ID: b.id, Path: b.program(), Name: "/" + name, Created: b.created.UTC().Format(time.RFC3339Nano),
		State: &state, Image: b.imageID, RestartCount: b.restarts,
		Mounts: slices.Clone(b.unnamed), HostConfig: &host, Config: b.config,
		NetworkSettings: &container.NetworkSettings{Networks: map[string]*network.EndpointSettings{}},
	}
	answer.Mounts = append(answer.Mounts, mountPoints(&host)...)
	if answer.State.StartedAt == "" {
		answer.State.StartedAt = "0001-01-01T00:00:00Z"
	}
	for n, e := range b.networks {
		settings := &network.EndpointSettings{}
		if e != nil {
			settings.Aliases = e.Aliases
		}
		if b.run != nil {
			settings.IPAddress = b.address
		}
		answer.NetworkSettings.Networks[n] = settings
	}
	return answer
}

// summary is the container in a list; the caller holds the server's lock.
func (b *simulatedContainer) summary() (container.Summary, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	sum := container.Summary{
		ID: b.id, Names: []string{"/" + b.name}, Image: b.config.Image, ImageID: b.imageID,
		Labels: b.config.Labels, State: b.state.Status, Created: b.created.Unix(),
		NetworkSettings: &container.NetworkSettingsSummary{Networks: map[string]*network.EndpointSettings{}},
	}
	for n := range b.networks {
		sum.NetworkSettings.Networks[n] = &network.EndpointSettings{}
	}
	if b.run != nil {
		for port, bindings := range b.host.PortBindings {
			for _, binding := range bindings {
				public, _ := strconv.ParseUint(binding.HostPort, 10, 16)
				address := binding.HostIP
				if !address.IsValid() {
					address = netip.IPv4Unspecified()
				}
				sum.Ports = append(sum.Ports, container.PortSummary{
					IP:          address,
					PrivatePort: port.Num(),
					PublicPort:  uint16(public),
					Type:        string(port.Proto()),
				})
			}
		}
	}
	for _, m := range mountPoints(b.host) {
		m.Source = cmp.Or(m.Source, m.Name)
		sum.Mounts = append(sum.Mounts, m)
	}
	return sum, b.state.Running
}
