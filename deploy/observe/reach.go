package observe

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// dialer makes connections to a host's ports.
type dialer func(ctx context.Context, address string) (net.Conn, error)

// fromHere dials as the user who runs lantern would.
func fromHere(ctx context.Context, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", address)
}

// accepts reports whether something accepts connections on a container's port, and where that was seen. A
// refusal at its own address decides: in front of a published port an engine may accept whatever comes.
func (o *Observer) accepts(ctx context.Context, c engine.State, port int) (at string, ok bool) {
	if o.Engine.Rootless(ctx) {
		return o.listens(ctx, c, port)
	}
	for _, at := range o.dialPlaces(ctx, c, port) {
		waiting, cancel := context.WithTimeout(ctx, 2*time.Second)
		conn, err := o.Engine.Conn.Port(waiting, at)
		cancel()
		if err == nil {
			conn.Close()
			return at, true
		}
		if errors.Is(err, syscall.ECONNREFUSED) {
			return at, false
		}
	}
	return "", false
}

// listens reports whether something listens on a port in the network of a container, by what the kernel says of it: an
// engine without root has its containers in a network of its own, and accepts connections to all published ports itself.
func (o *Observer) listens(ctx context.Context, c engine.State, port int) (at string, ok bool) {
	c, err := o.networkOwner(ctx, c)
	if err != nil || c.PID == 0 || o.Engine.Conn.Files == nil {
		return "", false
	}
	for _, table := range []string{"tcp", "tcp6"} { // proc_pid_net(5)
		text, err := o.Engine.Conn.Files.Read(fmt.Sprintf("/proc/%d/net/%s", c.PID, table), mostSockets)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			f := strings.Fields(line)
			const listening = "0A"
			if len(f) > 3 && f[3] == listening && strings.HasSuffix(f[1], fmt.Sprintf(":%04X", port)) {
				return fmt.Sprintf("its own port %d", port), true
			}
		}
	}
	return "", false
}

// listensOnly reports, of a port that cannot be asked because the engine runs without root and it is not published, whether
// something listens there, and how that is said.
func (o *Observer) listensOnly(ctx context.Context, c engine.State, port int) (how string, ok bool) {
	_, ok = o.listens(ctx, c, port)
	return fmt.Sprintf(", something listens on its own port %d, which cannot be asked without root", port), ok
}

// Answer is what came of asking a container for a page.
type Answer struct {
	Status int    // that it answered with; 0 for no answer
	At     string // where that was
	// Listens tells that nobody could ask, and that something listens there; How says so.
	Unasked, Listens bool
	How              string
}

// Ask asks a container for a page. The first place that answers at all has decided: the others would say the same, later,
// as the way over a published port can take seconds.
func (o *Observer) Ask(ctx context.Context, c engine.State, secure bool, port int, path string) (a Answer) {
	places, dial := o.dialPlaces(ctx, c, port), dialer(o.Engine.Conn.Port)
	if len(places) == 0 && o.Engine.Rootless(ctx) {
		owner, err := o.networkOwner(ctx, c)
		if err != nil {
			return a
		}
		if dial = o.Inside.dialer(ctx, o.Engine, owner); dial == nil {
			a.Unasked = true
			a.How, a.Listens = o.listensOnly(ctx, c, port)
			return a
		}
		for _, address := range owner.Addresses {
			places = append(places, net.JoinHostPort(address, strconv.Itoa(port)))
		}
	}
	for _, at := range places {
		if status, err := get(ctx, dial, secure, at, path); err == nil {
			return Answer{Status: status, At: at}
		}
	}
	return a
}

// Approach makes ready for a container to be asked, so that this takes nothing off the time that it has to become ready.
func (o *Observer) Approach(ctx context.Context, id string, port int) {
	if o.Inside == nil || !o.Engine.Rootless(ctx) {
		return
	}
	c, err := o.Engine.Inspect(ctx, id)
	if err != nil || len(o.dialPlaces(ctx, c, port)) > 0 {
		return
	}
	if c, err = o.networkOwner(ctx, c); err == nil {
		o.Inside.dialer(ctx, o.Engine, c)
	}
}

// Leave ends what it took to ask a container.
func (o *Observer) Leave(ctx context.Context, id string) {
	if o.Inside == nil || !o.Engine.Rootless(ctx) {
		return
	}
	o.Inside.Leave(id)
	if c, err := o.Engine.Inspect(ctx, id); err == nil {
		o.Inside.Leave(c.ID)
		if owner, ok := strings.CutPrefix(c.Container.NetworkOf, "container:"); ok {
			o.Inside.Leave(owner)
		}
	}
}

// mostSockets is how much of a table of sockets is read, in bytes.
const mostSockets = 8 << 20

// RunsOn reports whether a container, and the one whose network it lives in, still run as they did. An address may answer
// for somebody else: once its container has ended, an engine takes its network down, and what is sent there goes to
// whatever machine the host's other routes lead to.
func (o *Observer) RunsOn(ctx context.Context, c engine.State) bool {
	now, err := o.Engine.Inspect(ctx, c.ID)
	if err != nil || !now.Running || !now.Started.Equal(c.Started) {
		return false
	}
	owner, err := o.networkOwner(ctx, now)
	return err == nil && owner.Running
}

// gone matches what engines say when they are asked for the processes of a container that has none.
var gone = regexp.MustCompile(`is not running|no such process|not found|no running processes`)

// Lives reports whether anything of a container runs, as its engine finds when it looks for processes: an engine that has
// much to do hears late that a container has ended, and calls it running until then. One that cannot look says nothing.
func (o *Observer) Lives(ctx context.Context, c engine.State) bool {
	list, err := o.Engine.Processes(ctx, c.ID)
	if err != nil {
		return !gone.MatchString(err.Error())
	}
	return len(list) > 0
}

// networkOwner returns the container in whose network another one lives, which may be itself.
func (o *Observer) networkOwner(ctx context.Context, c engine.State) (engine.State, error) {
	if id, ok := strings.CutPrefix(c.Container.NetworkOf, "container:"); ok {
		return o.Engine.Inspect(ctx, id)
	}
	return c, nil
}

// dialPlaces returns where a container's port may be reached from here: at its own addresses, then where it
// is published. One in the host's network is reached on loopback; one in another one's network like that one.
func (o *Observer) dialPlaces(ctx context.Context, c engine.State, port int) []string {
	c, err := o.networkOwner(ctx, c)
	if err != nil {
		return nil
	}
	var places []string
	if c.Container.Mode == "host" {
		places = append(places, net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	}
	if !o.Engine.Rootless(ctx) {
		for _, a := range c.Addresses {
			places = append(places, net.JoinHostPort(a, strconv.Itoa(port)))
		}
	}
	for _, p := range c.Container.Ports {
		if p.Container == port && p.Protocol == "tcp" && p.Host > 0 {
			address := p.Address
			if address == "" {
				address = "127.0.0.1"
			}
			places = append(places, net.JoinHostPort(address, strconv.Itoa(p.Host)))
		}
	}
	return places
}

// get asks for a page and returns its status. Redirections are answers like others, and whether a certificate
// is valid is not the question.
func get(ctx context.Context, dial dialer, secure bool, at, path string) (int, error) {
	scheme := "http"
	if secure {
		scheme = "https"
	}
	transport := &http.Transport{
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			return dial(ctx, address)
		},
		DisableKeepAlives: true,
		TLSClientConfig:   &tls.Config{InsecureSkipVerify: true},
	}
	defer transport.CloseIdleConnections()
	c := http.Client{
		Timeout:       3 * time.Second,
		Transport:     transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+at+path, nil)
	if err != nil {
		return 0, err
	}
	answer, err := c.Do(r)
	if err != nil {
		return 0, err
	}
	answer.Body.Close()
	return answer.StatusCode, nil
}

// linkWithin is how long a page is waited for that is proven already: the way over a published port can take
// its time.
const linkWithin = 5 * time.Second

// SilentLink returns the first link of a service that does not answer from here; "" when all do.
func SilentLink(ctx context.Context, s *lab.Service) string {
	for _, link := range s.Links() {
		u, err := url.Parse(link)
		if err != nil {
			continue
		}
		waiting, cancel := context.WithTimeout(ctx, linkWithin)
		_, err = get(waiting, fromHere, u.Scheme == "https", u.Host, u.RequestURI())
		cancel()
		if err != nil && ctx.Err() == nil {
			return link
		}
	}
	return ""
}

// otherPorts returns the published tcp ports of a service that neither its ready nor its page asks, each port
// inside once.
func otherPorts(s *lab.Service, proof plan.Proof) []plan.Port {
	var ports []plan.Port
	for _, p := range plan.Declare(s).Ports {
		p.Address = "" // all lead to the same place
		if p.Protocol == "tcp" && p.Container != proof.Port && p.Container != proof.PagePort &&
			!slices.Contains(ports, p) {
			ports = append(ports, p)
		}
	}
	return ports
}

// SilentPorts returns the published tcp ports of a service on which nothing accepts connections inside; its
// page and its ready are not asked again.
func (o *Observer) SilentPorts(ctx context.Context, s *lab.Service) []plan.Port {
	if s.Stack.Gate != nil {
		return nil // its own proof asks it
	}
	proof := plan.ProofOf(s)
	c, err := o.Engine.Inspect(ctx, s.ContainerName())
	if err != nil || !c.Running {
		return nil
	}
	var silent []plan.Port
	for _, port := range otherPorts(s, proof) {
		if _, ok := o.accepts(ctx, c, port.Container); !ok {
			silent = append(silent, port)
		}
	}
	return silent
}
