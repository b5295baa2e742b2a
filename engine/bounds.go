package engine

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"
	"unicode/utf8"
)

// What an engine may answer. A list of ten thousand containers has some 20 MB and 100,000 braces; what is
// beyond that is no engine's.
const (
	mostBody = 24 << 20 // bytes of one answer
	// objects of one answer, by their braces: each costs many times the bytes that it is written with
	mostObjects = 200_000
	mostRow     = 1 << 20   // bytes of one message of a stream
	mostLine    = 64 << 10  // bytes of a line of a log, or of what a command said; the rest is left out
	mostMessage = 2_000     // bytes of an error's text
	mostLog     = 256 << 20 // bytes of a log that ends
)

// ErrTooMuch is returned when an engine answers with more than it can have to say.
var ErrTooMuch = errors.New("the engine answers with more than an engine can have to say")

// patienceVariable says how long an engine may take to answer, as a duration such as 5m: for a machine that
// is slower than anybody thought of.
const patienceVariable = "LANTERN_ENGINE_PATIENCE"

// patienceOf returns how long an engine may take to answer.
func patienceOf() time.Duration {
	if d, err := time.ParseDuration(os.Getenv(patienceVariable)); err == nil && d >= 100*time.Millisecond &&
		d <= time.Hour {
		return d
	}
	return defaultCallTimeout
}

// conn is a connection to an engine that does not believe that whatever comes has an end. The client reads
// whole answers into memory, and offers no other place to stop it.
type conn struct {
	net.Conn
	idle time.Duration // that a stream of messages may say nothing

	mu                  sync.Mutex // an answer may begin while its question is still being written
	kind                answerKind
	bytes, objects, row int
	taken               bool // given over to a command: what is written are no questions any more
}

type answerKind int

const (
	whole    answerKind = iota // read to its end and kept
	messages                   // many messages, a line each
	news                       // the same, and nothing may come for as long as it likes
	endless                    // a log, or what a command says: its reader says how much
)

// Write notices where a question begins, and what kind of answer it has.
func (c *conn) Write(p []byte) (int, error) {
	c.mu.Lock()
	taken := c.taken
	c.mu.Unlock()
	if taken {
		return c.Conn.Write(p)
	}
	line, _, first := bytes.Cut(p, []byte("\r\n"))
	if words := strings.Fields(string(line[:min(len(line), 8<<10)])); first && len(words) == 3 &&
		strings.HasPrefix(words[2], "HTTP/1.") {
		path, _, _ := strings.Cut(words[1], "?")
		c.mu.Lock()
		c.kind, c.bytes, c.objects, c.row = whole, 0, 0, 0
		switch {
		case words[0] == http.MethodPost && (strings.HasSuffix(path, "/images/create") || strings.HasSuffix(path, "/build")):
			c.kind = messages
		case strings.HasSuffix(path, "/events"):
			c.kind = news
		case strings.HasSuffix(path, "/logs"):
			c.kind = endless
		case strings.Contains(path, "/exec/") && strings.HasSuffix(path, "/start"):
			c.kind, c.taken = endless, true
		}
		c.mu.Unlock()
	}
	return c.Conn.Write(p)
}

func (c *conn) Read(p []byte) (int, error) {
	c.mu.Lock()
	kind := c.kind
	c.mu.Unlock()
	if kind == messages {
		c.SetReadDeadline(time.Now().Add(c.idle))
	} else {
		c.SetReadDeadline(time.Time{})
	}
	n, err := c.Conn.Read(p)
	c.mu.Lock()
	defer c.mu.Unlock()
	switch c.kind {
	case whole:
		c.bytes += n
		c.objects += bytes.Count(p[:n], []byte("{"))
	case messages, news:
		c.row += n
		if last := bytes.LastIndexByte(p[:n], '\n'); last >= 0 {
			c.row = n - last - 1
		}
	}
	if c.bytes > mostBody || c.objects > mostObjects || c.row > mostRow {
		return 0, ErrTooMuch
	}
	return n, err
}

// CloseWrite says that nothing more comes, where the connection can.
func (c *conn) CloseWrite() error {
	if w, ok := c.Conn.(interface{ CloseWrite() error }); ok {
		return w.CloseWrite()
	}
	return nil
}

// unframed reads what a container or a command wrote to both its streams, which engines send in frames: a
// byte that says which, three of nothing, and the length in four (Docker Engine API, attach). The length is
// only believed as far as something comes.
type unframed struct {
	from io.Reader
	left uint32
}

func (u *unframed) Read(p []byte) (int, error) {
	for u.left == 0 {
		var head [8]byte
		if _, err := io.ReadFull(u.from, head[:]); err != nil {
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = io.EOF
			}
			return 0, err
		}
		if head[0] > 3 {
			return 0, errors.New("the engine sends a log that has not the form of one")
		}
		u.left = binary.BigEndian.Uint32(head[4:])
	}
	n, err := u.from.Read(p[:min(len(p), int(u.left))])
	u.left -= uint32(n)
	return n, err
}

// lines calls f with each line; of a long one only with its beginning.
func lines(from io.Reader, f func(string)) error {
	var line []byte
	cut := false
	end := func() {
		text := strings.TrimRight(string(line), "\r")
		if cut {
			for !utf8.ValidString(text[max(0, len(text)-4):]) && len(text) > mostLine-4 {
				text = text[:len(text)-1]
			}
			text += " …"
		}
		f(text)
		line, cut = line[:0], false
	}
	buffer := make([]byte, 32<<10)
	for {
		n, err := from.Read(buffer)
		for rest := buffer[:n]; len(rest) > 0; {
			part, after, ended := cutByte(rest, '\n')
			room := min(len(part), mostLine-len(line))
			line, cut = append(line, part[:room]...), cut || room < len(part)
			if rest = after; ended {
				end()
			}
		}
		if err != nil {
			if len(line) > 0 {
				end()
			}
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return err
		}
	}
}

func cutByte(b []byte, at byte) (before, after []byte, found bool) {
	for i, c := range b {
		if c == at {
			return b[:i], b[i+1:], true
		}
	}
	return b, nil, false
}

// ending keeps the end of what is written to it.
type ending struct {
	most int
	text []byte
}

func (e *ending) Write(p []byte) (int, error) {
	e.text = append(e.text, p[max(0, len(p)-e.most):]...)
	e.text = append(e.text[:0], e.text[max(0, len(e.text)-e.most):]...)
	return len(p), nil
}

// short cuts a text of an engine to what a person reads.
func short(text string) string {
	if len(text) <= mostMessage {
		return text
	}
	text = text[:mostMessage]
	for len(text) > 0 && !utf8.ValidString(text[max(0, len(text)-4):]) && len(text) > mostMessage-4 {
		text = text[:len(text)-1]
	}
	return text + " …"
}
