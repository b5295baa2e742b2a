// Package tags tells which tags of an image are newer versions of the same kind.
package tags

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// How much a newer version changes: by the place of the first number that differs.
const (
	Major = "major" // the first number
	Minor = "minor" // the second number, or any of a date
	Patch = "patch" // the third number or a later one
)

// Newer is a newer tag.
type Newer struct {
	Tag    string `json:"tag"`
	Change string `json:"change"`
}

// version is what a tag says: words around numbers.
type version struct {
	before, after string   // such as "v" and "-small"
	between       string   // what stands between the numbers: "." or "-"
	numbers       []string // as they are written
	date          bool     // year, month and day
}

var (
	dotted = regexp.MustCompile(`^([A-Za-z_-]*)(\d{1,12}(?:\.\d{1,12}){0,5})((?:[-_+][A-Za-z].*)?)$`)
	dashed = regexp.MustCompile(`^([A-Za-z_-]*)(\d{4}-\d{2}-\d{2})((?:[-_+][A-Za-z].*)?)$`)
)

// parse reads a tag; ok is false for one that holds no version, such as latest.
func parse(tag string) (v version, ok bool) {
	m, between := dashed.FindStringSubmatch(tag), "-"
	if m == nil {
		m, between = dotted.FindStringSubmatch(tag), "."
	}
	if m == nil {
		return v, false
	}
	v = version{before: m[1], after: m[3], between: between, numbers: strings.Split(m[2], between)}
	v.date = isDate(v.numbers)
	if between == "-" && !v.date {
		return v, false
	}
	return v, true
}

// isDate reports whether numbers are year, month and day, in three or in one.
func isDate(numbers []string) bool {
	if len(numbers) == 1 && len(numbers[0]) == 8 {
		n := numbers[0]
		numbers = []string{n[:4], n[4:6], n[6:]}
	}
	if len(numbers) != 3 {
		return false
	}
	year, _ := strconv.Atoi(numbers[0])
	month, _ := strconv.Atoi(numbers[1])
	day, _ := strconv.Atoi(numbers[2])
	return len(numbers[0]) == 4 && year >= 1990 && year < 2100 && month >= 1 && month <= 12 && day >= 1 && day <= 31
}

// alike reports whether two tags have the same shape: the same words around as many numbers. A date is no version
// with as many numbers.
func (v version) alike(o version) bool {
	return v.before == o.before && v.after == o.after && v.between == o.between && v.date == o.date &&
		len(v.numbers) == len(o.numbers)
}

// compare returns which one is higher, and the place of the first number that differs.
func (v version) compare(o version) (sign, place int) {
	for i := range v.numbers {
		a, _ := strconv.ParseInt(v.numbers[i], 10, 64)
		b, _ := strconv.ParseInt(o.numbers[i], 10, 64)
		if a != b {
			return map[bool]int{true: 1, false: -1}[a > b], i
		}
	}
	return 0, len(v.numbers)
}

// NewerThan returns the highest of the tags for each kind of change, the smallest change first: those of the same
// shape as the current one. None are newer than one that holds no version.
func NewerThan(current string, all []string) []Newer {
	own, ok := parse(current)
	if !ok {
		return nil
	}
	best := map[string]version{}
	tags := map[string]string{}
	for _, tag := range all {
		v, ok := parse(tag)
		if !ok || !v.alike(own) {
			continue
		}
		sign, place := v.compare(own)
		if sign <= 0 {
			continue
		}
		change := Patch
		switch {
		case own.date || place == 1:
			change = Minor
		case place == 0:
			change = Major
		}
		if b, known := best[change]; known {
			if sign, _ := v.compare(b); sign <= 0 {
				continue
			}
		}
		best[change], tags[change] = v, tag
	}
	var found []Newer
	for _, change := range []string{Patch, Minor, Major} {
		if tag := tags[change]; tag != "" {
			found = append(found, Newer{tag, change})
		}
	}
	return found
}

// Within returns the newest of the tags whose change is at most so large; "" for none.
func Within(newer []Newer, most string) string {
	order := []string{Patch, Minor, Major}
	tag := ""
	for _, n := range newer {
		if slices.Index(order, n.Change) <= slices.Index(order, most) {
			tag = n.Tag
		}
	}
	return tag
}
