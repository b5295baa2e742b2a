package gate

import (
	"io"
	"log"
	"net/netip"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"
)

// nothing is for what a library would say of clients that break off.
var nothing = log.New(io.Discard, "", 0)

// accessLog writes an object of JSON a line: all of it is for programs, and what a client has written cannot be more in it
// than a text.
type accessLog struct {
	to  io.Writer
	now func() time.Time

	mu      sync.Mutex
	ready   sync.Cond // there is room
	buffer  []byte
	full    chan struct{}
	closing chan struct{}
	closed  chan struct{}
}

const (
	logEvery  = 100 * time.Millisecond
	logAtOnce = 64 << 10 // bytes
	mostLog   = 4 << 20  // bytes that wait: then requests wait, too
	mostField = 512      // of what a client has written, in bytes
)

func newAccessLog(to io.Writer, now func() time.Time) *accessLog {
	l := &accessLog{to: to, now: now, full: make(chan struct{}, 1), closing: make(chan struct{}), closed: make(chan struct{})}
	l.ready.L = &l.mu
	go l.write()
	return l
}

func (l *accessLog) write() {
	defer close(l.closed)
	var spare []byte
	ticks := time.NewTicker(logEvery)
	defer ticks.Stop()
	for ending := false; !ending; {
		select {
		case <-l.full:
		case <-ticks.C:
		case <-l.closing:
			ending = true
		}
		l.mu.Lock()
		spare, l.buffer = l.buffer, spare[:0]
		l.ready.Broadcast()
		l.mu.Unlock()
		if len(spare) > 0 {
			l.to.Write(spare)
		}
	}
}

// close writes what is left.
func (l *accessLog) close() {
	close(l.closing)
	<-l.closed
}

func (l *accessLog) line(add func(b []byte) []byte) {
	l.mu.Lock()
	for len(l.buffer) > mostLog {
		l.ready.Wait()
	}
	l.buffer = append(add(l.buffer), '\n')
	full := len(l.buffer) > logAtOnce
	l.mu.Unlock()
	if full {
		select {
		case l.full <- struct{}{}:
		default:
		}
	}
}

// access writes the line of a request, see [sites.Access].
func (l *accessLog) access(a *asked, w *recorder) {
	t := a.g.table.Load()
	if !a.client.IsValid() {
		a.who(t)
	}
	client := a.client
	if t.settings.Shortened {
		client = shortened(client)
	}
	took := l.now().Sub(a.began)
	l.line(func(b []byte) []byte {
		b = append(b, `{"time":"`...)
		b = a.began.UTC().AppendFormat(b, "2006-01-02T15:04:05.000Z07:00")
		b = append(b, '"')
		if a.route != nil {
			b = field(b, "site", a.route.Site())
			b = field(b, "service", a.route.Service)
		}
		if client.IsValid() {
			b = field(b, "client", client.String())
		}
		b = field(b, "method", a.r.Method)
		b = field(b, "host", a.r.Host)
		b = field(b, "path", a.r.URL.Path)
		b = field(b, "protocol", a.r.Proto)
		b = append(b, `,"status":`...)
		b = strconv.AppendInt(b, int64(w.status), 10)
		b = append(b, `,"bytes":`...)
		b = strconv.AppendInt(b, w.bytes, 10)
		b = append(b, `,"ms":`...)
		b = strconv.AppendFloat(b, float64(took.Microseconds())/1000, 'f', 3, 64)
		if s := a.r.Header.Get("Referer"); s != "" {
			b = field(b, "referrer", s)
		}
		if s := a.r.UserAgent(); s != "" {
			b = field(b, "agent", s)
		}
		if a.user != "" {
			b = field(b, "user", a.user)
		}
		if w.broken {
			b = append(b, `,"broken":true`...)
		}
		return append(b, '}')
	})
}

// shortened returns the network that an address is in, as much as tells no household from its neighbours.
func shortened(a netip.Addr) netip.Addr {
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return a
	}
	return p.Addr()
}

// note writes a line about the gate itself.
func (l *accessLog) note(level, message string, pairs ...string) {
	now := l.now()
	l.line(func(b []byte) []byte {
		b = append(b, `{"time":"`...)
		b = now.UTC().AppendFormat(b, "2006-01-02T15:04:05.000Z07:00")
		b = append(b, `","level":"`+level+`"`...)
		b = field(b, "message", message)
		for i := 0; i+1 < len(pairs); i += 2 {
			b = field(b, pairs[i], pairs[i+1])
		}
		return append(b, '}')
	})
}

// field adds a field with a text (RFC 8259, 7). Much longer texts, and what is no UTF-8, are shown as such.
func field(b []byte, name, s string) []byte {
	b = append(b, `,"`+name+`":"`...)
	more := len(s) > mostField
	if more {
		s = s[:mostField]
	}
	const hex = "0123456789abcdef"
	for i := 0; i < len(s); {
		c := s[i]
		switch {
		case c == '"' || c == '\\':
			b = append(b, '\\', c)
			i++
		case c < ' ' || c == 0x7f:
			b = append(b, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
			i++
		case c < utf8.RuneSelf:
			b = append(b, c)
			i++
		default:
			r, n := utf8.DecodeRuneInString(s[i:])
			if r == utf8.RuneError && n == 1 || r == '\u2028' || r == '\u2029' || r >= 0x80 && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
				b = append(b, `\ufffd`...)
			} else {
				b = append(b, s[i:i+n]...)
			}
			i += n
		}
	}
	if more {
		b = append(b, "…"...)
	}
	return append(b, '"')
}
