package cli

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"proudlantern.example/lantern/core/secret"
)

// redactor keeps secrets out of everything that is written through it, wherever they come from: a path, an
// engine's message, the last lines of a container's log. What is known to be a secret is hidden before it
// gets here; this is for what was overlooked.
type redactor struct {
	io.Writer
	hides *hider
}

// hider takes secrets out of texts.
type hider struct {
	mu       sync.RWMutex
	known    map[string]bool
	replacer *strings.Replacer
	long     []string // secrets of which also a part gives something away
}

const (
	// shortest is how long a secret has to be, in bytes: anything shorter is a part of ordinary words.
	shortest = 4
	// cutFrom is how long a secret has to be for its parts to be looked for. A part is half of it, and at
	// least so many bytes.
	cutFrom, leastPart = 12, 8
)

// learn adds secrets.
func (h *hider) learn(secrets ...string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.known == nil {
		h.known = map[string]bool{}
	}
	for _, s := range secrets {
		h.known[s] = true
		for line := range strings.Lines(s) {
			h.known[strings.TrimRight(line, "\r\n")] = true
		}
	}
	hidden := map[string]string{}
	h.long = nil
	for s := range h.known {
		if len(s) < shortest {
			continue
		}
		for _, form := range forms(s) {
			hidden[form] = secret.Mask(s)
		}
		if len(s) >= cutFrom {
			h.long = append(h.long, s)
		}
	}
	// Of two that begin alike the longer one has to be tried first.
	found := make([]string, 0, len(hidden))
	for form := range hidden {
		found = append(found, form)
	}
	slices.SortFunc(found, func(a, b string) int { return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b)) })
	var pairs []string
	for _, form := range found {
		pairs = append(pairs, form, hidden[form])
	}
	slices.SortFunc(h.long, func(a, b string) int { return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b)) })
	h.replacer = strings.NewReplacer(pairs...)
}

// forms returns how a secret may be written in what programs say.
func forms(s string) []string {
	all := []string{s, url.QueryEscape(s), url.PathEscape(s), base64.StdEncoding.EncodeToString([]byte(s)),
		base64.URLEncoding.EncodeToString([]byte(s)),
		base64.RawStdEncoding.EncodeToString([]byte(s)), base64.RawURLEncoding.EncodeToString([]byte(s))}
	for _, quoted := range []string{strconv.Quote(s), strconv.QuoteToASCII(s)} {
		all = append(all, quoted[1:len(quoted)-1])
	}
	for _, html := range []bool{true, false} {
		var b strings.Builder
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(html)
		if e.Encode(s) == nil {
			inJSON := strings.TrimSuffix(b.String(), "\n")
			all = append(all, inJSON[1:len(inJSON)-1])
			// JSON in JSON, as in a label.
			if again, err := json.Marshal(inJSON[1 : len(inJSON)-1]); err == nil {
				all = append(all, string(again[1:len(again)-1]))
			}
		}
	}
	return slices.DeleteFunc(all, func(form string) bool { return len(form) < shortest })
}

// hide returns a text without secrets.
func (h *hider) hide(text string) string {
	h.mu.RLock()
	defer h.mu.RUnlock()
	if h.replacer == nil {
		return text
	}
	text = h.replacer.Replace(text)
	for _, s := range h.long {
		part := max(leastPart, len(s)/2)
		text = cutOut(text, s[:part], func(at int) (int, int) { // its beginning: up to where it goes on otherwise
			end := at + part
			for n := part; n < len(s) && end < len(text) && text[end] == s[n]; n++ {
				end++
			}
			return at, end
		})
		text = cutOut(text, s[len(s)-part:], func(at int) (int, int) { // its end: from where it came from elsewhere
			start := at
			for n := len(s) - part - 1; n >= 0 && start > 0 && text[start-1] == s[n]; n-- {
				start--
			}
			return start, at + part
		})
	}
	return text
}

// cutOut hides what lies around each place where a part is.
func cutOut(text, part string, around func(at int) (start, end int)) string {
	for {
		at := strings.Index(text, part)
		if at < 0 {
			return text
		}
		start, end := around(at)
		for start > 0 && !utf8.RuneStart(text[start]) {
			start--
		}
		for end < len(text) && !utf8.RuneStart(text[end]) {
			end++
		}
		text = text[:start] + "hidden" + text[end:]
	}
}

// Inner returns what it writes to.
func (r *redactor) Inner() io.Writer { return r.Writer }

// Write writes p without secrets. Every message comes in one piece, so that no secret is cut in two.
func (r *redactor) Write(p []byte) (int, error) {
	if _, err := io.WriteString(r.Writer, r.hides.hide(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
