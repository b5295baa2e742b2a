package check

import (
	"regexp"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// imageLine matches the line of a service's image, by whatever way its table is written: what stands before
// the key goes before others, too.
var imageLine = regexp.MustCompile(`^([ \t]*(?:[A-Za-z0-9_-]+\.)*)image[ \t]*=`)

// addTo returns the edit that puts an item into a list of a service: behind the last one, or in a list of its
// own below the image. It returns nil where that cannot be done by letters alone.
func addTo(s *lab.Service, key string, list []declare.Text, item string) []source.Edit {
	item = strconv.Quote(item)
	if n := len(list); n > 0 {
		at := list[n-1].Span
		if last := at.Text(); !strings.HasSuffix(last, `"`) && !strings.HasSuffix(last, `'`) {
			return nil // written in a way of its own
		}
		return []source.Edit{{At: at.File.Span(at.End, at.End), New: ", " + item}}
	}
	at := s.Image.Span()
	if at.IsZero() || at.File != s.Stack.File {
		return nil
	}
	prefix := imageLine.FindStringSubmatch(lineOf(at))
	end := strings.IndexByte(at.File.Text[at.End:], '\n')
	if prefix == nil || end < 0 ||
		regexp.MustCompile(`(?m)^[ \t]*`+regexp.QuoteMeta(strings.TrimSpace(prefix[1])+key)+
			`[ \t]*=`).MatchString(tableOf(at)) {
		return nil
	}
	end += at.End + 1
	return []source.Edit{{At: at.File.Span(end, end), New: prefix[1] + key + " = [" + item + "]\n"}}
}

// tableOf returns the text around a place from the header of its table to the next one.
func tableOf(at source.Span) string {
	text := at.File.Text
	start := strings.LastIndex(text[:at.Start], "\n[") + 1
	if end := strings.Index(text[at.End:], "\n["); end >= 0 {
		return text[start : at.End+end+1]
	}
	return text[start:]
}
