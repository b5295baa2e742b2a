package cli

import (
	"cmp"
	"encoding/json"
	"io"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// redactor keeps the lab's secrets out of everything that is written through it, wherever they come from: a command line that is compared, a path,
// the last lines of a container's log. What is known to be a secret is hidden before it gets here; this is for what nobody thought of.
type redactor struct {
	io.Writer
	replacer *strings.Replacer
}

// shortest is how long a secret has to be, in bytes: anything shorter is a part of ordinary words.
const shortest = 8

func newRedactor(w io.Writer, l *lab.Lab) io.Writer {
	secrets := l.Secrets()
	// Of two that begin alike the longer one has to be tried first.
	slices.SortFunc(secrets, func(a, b string) int { return cmp.Compare(len(b), len(a)) })
	var pairs []string
	for _, s := range secrets {
		if len(s) < shortest {
			continue
		}
		hidden := source.Hidden(s)
		pairs = append(pairs, s, hidden)
		if inJSON, err := json.Marshal(s); err == nil && string(inJSON[1:len(inJSON)-1]) != s {
			pairs = append(pairs, string(inJSON[1:len(inJSON)-1]), hidden)
		}
	}
	if len(pairs) == 0 {
		return w
	}
	return &redactor{w, strings.NewReplacer(pairs...)}
}

// Inner returns what it writes to.
func (r *redactor) Inner() io.Writer { return r.Writer }

// Write writes p without secrets. Every message comes in one piece, so that no secret is cut in two.
func (r *redactor) Write(p []byte) (int, error) {
	if _, err := io.WriteString(r.Writer, r.replacer.Replace(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
