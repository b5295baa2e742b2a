package observe

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"net/url"
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
	for _, at := range o.DialPlaces(ctx, c, port) {
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

// DialPlaces returns where a container's port may be reached from here: at its own addresses, then where it
// is published. One in the host's network is reached on loopback; one in another one's network like that one.
func (o *Observer) DialPlaces(ctx context.Context, c engine.State, port int) []string {
	if id, ok := strings.CutPrefix(c.Container.NetworkOf, "container:"); ok {
		partner, err := o.Engine.Inspect(ctx, id)
		if err != nil {
			return nil
		}
		c = partner
	}
	var places []string
	if c.Container.Mode == "host" {
		places = append(places, net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	}
	for _, a := range c.Addresses {
		places = append(places, net.JoinHostPort(a, strconv.Itoa(port)))
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

// Get asks for a page and returns its status. Redirections are answers like others, and whether a certificate
// is valid is not the question.
func Get(ctx context.Context, dial dialer, secure bool, at, path string) (int, error) {
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
		_, err = Get(waiting, fromHere, u.Scheme == "https", u.Host, u.RequestURI())
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
