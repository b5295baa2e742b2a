package engine

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"time"
)

// Talk runs a command inside a container that runs, and returns a connection that is its input and output. What it says
// to standard error is the error of reading on.
func (e *Engine) Talk(ctx context.Context, id string, command []string) (net.Conn, error) {
	in, input := io.Pipe()
	output, out := io.Pipe()
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	said := &ending{most: 500}
	go func() {
		code, err := e.Exec(running, id, Exec{Command: command, In: in, Out: out, Err: said})
		switch {
		case err == nil && code != 0 && len(said.text) > 0:
			err = errors.New(string(said.text))
		case err == nil:
			err = io.EOF
		}
		out.CloseWithError(err)
		in.CloseWithError(err)
		stop()
	}()
	return &execConn{Reader: output, Writer: input, close: func() error {
		return errors.Join(input.Close(), output.Close())
	}, stop: stop}, nil
}

// execConn is the input and output of a command.
type execConn struct {
	io.Reader
	io.Writer
	once  sync.Once
	close func() error
	stop  func()
}

func (c *execConn) Close() (err error) {
	c.once.Do(func() {
		err = c.close()
		c.stop()
	})
	return err
}

func (*execConn) LocalAddr() net.Addr  { return place{} }
func (*execConn) RemoteAddr() net.Addr { return place{} }

// place is the address of what is reached through an engine.
type place struct{}

func (place) Network() string { return "engine" }
func (place) String() string  { return "inside" }

// A stream of an engine knows no times; whoever waits closes it.
func (*execConn) SetDeadline(time.Time) error      { return nil }
func (*execConn) SetReadDeadline(time.Time) error  { return nil }
func (*execConn) SetWriteDeadline(time.Time) error { return nil }
