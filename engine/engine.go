// Package engine talks to a container engine through its public HTTP API (Docker Engine API, 1.41 and newer) over a unix socket or tcp, and
// translates between declared containers and those of the engine.
package engine

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/moby/moby/client"
	"github.com/moby/moby/client/pkg/versions"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/registry"
)

// OldestAPI is the oldest version of the API that is spoken.
const OldestAPI = "1.41"

// Engine is a connection to a container engine.
type Engine struct {
	Address string // unix://… or tcp://…

	// Patience is how long a call may take before its outcome counts as unknown; streams, and the time that a container has for stopping, aside.
	Patience time.Duration

	// Logins are the credentials for registries that are brought along; never nil.
	Logins *registry.Logins

	api     *client.Client
	private bool // nobody on the way can read what goes to it
	apiVer  string
	kind    kind
	standIn bool
	images  sync.Map // labels of images, by id
}

// patience is ample: a machine that has much to do answers late, and a call that was given up goes on in the engine.
const patience = 2 * time.Minute

// call makes one call, and gives up waiting for an answer after Patience and more. Its outcome is then unknown.
func (e *Engine) call(ctx context.Context, name string, more time.Duration, f func(context.Context) error) error {
	limited, cancel := context.WithTimeout(ctx, e.Patience+more)
	defer cancel()
	err := f(limited)
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		return &Error{Call: name, Message: fmt.Sprintf("the engine has not answered to %s for %s", name, e.Patience+more), kind: ErrUnknownOutcome, err: err}
	}
	return explain(name, err)
}

// settles is how long the effect of a call is waited for whose outcome is unknown: an engine that has much to do carries it out although nobody waits any more.
const settles = 15 * time.Second

// change makes a call that changes something. Whoever interrupts waits for its end: a call that is given up happens all the same, and then later than what comes after it.
// Where its answer is lost, or comes too late, happened tells whether the engine has carried it out; that is asked until it has, or for a while. An error that
// wraps [ErrUnknownOutcome] is returned when nothing of it was seen.
func (e *Engine) change(ctx context.Context, name string, more time.Duration, f func(context.Context) error, happened func(context.Context) (bool, error)) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	err := e.call(ctx, name, more, f)
	if !errors.Is(err, ErrUnknownOutcome) {
		return err
	}
	for until := time.Now().Add(min(settles, 10*e.Patience)); ; time.Sleep(100 * time.Millisecond) {
		done, lost := happened(ctx)
		switch {
		case lost == nil && done:
			return nil
		case lost != nil, time.Now().After(until):
			return err // the engine is gone, or nothing has come of it
		}
	}
}

// kind tells apart engines that differ where the API leaves room.
type kind int

const (
	kindD kind = iota
	kindP      // Podman's service
)

// Unreachable tells that no engine answers at an address.
type Unreachable struct {
	Address string
	Because string   // for the person
	Do      string   // may be empty
	Sockets []string // of engines that are elsewhere on this machine, where none is at the address
	Host    bool     // it is the machine itself that cannot be reached, or that does not let us in
	Err     error
}

func (e *Unreachable) Error() string { return "no engine answers at " + e.Address + ": " + e.Because }

func (e *Unreachable) Unwrap() error { return e.Err }

// usualSocket is where the system's engine listens.
const usualSocket = "/var/run/docker.sock"

// UsualAddress returns where an engine is by default: DOCKER_HOST, the socket of the system, else the current user's own.
func UsualAddress() string {
	if a := os.Getenv("DOCKER_HOST"); a != "" {
		return a
	}
	if _, err := os.Stat(usualSocket); err != nil {
		if run := os.Getenv("XDG_RUNTIME_DIR"); run != "" {
			for _, own := range []string{run + "/docker.sock", run + "/podman/podman.sock"} {
				if _, err := os.Stat(own); err == nil {
					return "unix://" + own
				}
			}
		}
	}
	return "unix://" + usualSocket
}

// DialHost connects to the engine of a host. The error is an *[Unreachable].
func DialHost(ctx context.Context, h *lab.Host) (*Engine, error) {
	e, err := dial(ctx, h.Engine, h.TLS, h.Insecure)
	var known *Unreachable
	if errors.As(err, &known) && errors.Is(known.Err, fs.ErrNotExist) && strings.HasPrefix(known.Address, "unix://") {
		known.Sockets = sockets()
		known.Do = declare.EngineLines(h.Name, known.Sockets)
	}
	return e, err
}

// sockets returns the sockets of engines that are on this machine, at the places where engines put them.
func sockets() []string {
	places := []string{usualSocket, "/run/podman/podman.sock"}
	if run := os.Getenv("XDG_RUNTIME_DIR"); run != "" {
		places = append(places, run+"/docker.sock", run+"/podman/podman.sock")
	}
	for _, pattern := range []string{"/run/user/*/docker.sock", "/run/user/*/podman/podman.sock"} {
		more, _ := filepath.Glob(pattern)
		places = append(places, more...)
	}
	var found []string
	for _, p := range places {
		if info, err := os.Stat(p); err == nil && info.Mode()&fs.ModeSocket != 0 && !slices.Contains(found, p) {
			found = append(found, p)
		}
	}
	return found
}

// Dial connects to the engine at an address, the usual one when it is empty. The error is an *[Unreachable].
func Dial(ctx context.Context, address string) (*Engine, error) {
	return dial(ctx, address, lab.TLS{}, false)
}

func dial(ctx context.Context, address string, files lab.TLS, insecure bool) (*Engine, error) {
	if address == "" {
		address = UsualAddress()
	}
	unreachable := func(err error, because, do string) error {
		return &Unreachable{Address: address, Because: because, Do: do, Err: err}
	}
	waits := patienceOf()
	options := []client.Opt{client.WithHost(address), client.WithUserAgent("lantern")}
	at, err := declare.ParseEngineAddress(address)
	switch {
	case err != nil:
		return nil, unreachable(err, err.Error(), "")
	case at.Scheme == "ssh":
		return nil, unreachable(nil, "this version of lantern reaches engines by unix://PATH and tcp://HOST:PORT only", "")
	case at.Scheme == "unix":
		if because, do, err := trySocket(ctx, at.Socket); err != nil {
			return nil, unreachable(err, because, do)
		}
	case files.CA == "" && !at.Loopback() && !insecure:
		return nil, &Unreachable{Address: address, Because: "plain tcp lets everybody on the way read and change what is said; nothing was sent", Do: "tls.ca, tls.cert and tls.key of the host in lab.toml make it safe; insecure = \"reason\" accepts it", Host: true}
	case files.CA != "":
		for _, f := range []string{files.CA, files.Cert, files.Key} {
			if _, err := os.Stat(f); f != "" && err != nil {
				return nil, unreachable(err, "the file "+f+" of tls cannot be read", "")
			}
		}
	}
	secure, err := tlsOf(files, at.Host)
	if err != nil {
		return nil, unreachable(err, "tls: "+err.Error(), "")
	}
	// The client knows of no encryption and of no limits: both are in the connection.
	options = append(options, client.WithScheme("http"), client.WithDialContext(func(ctx context.Context, _, _ string) (net.Conn, error) {
		return connect(ctx, at, secure, 10*waits)
	}))
	if at.Scheme == "tcp" {
		if because, do, err := tryHost(ctx, at); err != nil {
			return nil, &Unreachable{Address: address, Because: because, Do: do, Host: true, Err: err}
		}
	}
	api, err := client.New(options...)
	if err != nil {
		return nil, unreachable(err, "the address cannot be used: "+err.Error(), "")
	}
	e := &Engine{Patience: waits, Address: address, Logins: &registry.Logins{}, api: api, private: at.Scheme == "unix" || files.CA != "" || at.Loopback()}
	ctx, cancel := context.WithTimeout(ctx, min(waits, 30*time.Second))
	defer cancel()
	ping, err := api.Ping(ctx, client.PingOptions{NegotiateAPIVersion: true})
	e.apiVer = ping.APIVersion
	if err != nil {
		api.Close()
		if because := refusedTLS(err); because != "" {
			return nil, &Unreachable{Address: address, Because: because, Host: true, Err: err}
		}
		return nil, unreachable(err, "something listens there, but it does not answer as a container engine does", "")
	}
	if err := e.identify(ctx); err != nil {
		api.Close()
		return nil, unreachable(err, "something listens there, but it does not answer as a container engine does", "")
	}
	if versions.LessThan(e.apiVer, OldestAPI) {
		api.Close()
		return nil, unreachable(nil, fmt.Sprintf("its API has version %s, and lantern needs %s or newer", e.apiVer, OldestAPI), "update the engine")
	}
	return e, nil
}

// identify finds out which engine this is, from what it calls itself in every answer. Only where something in between has another name is it asked for its
// version: engines run programs for that, and one of them the package manager, which takes longer than most commands of lantern.
func (e *Engine) identify(ctx context.Context) error {
	server := ""
	err := e.raw(ctx, http.MethodGet, "/_ping", func(answer *http.Response) error {
		server, _, _ = strings.Cut(answer.Header.Get("Server"), "/")
		return nil
	})
	if err != nil {
		return err
	}
	switch server {
	case "Docker":
	case "Libpod":
		e.kind = kindP
	case StandInName:
		e.standIn = true
	default:
		name, _, err := e.version(ctx)
		if strings.HasPrefix(name, "Podman") {
			e.kind = kindP
		}
		return err
	}
	return nil
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

// tlsOf reads the files of a connection with certificates; nil where it has none.
func tlsOf(files lab.TLS, host string) (*tls.Config, error) {
	if files.CA == "" {
		return nil, nil
	}
	ca, err := os.ReadFile(files.CA)
	if err != nil {
		return nil, err
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: x509.NewCertPool(), ServerName: host}
	if !c.RootCAs.AppendCertsFromPEM(ca) {
		return nil, fmt.Errorf("%s holds no certificate", files.CA)
	}
	if files.Cert != "" {
		pair, err := tls.LoadX509KeyPair(files.Cert, files.Key)
		if err != nil {
			return nil, err
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}

// connect makes a connection to an engine.
func connect(ctx context.Context, at declare.EngineAddress, secure *tls.Config, idle time.Duration) (net.Conn, error) {
	network, address := "tcp", net.JoinHostPort(at.Host, at.Port)
	if at.Scheme == "unix" {
		network, address = "unix", at.Socket
	}
	c, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	if secure != nil {
		t := tls.Client(c, secure)
		if err := t.HandshakeContext(ctx); err != nil {
			c.Close()
			return nil, err
		}
		c = t
	}
	return &conn{Conn: c, idle: idle}, nil
}

func (e *Engine) rawly(ctx context.Context, method, path string) (*http.Response, error) {
	dial := e.api.Dialer()
	transport := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) }}
	r, err := http.NewRequestWithContext(ctx, method, "http://engine"+path, nil)
	if err != nil {
		return nil, err
	}
	return (&http.Client{Transport: transport}).Do(r)
}

// trySocket finds out in plain words why a socket cannot be used.
func trySocket(ctx context.Context, socket string) (because, do string, err error) {
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "unix", socket)
	switch {
	case err == nil:
		conn.Close()
		return "", "", nil
	case errors.Is(err, fs.ErrNotExist):
		return "there is no socket " + socket, "start the engine, or set engine in lab.toml to where its socket is", err
	case errors.Is(err, fs.ErrPermission):
		if info, statErr := os.Stat(socket); statErr == nil {
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				group := fmt.Sprintf("gid %d", st.Gid)
				if g, err := user.LookupGroupId(strconv.Itoa(int(st.Gid))); err == nil {
					group = g.Name
				}
				return "permission denied; the socket belongs to the group " + group, "become a member of " + group + ", or run lantern as root", err
			}
		}
		return "permission denied", "run lantern as somebody who may use " + socket, err
	case errors.Is(err, syscall.ECONNREFUSED):
		return "the socket is there, but nothing listens on it", "start the engine", err
	}
	return err.Error(), "", err
}

// tryHost finds out in plain words why a machine cannot be reached.
func tryHost(ctx context.Context, at declare.EngineAddress) (because, do string, err error) {
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", net.JoinHostPort(at.Host, at.Port))
	var name *net.DNSError
	var late net.Error
	switch {
	case err == nil:
		conn.Close()
		return "", "", nil
	case errors.As(err, &name):
		return "the name " + at.Host + " does not resolve", "mend the name, or use the address", err
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Sprintf("%s refuses the connection: nothing listens on port %s there", at.Host, at.Port), "let the engine listen there, or mend the port", err
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way to " + at.Host + " from here", "", err
	case errors.As(err, &late) && late.Timeout():
		return at.Host + " does not answer; it is off, or something in between drops the connection", "", err
	}
	return err.Error(), "", err
}

// refusedTLS says in plain words what one side has against the other one's certificate; "" when it is not that.
func refusedTLS(err error) string {
	var authority x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	text := err.Error()
	switch {
	case errors.As(err, &authority) || strings.Contains(text, "certificate signed by unknown authority"):
		return "its certificate was not made by tls.ca: it is another machine, or the certificates have changed"
	case errors.As(err, &name) || strings.Contains(text, "certificate is valid for") || strings.Contains(text, "doesn't contain any IP SANs"):
		return "its certificate is for another name or address"
	case errors.As(err, &invalid) || strings.Contains(text, "certificate has expired"):
		return "its certificate has expired, or is not valid yet"
	case strings.Contains(text, "certificate required"):
		return "it asks for a certificate, and lab.toml names none (tls.cert, tls.key)"
	case strings.Contains(text, "bad certificate"), strings.Contains(text, "unknown certificate authority"):
		return "it does not accept the certificate tls.cert"
	}
	return ""
}

// Here tells whether the engine runs on this machine.
func (e *Engine) Here() bool {
	at, err := declare.ParseEngineAddress(e.Address)
	return err == nil && (at.Scheme == "unix" || at.Loopback())
}

// Close ends the connection.
func (e *Engine) Close() error { return e.api.Close() }

// CanUpdate tells whether the engine can change the restart policy of a container that exists.
func (e *Engine) CanUpdate() bool { return e.kind != kindP }

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
	opens, limited := e.kind != kindP, false // the driver for logs that lantern declares has no limit of its own
	s.Engine.OpensLowPorts, s.Engine.LogLimit = &opens, &limited
	if e.lacksInit() {
		s.Engine.Lacks = append(s.Engine.Lacks, "init")
	}
	if e.kind == kindP {
		s.Engine.Missing = missingCalls
	}
	for _, o := range info.Info.SecurityOptions {
		s.Engine.Rootless = s.Engine.Rootless || strings.Contains(o, "rootless")
	}
	s.Platform = info.Info.OSType + "/" + architecture(info.Info.Architecture)
	s.Memory, s.CPUs = info.Info.MemTotal, info.Info.NCPU
	return nil
}

// missingCalls is what Podman's service cannot be asked, and what that means for whoever deploys there.
var missingCalls = []string{
	"it cannot change a restart policy: where it starts anew in the middle of a deploy, the next run brings back what ran before",
	"it does not show aliases, log-limit, sysctls and ipc of a container: a change of these by hand is not seen",
	"it does not ask a registry without pulling: lantern asks registries itself",
}

// firstProcess is where Podman's service looks for the program that init stands for (containers.conf(5), init_path).
var firstProcess = []string{"/usr/libexec/podman/catatonit", "/usr/local/libexec/podman/catatonit", "/usr/local/lib/podman/catatonit", "/usr/lib/podman/catatonit", "/usr/bin/catatonit", "/usr/sbin/catatonit"}

// lacksInit tells whether a container with init could not be made here.
func (e *Engine) lacksInit() bool {
	return e.kind == kindP && !slices.ContainsFunc(firstProcess, func(p string) bool {
		_, err := os.Stat(p)
		return err == nil
	})
}

// architecture returns the name that images use (GOARCH, as the OCI image specification demands) for a kernel's machine name.
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
