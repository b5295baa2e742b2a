// Package host makes surveys: what is true of a machine, read from its files, its kernel and its engine.
package host

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/hostconn"
	"proudlantern.example/lantern/registry"
)

// Survey looks at a host. What the lab wants to know of it is asked once accounts and zone are known, because
// paths may depend on them; logins are the credentials for the registries of its images. The survey is usable
// even with an error, which is then an *[engine.Unreachable]: it holds what is known without the engine.
func Survey(ctx context.Context, h *lab.Host, logins *registry.Logins,
	ask func(*survey.Survey) survey.Ask) (s *survey.Survey, err error) {
	s = &survey.Survey{
		Survey:  survey.Version,
		Host:    h.Name,
		Taken:   time.Now().UTC().Truncate(time.Second),
		Unknown: map[string]string{},
	}
	e, err := engine.DialHost(ctx, h)
	if err != nil {
		s.Unknown["engine"] = err.Error()
		var known *engine.Unreachable
		if errors.As(err, &known) {
			s.Unknown["engine"], s.Sockets = known.Because, known.Sockets
			if known.Host {
				s.Unknown["host"], s.Unknown["engine"] = known.Because, "its machine cannot be reached"
			}
		}
		if hostconn.Here(h.Engine) {
			readFiles(hostconn.Local, s, ask)
		} else {
			ask(s)
		}
		return s, err
	}
	defer e.Close()
	e.Logins = logins
	// One that answers at first, and then does not, is as good as none.
	defer func() {
		if err != nil && s.Unknown["engine"] == "" {
			s.Unknown["engine"] = err.Error()
		}
	}()
	if machine, err := e.Machine(ctx); err != nil {
		return s, err
	} else if machine != nil {
		return surveyStandIn(ctx, e, s, machine, ask)
	}
	if e.Conn.Files == nil {
		s.Unknown["machine"] = "an engine that is reached like this tells nothing of its machine's accounts, folders and ports"
		return s, surveyEngine(ctx, e, s, ask(s))
	}
	return s, surveyEngine(ctx, e, s, readFiles(e.Conn.Files, s, ask))
}

// readFiles reads what the files of the host say, and returns what else the lab asks for.
func readFiles(from hostconn.Files, s *survey.Survey, ask func(*survey.Survey) survey.Ask) survey.Ask {
	readMachine(from, s)
	wanted := ask(s)
	readPaths(from, s, wanted.Paths)
	readDevices(from, s, wanted.Devices)
	return wanted
}

// surveyStandIn takes the facts of the machine from the stand-in engine: it stands in for the whole host.
func surveyStandIn(ctx context.Context, e *engine.Engine, s, machine *survey.Survey,
	ask func(*survey.Survey) survey.Ask) (*survey.Survey, error) {
	s.Timezone, s.UnprivilegedPortStart = machine.Timezone, machine.UnprivilegedPortStart
	s.Accounts, s.Groups, s.Listeners, s.FileSystems = machine.Accounts, machine.Groups, machine.Listeners,
		machine.FileSystems
	s.Routes, s.Devices = machine.Routes, machine.Devices
	wanted := ask(s)
	known := map[string]survey.Path{}
	var names []string
	for _, p := range machine.Paths {
		known[p.Path] = p
		names = append(names, p.Path)
	}
	for _, p := range withParents(wanted.Paths) {
		if found, ok := known[p]; ok {
			s.Paths = append(s.Paths, found)
		} else {
			s.Paths = append(s.Paths, survey.Path{
				Path: p,
				Kind: survey.Missing,
				Near: beside(p, nearAmong(p, names)),
			})
		}
	}
	return s, surveyEngine(ctx, e, s, wanted)
}

// surveyEngine reads what the engine holds.
func surveyEngine(ctx context.Context, e *engine.Engine, s *survey.Survey, wanted survey.Ask) error {
	if err := e.Facts(ctx, s); err != nil {
		return err
	}
	var err error
	if s.Engine.Rootless {
		readIDMaps(e.Conn.Files, s, e.Conn.Socket, "/etc/subuid", "/etc/subgid")
	}
	if s.Containers, err = e.Survey(ctx); err != nil {
		return err
	}
	if s.Networks, err = e.Networks(ctx, ""); err != nil {
		return err
	}
	if s.Volumes, err = e.Volumes(ctx); err != nil {
		return err
	}
	nameContainers(s)
	readVolumes(ctx, e, s, wanted.Volumes)
	readImages(ctx, e, s, wanted.Images)
	return nil
}

// nameContainers says of each listener whether it is the engine's forwarder for a container.
func nameContainers(s *survey.Survey) {
	type key struct {
		protocol, address string // the address "" for all of them
		port              int
	}
	all := func(address string) string {
		if a, err := netip.ParseAddr(address); err == nil && a.IsUnspecified() {
			return ""
		}
		return address
	}
	owner := map[key]string{}
	for _, c := range s.Containers {
		for _, p := range c.Published() {
			owner[key{p.Protocol, all(p.Address), p.Port}] = c.Name
		}
	}
	for i, l := range s.Listeners {
		if l.Container == "" {
			s.Listeners[i].Container = owner[key{l.Protocol, all(l.Address), l.Port}]
		}
	}
}
