package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/api/types/volume"
)

func (s *Server) listNetworks(r *http.Request) (int, any, error) {
	labels, err := labelFilter(r)
	if err != nil {
		return 400, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	list := []network.Summary{}
	for _, n := range s.networks {
		if matches(labels, n.Labels) {
			list = append(list, network.Summary{Network: *n})
		}
	}
	return 200, list, nil
}

func (s *Server) createNetwork(r *http.Request) (int, any, error) {
	var ask network.CreateRequest
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		return 400, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.networks[ask.Name] != nil {
		return 409, nil, fmt.Errorf("network with name %s already exists", ask.Name)
	}
	n := &network.Network{
		Name:     ask.Name,
		ID:       newID(),
		Driver:   "bridge",
		Labels:   ask.Labels,
		Created:  time.Now(),
		Internal: ask.Internal,
	}
	if ask.IPAM != nil {
		n.IPAM = *ask.IPAM
		for _, o := range s.networks {
			if slices.ContainsFunc(o.IPAM.Config, func(a network.IPAMConfig) bool {
				return slices.ContainsFunc(n.IPAM.Config, func(b network.IPAMConfig) bool {
					return overlap(a.Subnet, b.Subnet)
				})
			}) {
				return 403, nil, fmt.Errorf("Pool overlaps with other one on this address space")
			}
		}
	}
	s.networks[ask.Name] = n
	return 201, network.CreateResponse{ID: n.ID}, nil
}

func overlap(a, b netip.Prefix) bool { return a.IsValid() && b.IsValid() && a.Overlaps(b) }

func (s *Server) removeNetwork(r *http.Request) (int, any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name := r.PathValue("name")
	for _, n := range s.networks {
		if n.ID == name {
			name = n.Name
		}
	}
	if s.networks[name] == nil {
		return 404, nil, fmt.Errorf("network %s not found", name)
	}
	for _, b := range s.containers {
		b.mu.Lock()
		used := b.state.Running && b.networks[name] != nil
		b.mu.Unlock()
		if used { // a member that does not run does not count
			return 403, nil,
				fmt.Errorf("error while removing network: network %s id %s has active endpoints",
					name, s.networks[name].ID)
		}
	}
	delete(s.networks, name)
	return 204, nil, nil
}

// connect puts a container on a further network.
func (s *Server) connect(r *http.Request) (int, any, error) {
	var ask network.ConnectRequest
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		return 400, nil, err
	}
	name := r.PathValue("name")
	b := s.find(ask.Container)
	s.mu.Lock()
	defer s.mu.Unlock()
	if b == nil || s.networks[name] == nil {
		return 404, nil, fmt.Errorf("network %s not found", name)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.networks[name] != nil {
		return 403, nil, fmt.Errorf("endpoint with name %s already exists in network %s", b.name, name)
	}
	b.networks[name] = ask.EndpointConfig
	if b.networks[name] == nil {
		b.networks[name] = &network.EndpointSettings{}
	}
	return 200, nil, nil
}

func (s *Server) disconnect(r *http.Request) (int, any, error) {
	var ask network.DisconnectRequest
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		return 400, nil, err
	}
	name := r.PathValue("name")
	b := s.find(ask.Container)
	s.mu.Lock()
	defer s.mu.Unlock()
	if b == nil || s.networks[name] == nil {
		return 404, nil, fmt.Errorf("network %s not found", name)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.networks[name] == nil {
		return 403, nil, fmt.Errorf("container %s is not connected to network %s", b.id, name)
	}
	delete(b.networks, name)
	return 200, nil, nil
}

func (s *Server) listVolumes(*http.Request) (int, any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	answer := volume.ListResponse{Volumes: []volume.Volume{}}
	for _, v := range s.volumes {
		answer.Volumes = append(answer.Volumes, *v)
	}
	return 200, answer, nil
}

// createVolume gives back one that is there, as real engines do.
func (s *Server) createVolume(r *http.Request) (int, any, error) {
	var ask volume.CreateRequest
	if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
		return 400, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.volumes[ask.Name] == nil {
		s.volumes[ask.Name] = &volume.Volume{
			Name:    ask.Name,
			Driver:  ask.Driver,
			Labels:  ask.Labels,
			Options: ask.DriverOpts,
			Scope:   "local",
		}
	}
	return 201, *s.volumes[ask.Name], nil
}

func (s *Server) removeVolume(r *http.Request) (int, any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name := r.PathValue("name")
	if s.volumes[name] == nil {
		return 404, nil, fmt.Errorf("get %s: no such volume", name)
	}
	for _, b := range s.containers {
		for _, m := range mountPoints(b.host) {
			if m.Name == name {
				return 409, nil, fmt.Errorf("remove %s: volume is in use - [%s]", name, b.id)
			}
		}
	}
	delete(s.volumes, name)
	s.forgetState(name)
	return 204, nil, nil
}

// addVolumes makes the volumes that a container mounts and that do not exist yet, as real engines do; the
// caller holds the lock.
func (s *Server) addVolumes(host *container.HostConfig) {
	for _, m := range mountPoints(host) {
		if m.Type == mount.TypeVolume && s.volumes[m.Name] == nil {
			s.volumes[m.Name] = &volume.Volume{Name: m.Name, Driver: "local", Scope: "local"}
		}
	}
}

// mountPoints returns what a container mounts, declared in the newer way or in the older one, memory aside.
func mountPoints(host *container.HostConfig) []container.MountPoint {
	var all []container.MountPoint
	add := func(kind mount.Type, source, target string, readOnly bool) {
		m := container.MountPoint{Type: kind, Source: source, Destination: target, RW: !readOnly}
		if kind == mount.TypeVolume {
			m.Name, m.Source = source, ""
		}
		all = append(all, m)
	}
	for _, m := range host.Mounts {
		if m.Type != mount.TypeTmpfs {
			add(m.Type, m.Source, m.Target, m.ReadOnly)
		}
	}
	for _, b := range host.Binds {
		source, rest, _ := strings.Cut(b, ":")
		target, options, _ := strings.Cut(rest, ":")
		kind := mount.TypeBind
		if !strings.HasPrefix(source, "/") {
			kind = mount.TypeVolume
		}
		add(kind, source, target, slices.Contains(strings.Split(options, ","), "ro"))
	}
	return all
}
