package gate

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/sites"
)

// Report is what a gate says of itself.
type Report struct {
	Version      string                   `json:"version"`
	Settings     string                   `json:"settings"` // digest, see [sites.Digest]
	Stacks       map[string][]sites.Route `json:"stacks"`
	Certificates []Certificate            `json:"certificates"`
	Authorities  string                   `json:"authorities,omitempty"` // PEM, of the lab's own
	Look         string                   `json:"look"`                  // see [LookHeader]
	Lost         []string                 `json:"lost,omitempty"`        // files of its state that could not be read
}

// Control answers those who tell the gate what leads where. Only who runs a program inside of the gate's container gets
// there.
func (g *Gate) Control(version string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /report", func(w http.ResponseWriter, r *http.Request) {
		settings, stacks := g.store.all()
		authorities, err := g.Authorities()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		json.NewEncoder(w).Encode(Report{
			Version: version, Settings: sites.Digest(settings), Stacks: stacks, Certificates: g.certs.all(), Authorities: authorities,
			Look: g.look, Lost: g.store.lost,
		})
	})
	mux.HandleFunc("PUT /settings", func(w http.ResponseWriter, r *http.Request) {
		var s sites.Settings
		told(w, r, &s, func() error { return g.SetSettings(s) })
	})
	mux.HandleFunc("PUT /stacks/{stack}", func(w http.ResponseWriter, r *http.Request) {
		var routes []sites.Route
		drain, _ := time.ParseDuration(r.URL.Query().Get("drain"))
		told(w, r, &routes, func() error { return g.SetRoutes(r.Context(), r.PathValue("stack"), routes, drain) })
	})
	mux.HandleFunc("GET /looks", func(w http.ResponseWriter, r *http.Request) {
		json.NewEncoder(w).Encode(g.Looks(r.Context()))
	})
	return mux
}

// told reads what a gate is told, and carries it out.
func told(w http.ResponseWriter, r *http.Request, into any, do func() error) {
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostState)).Decode(into); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if err := do(); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
	}
}

// Seen is how the service of a site has answered its gate.
type Seen struct {
	Status  int    `json:"status"` // 0: it has not
	Problem string `json:"problem,omitempty"`
}

// looksAtOnce is how many sites are looked at at the same time.
const looksAtOnce = 16

// Looks asks the services of all sites for their pages, as the gate reaches them, and returns how they answer, by site.
func (g *Gate) Looks(ctx context.Context) map[string]Seen {
	seen := map[string]Seen{}
	var mu sync.Mutex
	var looking errgroup.Group
	looking.SetLimit(looksAtOnce)
	for _, all := range g.table.Load().domains {
		for _, r := range all {
			looking.Go(func() error {
				one := Seen{}
				status, err := g.lookAt(ctx, r)
				if one.Status = status; err != nil {
					one.Problem = err.Error()
				}
				mu.Lock()
				defer mu.Unlock()
				seen[r.Site()] = one
				return nil
			})
		}
	}
	looking.Wait()
	return seen
}

func (g *Gate) lookAt(ctx context.Context, r *route) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	scheme := "http"
	if r.TLS {
		scheme = "https"
	}
	at := r.Path
	if r.Strip {
		at = "/"
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, (&url.URL{Scheme: scheme, Host: "service", Path: at}).String(), nil)
	if err != nil {
		return 0, err
	}
	q.Host = sample(r.Domain)
	a := &asked{g: g, r: q, route: r}
	answer, err := toService{a, g.fast}.RoundTrip(q)
	if a.done != nil {
		defer a.done()
	}
	if err != nil {
		return 0, err
	}
	answer.Body.Close()
	return answer.StatusCode, nil
}

// Client tells a gate what leads where.
type Client struct{ http http.Client }

// NewClient makes a client that reaches a gate's control by connections of the given kind.
func NewClient(dial func(context.Context) (net.Conn, error)) *Client {
	return &Client{http.Client{Transport: &http.Transport{
		DialContext:         func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
		MaxIdleConnsPerHost: 1, MaxConnsPerHost: 1, IdleConnTimeout: time.Minute,
	}}}
}

// Close lets go of the connection.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// mostReport is how much of a gate's answer is read, in bytes.
const mostReport = 64 << 20

func (c *Client) call(ctx context.Context, method, path string, body any, into any) error {
	var text []byte
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return err
		}
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://gate"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	a, err := c.http.Do(r)
	if err != nil {
		var lost *url.Error
		if errors.As(err, &lost) {
			err = lost.Err
		}
		return fmt.Errorf("the gate does not answer: %w", err)
	}
	defer a.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(a.Body, mostReport))
	switch {
	case err != nil:
		return fmt.Errorf("the gate does not answer: %w", err)
	case a.StatusCode != http.StatusOK:
		return fmt.Errorf("%s", bytes.TrimSpace(answer[:min(len(answer), 300)]))
	case into != nil:
		return json.Unmarshal(answer, into)
	}
	return nil
}

// Report asks a gate what it knows.
func (c *Client) Report(ctx context.Context) (r Report, err error) {
	return r, c.call(ctx, http.MethodGet, "/report", nil, &r)
}

// SetSettings tells a gate what holds for all sites.
func (c *Client) SetSettings(ctx context.Context, s sites.Settings) error {
	return c.call(ctx, http.MethodPut, "/settings", s, nil)
}

// SetRoutes tells a gate the routes of a stack, see [Gate.SetRoutes].
func (c *Client) SetRoutes(ctx context.Context, stack string, routes []sites.Route, drain time.Duration) error {
	return c.call(ctx, http.MethodPut, "/stacks/"+url.PathEscape(stack)+"?drain="+drain.String(), routes, nil)
}

// Looks asks how the services of all sites answer the gate, see [Gate.Looks].
func (c *Client) Looks(ctx context.Context) (seen map[string]Seen, err error) {
	return seen, c.call(ctx, http.MethodGet, "/looks", nil, &seen)
}
