// Package secret has the text that may be a secret. Whatever prints it, formats it or writes it as JSON gets
// a mask, whatever its length or escaping: only [Text.Reveal] gives it away, and a test counts the places
// that call it.
package secret

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"unicode/utf8"
	"unique"
)

// Text is a text that knows whether it is secret. Texts are equal (==) if they are the same text and equally
// secret.
type Text struct {
	shown  string                // all of a text that everybody may read; else what is shown in its place
	hidden unique.Handle[string] // the secret. Nothing that prints the fields of a value gets behind a handle
}

// Plain returns a text that everybody may read.
func Plain(text string) Text { return Text{shown: text} }

// Of returns a text; an empty one is no secret.
func Of(text string, secret bool) Text {
	if !secret || text == "" {
		return Plain(text)
	}
	return Text{Mask(text), unique.Make(text)}
}

// Plains returns texts that everybody may read; nil for nil.
func Plains(texts []string) []Text { return Words(texts, false) }

// Words returns texts that are all secret or all plain; nil for nil.
func Words(texts []string, secret bool) []Text {
	if texts == nil {
		return nil
	}
	words := make([]Text, len(texts))
	for i, t := range texts {
		words[i] = Of(t, secret)
	}
	return words
}

// Mask returns what stands in place of a secret.
func Mask(secret string) string {
	return fmt.Sprintf("hidden (%d characters)", utf8.RuneCountInString(secret))
}

// Secret reports whether it is one.
func (t Text) Secret() bool { return t.hidden != unique.Handle[string]{} }

// Any reports whether one of several is secret.
func Any(texts []Text) bool { return slices.ContainsFunc(texts, Text.Secret) }

// String returns the text, or what stands in its place.
func (t Text) String() string { return t.shown }

// GoString is String in quotes.
func (t Text) GoString() string { return fmt.Sprintf("%q", t.shown) }

// MarshalText returns what String returns.
func (t Text) MarshalText() ([]byte, error) { return []byte(t.shown), nil }

// UnmarshalText reads a text that everybody may read.
func (t *Text) UnmarshalText(b []byte) error {
	*t = Plain(string(b))
	return nil
}

// Reveal returns the text itself: for what computes with it, for the engine, for an environment file. It may
// not go anywhere else.
func (t Text) Reveal() string {
	if t.Secret() {
		return t.hidden.Value()
	}
	return t.shown
}

// Reveal returns the texts themselves; nil for nil.
func Reveal(texts []Text) []string {
	if texts == nil {
		return nil
	}
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = t.Reveal()
	}
	return out
}

// Is reports whether the text is another one, secret or not.
func (t Text) Is(text string) bool { return t.Reveal() == text }

// Same reports whether two texts are one, secret or not.
func (t Text) Same(o Text) bool { return t.Reveal() == o.Reveal() }

// Empty reports whether there is no text.
func (t Text) Empty() bool { return t.shown == "" }

// Digest returns a secret as it may be written where everybody reads: shown is its digest, keyed by salt. A
// plain text stays as it is.
func (t Text) Digest(salt string) Text {
	if !t.Secret() {
		return t
	}
	mac := hmac.New(sha256.New, []byte(salt))
	mac.Write([]byte(t.hidden.Value()))
	t.shown = hex.EncodeToString(mac.Sum(nil))
	return t
}

// Len returns the length of the text itself in bytes, secret or not.
func (t Text) Len() int { return len(t.Reveal()) }
