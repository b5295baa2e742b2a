// Package engine talks to a container engine through its public HTTP API (Docker Engine API, 1.41 and newer)
// over a unix socket or tcp, and translates between declared containers and those of the engine.
package engine

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/moby/moby/client"
	"github.com/moby/moby/client/pkg/versions"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
	"proudlantern.example/lantern/registry"
)

// OldestAPI is the oldest version of the API that is spoken.
const OldestAPI = "1.41"

// Engine is a connection to a container engine.
type Engine struct {
	Conn *hostconn.Conn // the way to its host; never nil

	// CallTimeout is how long a call may take before its outcome counts as unknown; streams, and the time
	// that a container has for stopping, aside.
	CallTimeout time.Duration

	// Logins are the credentials for registries that are brought along; never nil.
	Logins *registry.Logins

	api     *client.Client
	apiVer  string
	can     capabilities
	standIn bool

	rootless func(context.Context) bool // asked once
	slots    chan struct{}              // see [capabilities]
	libpod   libpod                     // what Podman's service tells of itself
	images   sync.Map                   // labels of images, by id
}

// defaultCallTimeout is ample: a machine that has much to do answers late, and a call that was given up goes
// on in the engine.
const defaultCallTimeout = 2 * time.Minute

// passing matches what Podman's service answers to a question when a process of a container ends while it looks at it: it
// did not get as far as seeing the end. Asked again, it does.
var passing = regexp.MustCompile(`/proc/\d+/\S+: no such process`)

// reads are calls that change nothing, so that they can be made again; passes is how often.
var reads = []string{"inspect", "list", "containers", "sizes", "stats", "top"}

const passes = 5

// call makes one call, and gives up waiting for an answer after Patience and more. Its outcome is then unknown.
func (e *Engine) call(ctx context.Context, name string, more time.Duration, f func(context.Context) error) error {
	limited, cancel := context.WithTimeout(ctx, e.CallTimeout+more)
	defer cancel()
	err := f(limited)
	for range passes {
		if err == nil || !slices.Contains(reads, name) || !passing.MatchString(err.Error()) {
			break
		}
		time.Sleep(100 * time.Millisecond)
		err = f(limited)
	}
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		return &Error{
			Call:    name,
			Message: fmt.Sprintf("the engine has not answered to %s for %s", name, e.CallTimeout+more),
			kind:    ErrUnknownOutcome,
			err:     err,
		}
	}
	return explain(name, err)
}

// settles is how long the effect of a call is waited for whose outcome is unknown: an engine that has much to
// do carries it out although no caller waits any more.
const settles = 15 * time.Second

// change makes a call that changes something. An interrupt waits for its end: a call that is given up
// happens all the same, and then later than what comes after it. Where its answer is lost, or comes too late,
// happened reports whether the engine has carried it out; that is asked until it has, or for a while. An error
// that wraps [ErrUnknownOutcome] is returned when nothing of it was seen.
func (e *Engine) change(ctx context.Context, name string, more time.Duration, f func(context.Context) error,
	happened func(context.Context) (bool, error)) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	err := e.call(ctx, name, more, f)
	if !errors.Is(err, ErrUnknownOutcome) {
		return err
	}
	for until := time.Now().Add(min(settles, 10*e.CallTimeout)); ; time.Sleep(100 * time.Millisecond) {
		done, lost := happened(ctx)
		switch {
		case lost == nil && done:
			return nil
		case lost != nil, time.Now().After(until):
			return err // the engine is gone, or nothing has come of it
		}
	}
}

// Unreachable tells that no engine answers at an address.
type Unreachable = hostconn.Unreachable

// DialHost connects to the engine of a host. The error is an *[Unreachable].
func DialHost(ctx context.Context, h *lab.Host) (*Engine, error) {
	way, err := hostconn.Open(ctx, h)
	if err != nil {
		return nil, err
	}
	return Over(ctx, way)
}

// Dial connects to the engine at an address, the usual one when it is empty. The error is an *[Unreachable].
func Dial(ctx context.Context, address string) (*Engine, error) {
	way, err := hostconn.OpenAddress(ctx, address)
	if err != nil {
		return nil, err
	}
	return Over(ctx, way)
}

// Over connects to the engine of the host that a way leads to. The error is an *[Unreachable].
func Over(ctx context.Context, way *hostconn.Conn) (*Engine, error) {
	unreachable := func(err error, because, do string) error {
		return &Unreachable{Address: way.Address, Because: because, Do: do, Err: err}
	}
	waits := patienceOf()
	// The client knows of no encryption and of no limits: both are in the connection.
	host := way.Address
	if strings.HasPrefix(host, "ssh://") { // which the client knows nothing of; where it leads to is in the connection
		host = "unix://" + way.Socket
	}
	// Making a connection takes its time, too: those that were made are kept for what is asked next.
	pool := &http.Transport{
		MaxIdleConns: idleConnections, MaxIdleConnsPerHost: idleConnections, IdleConnTimeout: 30 * time.Second,
		// Without it the client takes the connection for one that it has to encrypt.
		TLSNextProto: map[string]func(string, *tls.Conn) http.RoundTripper{},
	}
	api, err := client.New(client.WithHTTPClient(&http.Client{Transport: pool, CheckRedirect: client.CheckRedirect}),
		client.WithHost(host), client.WithUserAgent("lantern"),
		client.WithScheme("http"), client.WithDialContext(func(ctx context.Context, _, _ string) (net.Conn, error) {
			c, err := way.Engine(ctx)
			if err != nil {
				return nil, err
			}
			return &conn{Conn: c, idle: 10 * waits}, nil
		}))
	if err != nil {
		return nil, unreachable(err, "the address cannot be used: "+err.Error(), "")
	}
	e := &Engine{CallTimeout: waits, Conn: way, Logins: &registry.Logins{}, api: api, can: usual}
	var once sync.Once
	var without bool
	e.rootless = func(ctx context.Context) bool {
		once.Do(func() { without = e.askRootless(ctx) })
		return without
	}
	if err := e.greet(ctx); err != nil {
		api.Close()
		return nil, err
	}
	return e, nil
}

// idleConnections is how many connections to an engine are kept that nothing is asked over.
const idleConnections = 64

// greet finds out whether an engine answers, and which one it is.
func (e *Engine) greet(ctx context.Context) error {
	unreachable := func(err error, because, do string) error {
		return &Unreachable{Address: e.Conn.Address, Because: because, Do: do, Err: err}
	}
	ctx, cancel := context.WithTimeout(ctx, min(e.CallTimeout, 30*time.Second))
	defer cancel()
	// Over a long way each answer takes its time.
	var server string
	var nameless error
	var asking sync.WaitGroup
	asking.Go(func() { server, nameless = e.serverName(ctx) })
	asking.Go(func() { e.libpod = e.askLibpod(ctx) })
	ping, err := e.api.Ping(ctx, client.PingOptions{NegotiateAPIVersion: true})
	asking.Wait()
	e.apiVer = ping.APIVersion
	if because := hostconn.RefusedTLS(err); because != "" {
		return &Unreachable{Address: e.Conn.Address, Because: because, Host: true, Err: err}
	}
	if err == nil {
		err = nameless
	}
	if err == nil {
		err = e.identify(ctx, server)
	}
	if err != nil {
		return unreachable(err, "something listens there, but it does not answer as a container engine does", "")
	}
	e.slots = make(chan struct{}, e.can.atOnce)
	if versions.LessThan(e.apiVer, OldestAPI) {
		return unreachable(nil,
			fmt.Sprintf("its API has version %s, and lantern needs %s or newer", e.apiVer, OldestAPI),
			"update the engine")
	}
	return nil
}

// serverName returns what an engine calls itself in every answer.
func (e *Engine) serverName(ctx context.Context) (name string, err error) {
	err = e.raw(ctx, http.MethodGet, "/_ping", func(answer *http.Response) error {
		name, _, _ = strings.Cut(answer.Header.Get("Server"), "/")
		return nil
	})
	return name, err
}

// identify finds out which engine this is, from what it calls itself. Only where something in between has another name
// is it asked for its version: engines run programs for that, and one of them the package manager, which takes longer
// than most commands of lantern.
func (e *Engine) identify(ctx context.Context, server string) error {
	switch server {
	case "Docker":
	case "Libpod":
		e.asPodman()
	case StandInName:
		e.standIn = true
	default:
		name, _, err := e.version(ctx)
		if strings.HasPrefix(name, "Podman") {
			e.asPodman()
		}
		return err
	}
	return nil
}

// asPodman notes what Podman's service can do.
func (e *Engine) asPodman() {
	e.can = ofPodmansService
	if e.libpod.Host.Security.Rootless {
		// Devices are mounts there, and limits of processes those of its user.
		e.can.notReported = slices.Concat(e.can.notReported, e.libpod.lacks(), []string{"devices", "ulimits"})
	}
}

// version asks for the engine's name and version.
func (e *Engine) version(ctx context.Context) (name, version string, err error) {
	var v client.ServerVersionResult
	err = e.call(ctx, "version", 0, func(ctx context.Context) (err error) {
		v, err = e.api.ServerVersion(ctx, client.ServerVersionOptions{})
		return err
	})
	if err != nil {
		return "", "", err
	}
	name = "engine"
	if len(v.Components) > 0 {
		name = v.Components[0].Name
	}
	return name, v.Version, nil
}

// raw makes a call past the client, for what it does not tell, and gives the answer to read.
func (e *Engine) raw(ctx context.Context, method, path string, read func(*http.Response) error) error {
	return e.call(ctx, path, 0, func(ctx context.Context) error {
		answer, err := e.rawly(ctx, method, path)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		return read(answer)
	})
}

func (e *Engine) rawly(ctx context.Context, method, path string) (*http.Response, error) {
	dial := e.api.Dialer()
	transport := &http.Transport{
		DisableKeepAlives: true,
		DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://engine"+path, nil)
	if err != nil {
		return nil, err
	}
	return (&http.Client{Transport: transport}).Do(r)
}

// Close ends the connection.
func (e *Engine) Close() error { return e.api.Close() }

// CanUpdate reports whether the engine can change the restart policy of a container that exists.
func (e *Engine) CanUpdate() bool { return e.can.updateRestart }

// Rootless reports whether the engine runs without root. Then the addresses of its containers are in a network of its
// own, and its forwarder accepts connections to published ports whether anything listens inside or not.
func (e *Engine) Rootless(ctx context.Context) bool {
	return e.libpod.Host.Security.Rootless || e.rootless(ctx)
}

// askRootless asks the engine whether it runs without root; one that does not answer counts as one with root.
func (e *Engine) askRootless(ctx context.Context) (without bool) {
	e.call(ctx, "info", 0, func(ctx context.Context) error {
		info, err := e.api.Info(ctx, client.InfoOptions{})
		without = err == nil && isRootless(info.Info.SecurityOptions)
		return err
	})
	return without
}

func isRootless(securityOptions []string) bool {
	return slices.ContainsFunc(securityOptions, func(o string) bool { return strings.Contains(o, "rootless") })
}

// Facts writes what the engine knows of itself and its machine into a survey.
func (e *Engine) Facts(ctx context.Context, s *survey.Survey) error {
	var name, version string
	var err, lost error
	var info client.SystemInfoResult
	var asking sync.WaitGroup
	asking.Go(func() { name, version, lost = e.version(ctx) })
	err = e.call(ctx, "info", 0, func(ctx context.Context) (err error) {
		info, err = e.api.Info(ctx, client.InfoOptions{})
		return err
	})
	asking.Wait()
	if err != nil {
		return err
	}
	if lost != nil {
		return lost
	}
	s.Engine = &survey.Engine{API: e.apiVer, Name: name, Version: version, Root: info.Info.DockerRootDir}
	opens, limited := e.can.openLowPorts, false // the driver for logs that lantern declares has no limit of its own
	s.Engine.OpensLowPorts, s.Engine.LogLimit = &opens, &limited
	if e.lacksInit() {
		s.Engine.Lacks = append(s.Engine.Lacks, "init")
	}
	if !e.can.fillReadOnly {
		s.Engine.Lacks = append(s.Engine.Lacks, survey.LacksFillReadOnly)
	}
	s.Engine.Missing = e.can.missing
	s.Engine.Rootless = e.libpod.Host.Security.Rootless || isRootless(info.Info.SecurityOptions)
	s.Engine.Lacks = append(s.Engine.Lacks, e.libpod.lacks()...)
	s.Engine.UIDMap, s.Engine.GIDMap = idMaps(e.libpod.Host.IDMappings.UID), idMaps(e.libpod.Host.IDMappings.GID)
	s.Platform = info.Info.OSType + "/" + architecture(info.Info.Architecture)
	s.Memory, s.CPUs = info.Info.MemTotal, info.Info.NCPU
	return nil
}

// architecture returns the name that images use (GOARCH, as the OCI image specification demands) for a
// kernel's machine name.
func architecture(machine string) string {
	switch machine {
	case "x86_64":
		return "amd64"
	case "aarch64":
		return "arm64"
	case "armv7l", "armv6l":
		return "arm"
	}
	return machine
}
