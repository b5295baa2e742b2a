package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
)

// Errors of conversations with registries.
var (
	// ErrPlain is returned where a login would go over plain HTTP to another machine.
	ErrPlain = errors.New("is asked over plain HTTP, and a login is not sent that way")
	// ErrTooMuch is returned where a registry does not stop answering.
	ErrTooMuch = errors.New("answers with more than anybody can want")
)

// mostOfAll is how many bytes a registry may answer in all to the questions about one image. Descriptions of
// images have kilobytes, lists of tags a megabyte.
const mostOfAll = 16 << 20

// Transport returns a way to a registry for the questions about one image: it sends no login over plain HTTP
// but to this machine, and reads no more than it should.
func Transport() http.RoundTripper {
	inner := http.DefaultTransport.(*http.Transport).Clone()
	inner.DisableKeepAlives = true // it lives for one image
	inner.ResponseHeaderTimeout, inner.MaxResponseHeaderBytes = 10*time.Second, 64<<10
	t := &transport{inner: inner}
	t.left.Store(mostOfAll)
	return t
}

type transport struct {
	inner http.RoundTripper
	left  atomic.Int64
}

func (t *transport) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.URL.Scheme != "https" && !loopback(r.URL.Hostname()) &&
		(r.Header.Get("Authorization") != "" || r.URL.User != nil) {
		return nil, fmt.Errorf("%s: %w", r.URL.Hostname(), ErrPlain)
	}
	answer, err := t.inner.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	answer.Body = &body{answer.Body, &t.left}
	return answer, nil
}

// loopback reports whether a name or address is this machine.
func loopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback() || strings.EqualFold(host, "localhost")
}

type body struct {
	io.ReadCloser
	left *atomic.Int64
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.left.Add(-int64(n)) < 0 {
		return 0, ErrTooMuch
	}
	return n, err
}

// Digest asks a registry what a reference stands for now.
func Digest(ctx context.Context, reference string, logins *Logins) (string, error) {
	ref, err := name.ParseReference(reference)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, askWithin)
	defer cancel()
	head, err := remote.Head(ref, remote.WithContext(ctx), remote.WithAuthFromKeychain(logins),
		remote.WithTransport(Transport()))
	if err != nil {
		return "", err
	}
	return head.Digest.String(), nil
}

// askWithin is how long a registry may take to say what a reference stands for.
const askWithin = 10 * time.Second
