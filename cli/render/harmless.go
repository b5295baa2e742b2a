package render

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"io"
	"math/big"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/colorprofile"
)

// Harmless makes visible what would do something to a terminal, or to the look of a line, instead of being
// shown: control characters (ECMA-48, C0 and C1), changes of the writing direction, separators of lines,
// bytes that are no UTF-8. It is for text from outside that is put into a cell or a line.
func Harmless(s string) string {
	if !strings.ContainsFunc(s, harmful) && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case harmful(r):
			b.WriteString(visible(r))
		default:
			b.WriteRune(r)
		}
		i += size
	}
	return b.String()
}

func visible(r rune) string {
	switch {
	case r == '\n':
		return `\n`
	case r == '\r':
		return `\r`
	case r == '\t':
		return `\t`
	case r < 0x80:
		return fmt.Sprintf(`\x%02x`, r)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

func harmful(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0: // C0, DEL, C1
	// Unicode, bidirectional formatting
	case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0x200e, r == 0x200f, r == 0x061c:
	case r == 0x2028, r == 0x2029, r == 0xfeff: // separators of lines and paragraphs, byte order mark
	case r >= 0xe0000 && r <= 0xe007f: // tags
	default:
		return false
	}
	return true
}

// nonce is a number by which our own colours are known in what is written. It is not known outside, so
// no text from outside can write in them.
var nonce = func() string {
	n, err := rand.Int(rand.Reader, big.NewInt(1<<53))
	if err != nil {
		panic("render: no random numbers: " + err.Error()) // crypto/rand does not fail on systems that we build for
	}
	return n.String()
}()

// marker stands for the beginning of a colour, or with 0 for its end, until it is written. It has the form of
// a control sequence, so that it has no width.
func marker(colour int) string { return "\x1b[" + nonce + ";" + strconv.Itoa(colour) + "m" }

// Outlet is where everything that people read goes through last: it turns our own colours into what terminals
// understand, and makes every other control character harmless. JSON reports whether what is written is JSON,
// where such characters are escaped instead.
type Outlet struct {
	w    io.Writer
	json func() bool
	own  []string // see sequences
	rest []byte   // the beginning of a character, or of a marker, of which more has to come
}

// NewOutlet returns an Outlet that writes to w, in the colours that a terminal has.
func NewOutlet(w io.Writer, json func() bool, terminal colorprofile.Profile) *Outlet {
	return &Outlet{w: w, json: json, own: sequences(terminal)}
}

// Inner returns what it writes to.
func (o *Outlet) Inner() io.Writer { return o.w }

func (o *Outlet) Write(p []byte) (int, error) {
	text := append(o.rest, p...)
	o.rest = nil
	json := o.json()
	var b bytes.Buffer
	b.Grow(len(text))
	for i := 0; i < len(text); {
		if c := text[i]; c >= 0x20 && c < 0x7f || c == '\n' || c == '\t' {
			b.WriteByte(c)
			i++
			continue
		}
		if colour, length := ours(text[i:]); length > 0 {
			b.WriteString(o.own[colour])
			i += length
			continue
		}
		r, size := utf8.DecodeRune(text[i:])
		switch {
		case r == utf8.RuneError && size <= 1 && !utf8.FullRune(text[i:]):
			o.rest = bytes.Clone(text[i:])
			size = len(text) - i
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case harmful(r) && json && r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		case harmful(r):
			b.WriteString(visible(r))
		default:
			b.WriteRune(r)
		}
		i += size
	}
	if _, err := o.w.Write(b.Bytes()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// ours returns the colour that a marker of ours stands for, and the marker's length; 0 when the text does not
// begin with one.
func ours(text []byte) (colour, length int) {
	head := "\x1b[" + nonce + ";"
	rest, ok := bytes.CutPrefix(text, []byte(head))
	if !ok {
		return 0, 0
	}
	number, _, ok := bytes.Cut(rest[:min(len(rest), 4)], []byte("m"))
	colour, err := strconv.Atoi(string(number))
	if !ok || err != nil || colour < 0 || colour >= len(styles) {
		return 0, 0
	}
	return colour, len(head) + len(number) + 1
}
