package app

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/labdir"
)

// Fixed is an edit that a mend has made. What is secret in its texts is hidden.
type Fixed struct {
	Rule string       `json:"rule"`
	At   source.Place `json:"at"` // in the file as it was then
	Old  string       `json:"old"`
	New  string       `json:"new"`
}

// Fixes is a lab after the mends that are certain.
type Fixes struct {
	Lab    *Workspace
	Result check.Result            // what is found then
	Fixed  []Fixed                 // in the order in which they were made
	Was    map[string]*source.File // the files that change, as they are
	Texts  map[string]string       // and what becomes of them
}

// madeUpLength is how many characters a secret has that is made up in place of a sample.
const madeUpLength = 32

// mostRounds is how often mends are worked out: one may make the next possible.
const mostRounds = 10

// Fix works out mends in rounds until nothing changes. Nothing is written. Resurvey takes another look at the
// hosts: mended paths and accounts are other questions to them.
func (w *Workspace) Fix(named Targets, host string, resurvey Surveyor) (*Fixes, error) {
	m := &Fixes{
		Lab:    w,
		Result: w.Check(named, host),
		Fixed:  []Fixed{},
		Was:    map[string]*source.File{},
		Texts:  map[string]string{},
	}
	told := map[Fixed]bool{}
	for range mostRounds {
		var groups [][]source.Edit
		var rules []string
		for _, f := range m.Result.Findings {
			if f.Mend != nil && f.Accepted == "" && len(f.Mend.Edits) > 0 {
				groups, rules = append(groups, f.Mend.Edits), append(rules, f.Rule)
			}
			if f.Mend != nil && f.Accepted == "" && !f.Mend.MakeUp.IsZero() {
				value := characters(madeUpLength)
				if w.caller.Learn != nil {
					w.caller.Learn(value)
				}
				groups = append(groups, []source.Edit{{
					At: f.Mend.MakeUp, New: value, Shown: secret.Mask(strings.Repeat("x", madeUpLength)),
				}})
				rules = append(rules, f.Rule)
			}
		}
		texts, applied := source.Apply(groups)
		changes := false
		for _, n := range applied {
			for _, e := range groups[n] {
				file := e.At.File
				if m.Was[file.Path] == nil {
					m.Was[file.Path] = file
				}
				changes = changes || texts[file.Path] != file.Text
				if f := (Fixed{Rule: rules[n], At: e.At.Place(), Old: e.At.Shown(), New: e.Says()}); !told[f] {
					told[f] = true
					m.Fixed = append(m.Fixed, f)
				}
			}
		}
		if !changes {
			break
		}
		maps.Copy(m.Texts, texts)
		mended, err := m.Lab.Overlay(m.Texts)
		if err == nil {
			mended, err = resurvey(mended)
		}
		if err != nil {
			return nil, err
		}
		m.Lab, m.Result = mended, mended.Check(named, host)
	}
	return m, nil
}

// Write puts the mends into the files. What goes from one file into another is in its new place first. After
// an error it also returns which files were written, and which were not.
func (m *Fixes) Write() (written, left []string, err error) {
	paths := slices.Sorted(maps.Keys(m.Texts))
	slices.SortStableFunc(paths, func(x, y string) int { return strings.Compare(filepath.Ext(x), filepath.Ext(y)) })
	for i, path := range paths {
		if err := writeFile(path, m.Lab.Dir, path, m.Was[path].Text, m.Texts[path], 0o600); err != nil {
			return paths[:i], paths[i:], err
		}
	}
	return paths, nil, nil
}

// writeFile writes a file below a folder, in place of what was read of it. Shown is its name in messages.
func writeFile(shown, dir, path, was, text string, mode fs.FileMode) error {
	err := labdir.WriteIn(dir, path, was, text, mode)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, labdir.ErrChanged):
		return &Error{
			Kind:    Stopped,
			Message: shown + " has changed since it was read, and was left as it is: run the command again",
			Err:     err,
		}
	}
	return &Error{
		Kind:    Manual,
		Message: fmt.Sprintf("%s could not be written: %s", shown, labdir.InWords(err)),
		Err:     err,
	}
}
