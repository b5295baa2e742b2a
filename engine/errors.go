package engine

import (
	"context"
	"errors"
	"io"
	"net"
	"strings"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/moby/moby/client"
)

// Errors that a caller may branch on.
var (
	// ErrNotFound is returned when there is no such container, image or network.
	ErrNotFound = errors.New("not there")
	// ErrNameTaken is returned when another container or network has the name.
	ErrNameTaken = errors.New("the name is taken")
	// ErrPortInUse is returned by Start when a host port is held by somebody else.
	ErrPortInUse = errors.New("the port is in use")
	// ErrUnknownOutcome is returned when the connection broke during a call: it may have happened, so inspect
	// first.
	ErrUnknownOutcome = errors.New("the connection to the engine broke during the call")
	// ErrForeign is returned for what is not the lab's, and therefore not to be touched.
	ErrForeign = errors.New("it is not of this lab")
	// ErrDiffers is returned when what is there is another one than declared.
	ErrDiffers = errors.New("it is there, and differs")
	// ErrMiscounted is returned when an engine keeps a network for members that it does not have.
	ErrMiscounted = errors.New("the engine has lost count")
	// ErrDiskFull is returned when the disk of the engine has no space left.
	ErrDiskFull = errors.New("the disk is full")
	// ErrUnsupported is returned when the engine lacks the call.
	ErrUnsupported = errors.New("this engine cannot do that")
)

// Error is what an engine answered.
type Error struct {
	Call    string // such as "start"
	Message string // in the engine's words
	kind    error  // one of the errors above, or nil
	err     error
}

func (e *Error) Error() string { return e.Message }

// Unwrap gives the kind and the client's own error.
func (e *Error) Unwrap() []error {
	if e.kind == nil {
		return []error{e.err}
	}
	return []error{e.kind, e.err}
}

// explain sorts an error of the API by what it means. Engines agree on meanings more than on status codes, so
// their words count, too.
func explain(call string, err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	var known *Error
	if errors.As(err, &known) {
		return err
	}
	said := strings.TrimPrefix(err.Error(), "Error response from daemon: ")
	if _, why, ok := strings.Cut(said, "}: copier: put: "); ok {
		said = why // Podman's service says before all that its copier was asked
	}
	text := short(said)
	e := &Error{Call: call, Message: text, err: err}
	var network net.Error
	switch {
	case errors.Is(err, ErrTooMuch):
		e.kind, e.Message = ErrTooMuch, ErrTooMuch.Error()
	case client.IsErrConnectionFailed(err), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.As(err, &network):
		e.kind, e.Message = ErrUnknownOutcome, "the connection to the engine broke during "+call
	case strings.Contains(text, "address already in use"), strings.Contains(text, "port is already allocated"):
		e.kind = ErrPortInUse
	case strings.Contains(text, "already in use"), strings.Contains(text, "already exists"):
		e.kind = ErrNameTaken
	case cerrdefs.IsNotFound(err), strings.Contains(text, "no such container"):
		e.kind = ErrNotFound
	}
	return e
}
