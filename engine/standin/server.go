package standin

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	dockerspec "github.com/moby/docker-image-spec/specs-go/v1"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/events"
	"github.com/moby/moby/api/types/image"
	"github.com/moby/moby/api/types/jsonstream"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/api/types/registry"
	"github.com/moby/moby/api/types/system"
	"github.com/moby/moby/api/types/volume"
	"github.com/opencontainers/go-digest"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
)

// Options says what a stand-in is like.
type Options struct {
	Catalogue Catalogue
	// Machine is what the machine is like that the engine runs on. Mounts of paths that it does not have are
	// refused. Without one, the paths of the real machine count and no machine facts are given.
	Machine *survey.Survey
	// Platform defaults to the real one.
	Platform string
	// PullSpeed is in bytes a second; 0 pulls at once.
	PullSpeed int64
	// Speed is how much faster than in the catalogue time runs for containers; 0 stands for 1.
	Speed float64
	// Before stands in front of the API and may let calls go wrong; nil: nothing does.
	Before func(http.Handler) http.Handler
}

// Server is a running stand-in.
type Server struct {
	options  Options
	http     *http.Server
	handler  http.Handler
	listener net.Listener
	base     byte         // second byte of its containers' addresses, 127.base.x.y
	claim    net.Listener // keeps other stand-ins of this machine off these addresses

	mu         sync.Mutex
	containers map[string]*simulatedContainer // by id
	networks   map[string]*network.Network
	volumes    map[string]*volume.Volume
	commands   map[string]*command // by the id of their exec
	statesMu   sync.Mutex
	states     map[string]string // folders of gates, by their volumes
	gates      map[string]string // references of images of gates, by their ids
	present    map[string]bool   // images on the host
	built      map[string]Image  // that were made here, by reference
	made       int
	hearers    sync.Map // of events: chan events.Message
}

// claimAddresses finds a range of loopback addresses, 127.base.x.y, that no other stand-in of this machine has.
func claimAddresses() (byte, net.Listener, error) {
	var err error
	for i := range 128 {
		base := byte(64 + (os.Getpid()+i)%128)
		var l net.Listener
		if l, err = net.Listen("tcp", fmt.Sprintf("127.%d.255.254:%d", base, claimPort)); err == nil {
			return base, l, nil
		}
	}
	return 0, nil, fmt.Errorf("no loopback addresses are free: %w", err)
}

// claimPort is not among those that kernels hand out by themselves.
const claimPort = 28710

// Start serves the API on a unix socket until Close. A socket that is left over is replaced.
func Start(socket string, o Options) (*Server, error) {
	if o.Platform == "" {
		o.Platform = "linux/" + runtime.GOARCH
	}
	s := &Server{
		options: o, containers: map[string]*simulatedContainer{}, networks: map[string]*network.Network{},
		volumes: map[string]*volume.Volume{}, commands: map[string]*command{}, present: map[string]bool{},
		built: map[string]Image{},
	}
	for reference, i := range o.Catalogue.Image {
		s.present[reference] = i.Present
	}
	s.networks["bridge"] = &network.Network{Name: "bridge", ID: newID(), Driver: "bridge"}
	if conn, err := net.DialTimeout("unix", socket, time.Second); err == nil {
		conn.Close()
		return nil, fmt.Errorf("something listens on %s already", socket)
	}
	os.Remove(socket)
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return nil, err
	}
	if s.base, s.claim, err = claimAddresses(); err != nil {
		listener.Close()
		return nil, err
	}
	s.handler = s.routes()
	handler := s.handler
	if o.Before != nil {
		handler = o.Before(handler)
	}
	s.http, s.listener = &http.Server{Handler: handler}, listener
	go s.http.Serve(listener)
	return s, nil
}

// Handler serves the API in this process, past all faults.
func (s *Server) Handler() http.Handler { return s.handler }

// Restart is what a restart of a real engine is for its containers: all end, and those start again whose
// policy says so. With always that is also one that was stopped by hand. A real engine starts them in no
// certain order; here the oldest comes first, or the newest.
func (s *Server) Restart(newestFirst bool) {
	s.mu.Lock()
	boxes := make([]*simulatedContainer, 0, len(s.containers))
	for _, b := range s.containers {
		boxes = append(boxes, b)
	}
	s.mu.Unlock()
	// Who lives in another one's network comes after it.
	slices.SortFunc(boxes, func(a, b *simulatedContainer) int {
		age := a.created.Compare(b.created)
		if newestFirst {
			age = -age
		}
		return cmp.Or(cmp.Compare(strings.Count(a.network, "container:"),
			strings.Count(b.network, "container:")), age)
	})
	again := map[*simulatedContainer]bool{}
	for _, b := range boxes {
		b.mu.Lock()
		ran := b.run != nil || b.state.Restarting
		switch p := b.host.RestartPolicy; p.Name {
		case "always":
			again[b] = ran || b.state.StartedAt != ""
		case "unless-stopped":
			again[b] = ran && !b.byHand
		case "on-failure":
			again[b] = ran
		}
		b.state.Restarting, b.state.Running = false, false
		b.end(143)
		b.mu.Unlock()
	}
	for _, b := range boxes {
		if again[b] && s.networksOf(b) == nil {
			b.mu.Lock()
			if err := b.begin(); err != nil {
				b.state.Error, b.state.ExitCode = err.Error(), 128
			}
			b.mu.Unlock()
		}
	}
}

// Close ends all containers and the API.
func (s *Server) Close() error {
	s.mu.Lock()
	boxes := make([]*simulatedContainer, 0, len(s.containers))
	for _, b := range s.containers {
		boxes = append(boxes, b)
	}
	s.mu.Unlock()
	for _, b := range boxes {
		b.kill(0)
	}
	s.statesMu.Lock()
	for _, folder := range s.states {
		os.RemoveAll(folder)
	}
	clear(s.states)
	s.statesMu.Unlock()
	s.claim.Close()
	// A caller that closes at once is faster than Serve, which until then has not told the server of its listener.
	s.listener.Close()
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if err := s.http.Shutdown(ctx); err != nil {
		return s.http.Close()
	}
	return nil
}

// apiVersion is that of the engine whose manners the stand-in has.
const apiVersion = "1.41"

// routes are the calls of the API that are answered.
func (s *Server) routes() http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, f answer) { mux.Handle(pattern, f) }
	mux.HandleFunc("/_ping", ping)
	handle("GET /version", s.version)
	handle("GET /info", s.info)
	handle("GET /containers/json", s.list)
	handle("POST /containers/create", s.create)
	handle("GET /containers/{id}/top", s.withBox(processes))
	handle("GET /containers/{id}/stats", s.withBox(s.stats))
	mux.HandleFunc("GET /events", s.events)
	handle("GET /containers/{id}/json",
		s.withBox(func(b *simulatedContainer, r *http.Request) (int, any, error) { return 200, b.inspect(), nil }))
	handle("POST /containers/{id}/start", s.withBox(s.start))
	handle("POST /containers/{id}/stop",
		s.withBox(func(b *simulatedContainer, r *http.Request) (int, any, error) { return b.stop() }))
	handle("POST /containers/{id}/kill", s.withBox(signal))
	handle("POST /containers/{id}/rename", s.withBox(s.rename))
	handle("POST /containers/{id}/update", s.withBox(update))
	handle("DELETE /containers/{id}", s.withBox(s.remove))
	mux.HandleFunc("GET /containers/{id}/logs", s.logs)
	handle("POST /containers/{id}/exec", s.withBox(s.createCommand))
	mux.HandleFunc("POST /exec/{id}/start", s.startCommand)
	handle("GET /exec/{id}/json", s.inspectCommand)
	mux.HandleFunc("HEAD /containers/{id}/archive", s.statPath)
	mux.HandleFunc("GET /containers/{id}/archive", s.getArchive)
	handle("PUT /containers/{id}/archive", s.withBox(s.putArchive))
	handle("GET /volumes", s.listVolumes)
	handle("POST /volumes/create", s.createVolume)
	handle("DELETE /volumes/{name}", s.removeVolume)
	handle("POST /networks/{name}/connect", s.connect)
	handle("POST /networks/{name}/disconnect", s.disconnect)
	handle("GET /networks", s.listNetworks)
	handle("POST /networks/create", s.createNetwork)
	handle("DELETE /networks/{name}", s.removeNetwork)
	mux.HandleFunc("POST /images/create", s.pull)
	mux.HandleFunc("POST /build", s.build)
	handle("GET /images/{name...}", s.inspectImage)
	handle("DELETE /images/{name...}", s.removeImage)
	handle("GET /distribution/{name...}", s.distribution)
	handle("GET "+engine.StandInMachine, s.machine)
	handle("GET "+engine.StandInTags, s.tags)
	handle("GET "+engine.StandInRepositories, s.repositories)
	handle("GET "+engine.StandInImage, s.registryImage)
	return unversioned(mux)
}

// answer is a call that is answered with a status and JSON.
type answer func(r *http.Request) (int, any, error)

func (f answer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	status, body, err := f(r)
	if err != nil {
		body = map[string]string{"message": err.Error()}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	if body != nil {
		json.NewEncoder(w).Encode(body)
	}
}

func ping(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Api-Version", apiVersion)
	w.Header().Set("Ostype", "linux")
	w.Header().Set("Server", engine.StandInName+"/1")
	fmt.Fprint(w, "OK")
}

// machine tells of the machine that is stood in for.
func (s *Server) machine(*http.Request) (int, any, error) {
	if s.options.Machine == nil {
		return 404, nil, errors.New("this stand-in stands in for no machine")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	facts := *s.options.Machine // folders may be added while it is written
	facts.Paths = slices.Clone(facts.Paths)
	return 200, &facts, nil
}

// unversioned takes the version in front of a path away: it changes nothing here.
func unversioned(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if rest, ok := strings.CutPrefix(r.URL.Path, "/v1."); ok {
			_, rest, _ = strings.Cut(rest, "/")
			r.URL.Path, r.URL.RawPath = "/"+rest, ""
		}
		h.ServeHTTP(w, r)
	})
}

func (s *Server) version(*http.Request) (int, any, error) {
	system, arch, _ := strings.Cut(s.options.Platform, "/")
	return 200, map[string]any{
		"Version": "1", "ApiVersion": apiVersion, "MinAPIVersion": "1.41", "Os": system, "Arch": arch,
		"Components": []map[string]string{{"Name": engine.StandInName, "Version": "1"}},
	}, nil
}

func (s *Server) info(*http.Request) (int, any, error) {
	system1, arch, _ := strings.Cut(s.options.Platform, "/")
	i := system.Info{
		Name:          "stand-in",
		OSType:        system1,
		Architecture:  arch,
		NCPU:          runtime.NumCPU(),
		DockerRootDir: "/var/lib/stand-in",
		MemTotal:      8 << 30,
	}
	if m := s.options.Machine; m != nil {
		i.NCPU, i.MemTotal = max(m.CPUs, 1), m.Memory
	}
	return 200, i, nil
}

// inspectImage answers /images/NAME/json; names hold slashes.
func (s *Server) inspectImage(r *http.Request) (int, any, error) {
	name, ok := strings.CutSuffix(r.PathValue("name"), "/json")
	if !ok {
		return 404, nil, errors.New("page not found")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	reference, i, ok := s.image(name)
	if !ok {
		return 404, nil, fmt.Errorf("No such image: %s", name)
	}
	return 200, s.declared(reference, i), nil
}

// registryImage answers what an image of the catalogue declares, whether it is on the host or not.
func (s *Server) registryImage(r *http.Request) (int, any, error) {
	reference := r.URL.Query().Get("of")
	i, ok := s.options.Catalogue.Image[reference]
	if !ok {
		return 404, nil, fmt.Errorf("No such image: %s", reference)
	}
	return 200, s.declared(reference, i), nil
}

// declared is an image as it is inspected.
func (s *Server) declared(reference string, i Image) image.InspectResponse {
	platform := i.Platform
	if platform == "" {
		platform = s.options.Platform
	}
	system, arch, _ := strings.Cut(platform, "/")
	answer := image.InspectResponse{
		ID:           i.id(reference),
		RepoTags:     []string{reference},
		RepoDigests:  []string{repositoryOf(reference) + "@" + i.id(reference)},
		Os:           system,
		Architecture: arch,
	}
	answer.Config = &dockerspec.DockerOCIImageConfig{}
	if i.Check != nil {
		answer.Config.Healthcheck = &dockerspec.HealthcheckConfig{Test: append([]string{"CMD"}, i.Check...)}
	}
	answer.Config.User, answer.Config.Labels = i.User, i.Labels
	for _, p := range i.Ports {
		if answer.Config.ExposedPorts == nil {
			answer.Config.ExposedPorts = map[string]struct{}{}
		}
		answer.Config.ExposedPorts[p] = struct{}{}
	}
	for _, v := range i.Volumes {
		if answer.Config.Volumes == nil {
			answer.Config.Volumes = map[string]struct{}{}
		}
		answer.Config.Volumes[v] = struct{}{}
	}
	for k, v := range i.Env {
		answer.Config.Env = append(answer.Config.Env, k+"="+v)
	}
	slices.Sort(answer.Config.Env)
	for _, size := range i.Layers {
		answer.Size += size
	}
	return answer
}

// image finds an image that is on the host, by reference or id.
func (s *Server) image(name string) (string, Image, bool) {
	if isGateImage(name) {
		if s.gates == nil {
			s.gates = map[string]string{}
		}
		s.gates[gateImage.id(name)] = name
		return name, gateImage, true
	}
	if reference, ok := s.gates[name]; ok {
		return reference, gateImage, true
	}
	for reference, i := range s.built {
		if reference == name || i.id("") == name {
			return reference, i, true
		}
	}
	for reference, i := range s.options.Catalogue.Image {
		if s.present[reference] && (reference == name || i.id(reference) == name) {
			return reference, i, true
		}
	}
	return "", Image{}, false
}

func (s *Server) removeImage(r *http.Request) (int, any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	reference, i, ok := s.image(r.PathValue("name"))
	if !ok {
		return 404, nil, fmt.Errorf("No such image: %s", r.PathValue("name"))
	}
	for _, b := range s.containers {
		if b.imageID == i.id(reference) && b.running() {
			return 409, nil,
				fmt.Errorf(
					"conflict: unable to delete %s (cannot be forced) - image is being used "+
						"by running container %s", reference, b.id[:12])
		}
	}
	s.present[reference] = false
	delete(s.built, reference)
	return 200, []image.DeleteResponse{{Deleted: i.id(reference)}}, nil
}

func (s *Server) distribution(r *http.Request) (int, any, error) {
	name := strings.TrimSuffix(r.PathValue("name"), "/json")
	i, ok := s.options.Catalogue.Image[name]
	if !ok {
		return 404, nil, fmt.Errorf("manifest unknown: manifest unknown")
	}
	var answer registry.DistributionInspect
	answer.Descriptor.MediaType = "application/vnd.oci.image.manifest.v1+json"
	answer.Descriptor.Digest = digest.Digest(i.id(name))
	return 200, answer, nil
}

// tags tells which tags the catalogue has of an image's repository.
func (s *Server) tags(r *http.Request) (int, any, error) {
	repository, all := repositoryOf(r.URL.Query().Get("of")), []string{}
	for reference := range s.options.Catalogue.Image {
		if tag, ok := strings.CutPrefix(reference, repository+":"); ok {
			all = append(all, tag)
		}
	}
	return 200, all, nil
}

// repositories tells which names the catalogue has in an image's registry.
func (s *Server) repositories(r *http.Request) (int, any, error) {
	at, _, _ := strings.Cut(r.URL.Query().Get("of"), "/")
	all := []string{}
	for reference := range s.options.Catalogue.Image {
		if name, ok := strings.CutPrefix(repositoryOf(reference), at+"/"); ok && !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	return 200, all, nil
}

// repositoryOf returns a reference without tag and digest.
func repositoryOf(reference string) string {
	repository, _, _ := strings.Cut(reference, "@")
	if i := strings.LastIndexByte(repository, ':'); i > strings.LastIndexByte(repository, '/') {
		repository = repository[:i]
	}
	return repository
}

// pull streams progress, layer by layer, at the set speed.
func (s *Server) pull(w http.ResponseWriter, r *http.Request) {
	reference := r.URL.Query().Get("fromImage")
	if tag := r.URL.Query().Get("tag"); tag != "" {
		separator := ":"
		if strings.Contains(tag, ":") {
			separator = "@"
		}
		reference += separator + tag
	}
	i, ok := s.options.Catalogue.Image[reference]
	if !ok {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(500)
		json.NewEncoder(w).Encode(map[string]string{
			"message": fmt.Sprintf("manifest for %s not found: manifest unknown: manifest unknown", reference),
		})
		return
	}
	w.Header().Set("Content-Type", "application/json")
	say := func(m jsonstream.Message) {
		json.NewEncoder(w).Encode(m)
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
	}
	say(jsonstream.Message{Status: "Pulling from " + path.Dir(reference)})
	layerID := func(n int) string { return fmt.Sprintf("%s-%d", i.id(reference)[7:15], n) }
	for n := range i.Layers {
		say(jsonstream.Message{ID: layerID(n), Status: "Pulling fs layer"})
	}
	for n, size := range i.Layers {
		layer := layerID(n)
		const parts = 10
		for p := int64(1); p <= parts && s.options.PullSpeed > 0; p++ {
			select {
			case <-r.Context().Done():
				return
			case <-time.After(time.Duration(size / parts * int64(time.Second) / s.options.PullSpeed)):
			}
			say(jsonstream.Message{
				ID:       layer,
				Status:   "Downloading",
				Progress: &jsonstream.Progress{Current: size * p / parts, Total: size},
			})
		}
		say(jsonstream.Message{ID: layer, Status: "Pull complete"})
	}
	s.mu.Lock()
	s.present[reference] = true
	s.mu.Unlock()
	say(jsonstream.Message{Status: "Status: Downloaded newer image for " + reference})
}

// withBox finds the container of a request by id, start of an id, or name.
func (s *Server) withBox(f func(*simulatedContainer,
	*http.Request) (int, any, error)) func(*http.Request) (int, any, error) {
	return func(r *http.Request) (int, any, error) {
		b := s.find(r.PathValue("id"))
		if b == nil {
			return 404, nil, fmt.Errorf("No such container: %s", r.PathValue("id"))
		}
		return f(b, r)
	}
}

func (s *Server) find(name string) *simulatedContainer {
	s.mu.Lock()
	defer s.mu.Unlock()
	if b := s.containers[name]; b != nil {
		return b
	}
	for id, b := range s.containers {
		if b.name == strings.TrimPrefix(name, "/") || len(name) >= 12 && strings.HasPrefix(id, name) {
			return b
		}
	}
	return nil
}

func (s *Server) list(r *http.Request) (int, any, error) {
	labels, err := labelFilter(r)
	if err != nil {
		return 400, nil, err
	}
	all := r.URL.Query().Get("all") == "1"
	s.mu.Lock()
	defer s.mu.Unlock()
	list := []container.Summary{}
	for _, b := range s.containers {
		summary, running := b.summary()
		if (all || running) && matches(labels, summary.Labels) {
			list = append(list, summary)
		}
	}
	return 200, list, nil
}

// labelFilter returns what a list is asked for by labels.
func labelFilter(r *http.Request) (map[string]bool, error) {
	var filters map[string]map[string]bool
	text := r.URL.Query().Get("filters")
	if text == "" {
		return nil, nil
	}
	err := json.Unmarshal([]byte(text), &filters)
	return filters["label"], err
}

// matches reports whether labels fit a filter: each of NAME or NAME=VALUE.
func matches(filter map[string]bool, labels map[string]string) bool {
	for f := range filter {
		name, value, valued := strings.Cut(f, "=")
		have, ok := labels[name]
		if !ok || valued && have != value {
			return false
		}
	}
	return true
}

func (s *Server) rename(b *simulatedContainer, r *http.Request) (int, any, error) {
	name := r.URL.Query().Get("name")
	s.mu.Lock()
	defer s.mu.Unlock()
	if taken := s.named(name); taken != nil {
		return 409, nil, conflict(name, taken.id)
	}
	b.name = name
	s.tellOf(b, events.ActionRename)
	return 204, nil, nil
}

func (s *Server) named(name string) *simulatedContainer {
	for _, b := range s.containers {
		if b.name == name {
			return b
		}
	}
	return nil
}

func conflict(name, id string) error {
	return fmt.Errorf(
		"Conflict. The container name %q is already in use by container %q. You have to remove (or rename) "+
			"that container to be able to reuse that name.", "/"+name, id)
}

func (s *Server) remove(b *simulatedContainer, r *http.Request) (int, any, error) {
	if b.running() {
		if force, _ := strconv.ParseBool(r.URL.Query().Get("force")); !force {
			return 409, nil,
				fmt.Errorf(
					"You cannot remove a running container %s. Stop the container before attempting "+
						"removal or force remove", b.id)
		}
		b.kill(137)
	}
	s.mu.Lock()
	delete(s.containers, b.id)
	if with, _ := strconv.ParseBool(r.URL.Query().Get("v")); with {
		for _, m := range b.unnamed {
			delete(s.volumes, m.Name)
		}
	}
	s.mu.Unlock()
	s.tellOf(b, events.ActionDestroy)
	return 204, nil, nil
}
