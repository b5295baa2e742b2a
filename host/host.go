// Package host makes surveys: what is true of a machine, read from its files, its kernel and its engine.
package host

import (
	"context"
	"errors"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

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
	e, files, asked, err := dial(ctx, h, s, ask)
	if err != nil {
		s.Unknown["engine"] = err.Error()
		var known *engine.Unreachable
		if errors.As(err, &known) {
			s.Unknown["engine"], s.Sockets, s.Do = known.Because, known.Sockets, known.Do
			if known.Host {
				s.Unknown["host"], s.Unknown["engine"] = known.Because, "its machine cannot be reached"
			}
			var changed *hostconn.ChangedKeyError
			if errors.As(err, &changed) {
				s.Unknown["host-key"] = known.Because
			}
		}
		if files := hostconn.LocalFiles(); hostconn.Here(h.Engine) && files != nil {
			readFiles(files, s, ask)
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
	// The engine and the files of the machine know nothing of each other, and each takes its time.
	if files == nil {
		files = hostconn.NewAhead(e.Conn.Files)
	}
	defer files.Close()
	engines := &survey.Survey{Unknown: map[string]string{}}
	var lists error
	var asking sync.WaitGroup
	asking.Go(func() { lists = readEngine(ctx, e, engines) })
	asked()
	wanted := readFiles(files, s, ask)
	asking.Wait()
	if lists != nil {
		return s, lists
	}
	takeOver(s, engines)
	return s, furtherFromEngine(ctx, e, files, s, wanted)
}

// dial connects to a host's engine. Of a machine far away it asks the files at the same time, which need no engine; asked
// waits for the answers.
func dial(ctx context.Context, h *lab.Host, s *survey.Survey,
	ask func(*survey.Survey) survey.Ask) (e *engine.Engine, files *hostconn.Ahead, asked func(), err error) {
	if hostconn.Here(h.Engine) {
		e, err = engine.DialHost(ctx, h)
		return e, nil, func() {}, err
	}
	way, err := hostconn.Open(ctx, h)
	if err != nil {
		return nil, nil, nil, err
	}
	var asking sync.WaitGroup
	if way.Files != nil {
		files = hostconn.NewAhead(way.Files)
		asking.Go(func() { askAhead(files, ask(&survey.Survey{Host: s.Host, Unknown: map[string]string{}})) })
	}
	if e, err = engine.Over(ctx, way); err != nil {
		if asking.Wait(); files != nil {
			files.Close()
		}
	}
	return e, files, asking.Wait, err
}

// takeOver adds what the engine knows.
func takeOver(s, engines *survey.Survey) {
	s.Engine, s.Platform, s.Memory, s.CPUs = engines.Engine, engines.Platform, engines.Memory, engines.CPUs
	s.Containers, s.Networks, s.Volumes = engines.Containers, engines.Networks, engines.Volumes
}

// askAhead asks at the same time for what a survey is made of.
func askAhead(files *hostconn.Ahead, wanted survey.Ask) {
	var questions []func()
	for _, p := range []string{"/etc/passwd", "/etc/group"} {
		questions = append(questions, func() { files.Read(p, mostAccounts) })
	}
	for _, p := range []string{"/etc/timezone", "/etc/fstab", "/proc/self/mountinfo", "/proc/sys/net/ipv4/ip_unprivileged_port_start",
		"/proc/sys/net/ipv4/ip_local_port_range"} {
		questions = append(questions, func() { files.Read(p, mostFacts) })
	}
	questions = append(questions, func() { files.Proc() }, func() { files.Real("/etc/localtime") }, func() { files.Link("/etc/localtime") })
	for _, p := range withParents(wanted.Paths) {
		questions = append(questions, func() { files.Stat(p) }, func() { files.Real(p) })
	}
	for _, p := range wanted.Devices {
		questions = append(questions, func() { files.Stat(p) })
	}
	questions = append(questions, func() { files.Space("/") })
	files.Ask(questions...)
	// Beside what is missing something may be that was meant.
	questions = nil
	for _, p := range withParents(wanted.Paths) {
		if _, err := files.Stat(p); errors.Is(err, fs.ErrNotExist) {
			questions = append(questions, func() { files.Lstat(p) }, func() { files.Lstat(path.Dir(p)) },
				func() { files.Names(path.Dir(p), 0) })
		} else {
			questions = append(questions, func() { files.Lstat(p) })
		}
	}
	if slices.ContainsFunc(wanted.Paths, func(p string) bool {
		_, err := files.Stat(p)
		return errors.Is(err, fs.ErrNotExist)
	}) {
		files.Ask(questions...)
	}
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
	s.Routes, s.Devices, s.Addresses, s.Names = machine.Routes, machine.Devices, machine.Addresses, machine.Names
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
	if err := readEngine(ctx, e, s); err != nil {
		return err
	}
	return furtherFromEngine(ctx, e, e.Conn.Files, s, wanted)
}

// readEngine reads what the engine says of itself, and its lists, all at the same time.
func readEngine(ctx context.Context, e *engine.Engine, s *survey.Survey) error {
	var work errgroup.Group
	work.Go(func() error { return e.Facts(ctx, s) })
	work.Go(func() (err error) {
		s.Containers, err = e.Survey(ctx)
		return err
	})
	work.Go(func() (err error) {
		s.Networks, err = e.Networks(ctx, "")
		return err
	})
	work.Go(func() (err error) {
		s.Volumes, err = e.Volumes(ctx)
		return err
	})
	return work.Wait()
}

// furtherFromEngine reads what only what is known of the engine and the lab tells to ask for.
func furtherFromEngine(ctx context.Context, e *engine.Engine, files hostconn.Files, s *survey.Survey, wanted survey.Ask) error {
	if s.Engine.Rootless {
		if len(s.Engine.UIDMap) == 0 {
			readIDMaps(files, s, e.Conn.Socket, "/etc/subuid", "/etc/subgid")
		}
		readLinger(files, s, "/run/systemd/system", "/var/lib/systemd/linger")
	}
	nameContainers(s)
	var asking sync.WaitGroup
	asking.Go(func() { readVolumes(ctx, e, files, s, wanted.Volumes) })
	asking.Go(func() { readImages(ctx, e, s, wanted) })
	asking.Go(func() { readNames(ctx, e.Conn, files, s, wanted.Names) })
	asking.Wait()
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
