package engine

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/client"
)

// LogLine is one line of a container's log.
type LogLine struct {
	Time   time.Time
	Stderr bool
	Text   string // without its end; bytes as they were written
	Cut    bool   // the line was longer than mostLogLine, and the rest is left out
}

// LogRange says which lines of a log are wanted.
type LogRange struct {
	Since, Until time.Time // zero: no limit
	Last         int       // so many lines before the end; 0: all
	Follow       bool      // go on with what comes, until the container ends
}

// mostLogLine is how many bytes of a line are kept: programs write stack traces and JSON, not books.
const mostLogLine = 8 << 20

// Logs sends the lines of a container's log to each, in the order in which the engine has them, until the log
// ends; with Follow until the container does, or ctx. An error of each ends it. Errors: [ErrNotFound].
func (e *Engine) Logs(ctx context.Context, id string, r LogRange, each func(LogLine) error) error {
	reading, stop := context.WithCancel(ctx)
	defer stop()
	silent := time.AfterFunc(e.CallTimeout, stop)
	defer silent.Stop()
	o := client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Timestamps: true, Follow: r.Follow}
	if !r.Since.IsZero() {
		o.Since = stamp(r.Since)
	}
	if !r.Until.IsZero() {
		o.Until = stamp(r.Until)
	}
	if r.Last > 0 {
		o.Tail = strconv.Itoa(r.Last)
	}
	stream, err := e.api.ContainerLogs(reading, id, o)
	if err != nil && reading.Err() != nil && ctx.Err() == nil {
		err = errors.New("the engine has not answered to logs")
	}
	if err != nil {
		return explain("logs", err)
	}
	defer stream.Close()
	if r.Follow {
		silent.Stop() // a service may have nothing to say for as long as it likes
	}
	// Some engines take the limits by the second only.
	err = logLines(stream, func(l LogLine) error {
		if !r.Follow {
			silent.Reset(e.CallTimeout)
		}
		if l.Time.Before(r.Since) || !r.Until.IsZero() && l.Time.After(r.Until) {
			return nil
		}
		return each(l)
	})
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case reading.Err() != nil:
		return &Error{
			Call:    "logs",
			Message: fmt.Sprintf("the engine has not gone on with a log for %s", e.CallTimeout),
			kind:    ErrUnknownOutcome,
			err:     reading.Err(),
		}
	}
	return explain("logs", err)
}

// stamp writes a time as the API takes it: seconds with their fraction.
func stamp(t time.Time) string {
	return strconv.FormatInt(t.Unix(), 10) + "." + strings.Repeat("0", 9-len(strconv.Itoa(t.Nanosecond()))) +
		strconv.Itoa(t.Nanosecond())
}

// logLines takes apart what an engine sends: frames (see [unframed]), each of which holds one message with its
// time in front. A long line comes in several messages, each with a time, of which only the last one ends with
// a newline.
func logLines(from io.Reader, each func(LogLine) error) error {
	var open [4]openLine // by stream
	var last time.Time   // of a line whose message has none
	finish := func(o *openLine, stderr bool) error {
		if o.time.IsZero() {
			o.time = last
		}
		last = o.time
		l := LogLine{Time: o.time, Stderr: stderr, Text: strings.TrimSuffix(string(o.text), "\r"), Cut: o.cut}
		*o = openLine{text: o.text[:0]}
		if cap(o.text) > mostLine {
			o.text = nil // one long line must not cost its memory for ever
		}
		o.begin()
		return each(l)
	}
	buffer := make([]byte, 32<<10)
	for {
		var head [8]byte
		if _, err := io.ReadFull(from, head[:]); err != nil {
			for i := range open {
				if len(open[i].text) > 0 {
					if lost := finish(&open[i], i == stderrStream); lost != nil {
						return lost
					}
				}
			}
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return nil
			}
			return err
		}
		if head[0] > 3 {
			return errors.New("the engine sends a log that has not the form of one")
		}
		o := &open[head[0]]
		o.begin()
		for left := binary.BigEndian.Uint32(head[4:]); left > 0; {
			n, err := from.Read(buffer[:min(len(buffer), int(left))])
			left -= uint32(n)
			for rest := buffer[:n]; len(rest) > 0; {
				part, after, ended := bytes.Cut(rest, []byte("\n"))
				o.add(part)
				if rest = after; ended {
					if err := finish(o, head[0] == stderrStream); err != nil {
						return err
					}
				}
			}
			if err != nil {
				if errors.Is(err, io.EOF) {
					return nil
				}
				return err
			}
		}
		o.timed()
	}
}

// stderrStream is the number of standard error in a frame.
const stderrStream = 2

// openLine is a line of which more may come.
type openLine struct {
	time   time.Time
	text   []byte
	cut    bool
	prefix []byte // of a message, until its time is read
	inside bool   // the prefix is still being read
}

// begin begins a message.
func (o *openLine) begin() { o.prefix, o.inside = o.prefix[:0], true }

// longestTime is longer than any time that engines write in front of a message (RFC 3339).
const longestTime = 40

// add takes bytes of a message: first its time up to a blank, then text.
func (o *openLine) add(b []byte) {
	if o.inside {
		n := bytes.IndexByte(b, ' ')
		if n < 0 && len(o.prefix)+len(b) < longestTime {
			o.prefix = append(o.prefix, b...)
			return
		}
		whole := append(o.prefix, b[:max(n, 0)]...)
		t, err := time.Parse(time.RFC3339Nano, string(whole))
		o.inside = false
		if n < 0 || err != nil {
			b = append(bytes.Clone(o.prefix), b...) // a message without a time
		} else {
			b = b[n+1:]
			if o.time.IsZero() {
				o.time = t
			}
		}
		o.prefix = o.prefix[:0]
	}
	room := max(0, mostLogLine-len(o.text))
	o.cut = o.cut || len(b) > room
	o.text = append(o.text, b[:min(len(b), room)]...)
}

// timed ends a message: one that is a time only, without a blank, is an empty one.
func (o *openLine) timed() {
	if o.inside && len(o.prefix) > 0 {
		if _, err := time.Parse(time.RFC3339Nano, string(o.prefix)); err != nil {
			o.text = append(o.text, o.prefix...)
		}
	}
	o.inside = false
}
