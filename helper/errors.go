package helper

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"syscall"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/hostconn"
)

// wireError is an error on its way: its words, and which errors it wraps that callers tell apart.
type wireError struct {
	Text string             `json:"text"`
	Is   []string           `json:"is,omitempty"`
	Room *folders.RoomError `json:"room,omitempty"`
}

// told are the errors that callers tell apart.
var told = map[string]error{
	"not-exist": fs.ErrNotExist, "exist": fs.ErrExist, "permission": fs.ErrPermission, "unsupported": syscall.ENOTSUP,
	"no-data": syscall.ENODATA, "not-dir": syscall.ENOTDIR, "full": syscall.ENOSPC, "no-acl": hostconn.ErrNoACL, "refused-port": syscall.ECONNREFUSED,
	"meanwhile": folders.ErrMeanwhile, "filled": folders.ErrFilled, "other": folders.ErrOther,
	"damaged": backup.ErrDamaged, "refused": backup.ErrRefused, "canceled": context.Canceled,
}

func wired(err error) *wireError {
	if err == nil {
		return nil
	}
	w := &wireError{Text: err.Error()}
	for name, one := range told {
		if errors.Is(err, one) {
			w.Is = append(w.Is, name)
		}
	}
	errors.As(err, &w.Room)
	return w
}

// err is the error as callers know it.
func (w *wireError) err() error {
	switch {
	case w == nil:
		return nil
	case w.Room != nil:
		return w.Room
	}
	e := &farError{text: w.Text}
	for _, name := range w.Is {
		if one, known := told[name]; known {
			e.is = append(e.is, one)
		}
	}
	return e
}

// farError has come from a helper.
type farError struct {
	text string
	is   []error
}

func (e *farError) Error() string   { return e.text }
func (e *farError) Unwrap() []error { return e.is }

// behind reads the error behind a stream; nil where there is none.
func behind(trailer string) error {
	if trailer == "" {
		return nil
	}
	var w wireError
	if err := json.Unmarshal([]byte(trailer), &w); err != nil {
		return err
	}
	return w.err()
}
