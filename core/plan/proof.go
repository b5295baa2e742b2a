package plan

import (
	"encoding/json"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

// Proof is how a service shows that it does its work. It goes along with the container as a label, so that
// what ran before can be proven again although the files have changed.
type Proof struct {
	HTTP        string        `json:"http,omitempty"` // path with its leading slash
	TLS         bool          `json:"tls,omitempty"`
	Port        int           `json:"port,omitempty"` // of HTTP or TCP, inside the container
	StatusFirst int           `json:"status-first,omitempty"`
	StatusLast  int           `json:"status-last,omitempty"`
	Log         string        `json:"log,omitempty"` // regular expression
	Command     []secret.Text `json:"command,omitempty"`
	Image       bool          `json:"image,omitempty"` // the check that the image declares
	Done        bool          `json:"done,omitempty"`  // somebody waits until it has ended without an error
	Within      time.Duration `json:"within"`

	Page     string `json:"page,omitempty"` // path of its page
	PageTLS  bool   `json:"page-tls,omitempty"`
	PagePort int    `json:"page-port,omitempty"`
}

// Declared reports whether the service says how to see that it is ready.
func (p Proof) Declared() bool {
	return p.Port > 0 || p.Log != "" || p.Command != nil || p.Image || p.Done
}

// ProofOf returns the proof of a declared service.
func ProofOf(s *lab.Service) Proof {
	p := Proof{Within: s.ReadyWithin, Done: s.Awaited()}
	if y := s.Ready; y != nil {
		switch {
		case y.HTTP != nil:
			p.HTTP, p.TLS, p.Port = y.HTTP.Path, y.HTTP.TLS, y.HTTP.Port
			p.StatusFirst, p.StatusLast = y.StatusFirst, y.StatusLast
		case y.Log != nil:
			p.Log = y.Log.String()
		case y.Command != nil:
			p.Command = y.Command
		case y.Image:
			p.Image = true
		default:
			p.Port = y.TCP
		}
	}
	if s.Page != nil {
		p.Page, p.PageTLS, p.PagePort = s.Page.Path, s.Page.TLS, s.Page.Port
	}
	return p
}

// Label returns the proof as the text of a label. Everybody on the host may read labels, so a proof with a
// secret in it stays out: what ran before is then proven by staying up.
func (p Proof) Label() string {
	if secret.Any(p.Command) {
		p = Proof{Within: p.Within, Done: p.Done}
	}
	text, err := json.Marshal(p)
	if err != nil {
		panic("plan: a proof without JSON: " + err.Error()) // it holds only texts and numbers
	}
	return string(text)
}

// ReadProof reads a label; one that cannot be read gives the proof of a service that declares none.
func ReadProof(label string) Proof {
	p := Proof{Within: time.Minute}
	if json.Unmarshal([]byte(label), &p) != nil {
		return Proof{Within: time.Minute}
	}
	return p
}
