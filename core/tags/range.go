package tags

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Range is a range of versions, such as ">= 2.0, < 3". The zero Range holds none.
type Range struct{ bounds []bound }

type bound struct {
	sign    string
	numbers []string
}

var boundText = regexp.MustCompile(`^\s*(>=|<=|>|<|=)\s*(\d{1,12}(?:\.\d{1,12}){0,5})\s*$`)

// mostBounds is how many bounds a range may have.
const mostBounds = 8

// ParseRange reads a range: comparisons with commas between them, all of which have to hold.
func ParseRange(text string) (Range, error) {
	var r Range
	for _, part := range strings.Split(text, ",") {
		m := boundText.FindStringSubmatch(part)
		if m == nil || len(r.bounds) == mostBounds {
			return Range{}, fmt.Errorf("versions are comparisons, such as >= 2.0, < 3")
		}
		r.bounds = append(r.bounds, bound{m[1], strings.Split(m[2], ".")})
	}
	return r, nil
}

// Has reports whether a tag is a version in the range. Numbers that a tag does not have count as 0.
func (r Range) Has(tag string) bool {
	v, ok := parse(tag)
	return ok && len(r.bounds) > 0 && !slices.ContainsFunc(r.bounds, func(b bound) bool { return !b.has(v.numbers) })
}

func (b bound) has(numbers []string) bool {
	sign := 0
	for i := 0; sign == 0 && i < max(len(numbers), len(b.numbers)); i++ {
		sign = cmp.Compare(numberAt(numbers, i), numberAt(b.numbers, i))
	}
	switch b.sign {
	case ">=":
		return sign >= 0
	case "<=":
		return sign <= 0
	case ">":
		return sign > 0
	case "<":
		return sign < 0
	}
	return sign == 0
}

func numberAt(numbers []string, i int) int64 {
	if i >= len(numbers) {
		return 0
	}
	n, _ := strconv.ParseInt(numbers[i], 10, 64) // at most 12 digits
	return n
}
