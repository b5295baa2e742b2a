package tags

import (
	"cmp"
	"slices"
	"strings"
)

// habits are tags that are moved along by habit.
var habits = strings.Fields(
	"latest stable main master edge nightly dev develop development current rolling testing unstable beta")

// ByHabit reports whether a tag is one that is moved along everywhere, such as latest.
func ByHabit(tag string) bool { return slices.Contains(habits, tag) }

// Moves reports whether a tag most likely stands for another image some day: it holds no version, or one that other
// tags of its repository tell more precisely, as 4.2 where there is a 4.2.1.
func Moves(tag string, all []string) bool {
	own, ok := parse(tag)
	if !ok {
		return ByHabit(tag) || !strings.ContainsAny(tag, "0123456789")
	}
	return slices.ContainsFunc(all, func(other string) bool {
		v, ok := parse(other)
		return ok && v.before == own.before && v.after == own.after && v.between == own.between && !own.date &&
			len(v.numbers) > len(own.numbers) && slices.Equal(v.numbers[:len(own.numbers)], own.numbers)
	})
}

// Sorted returns tags with the newest versions first, and those that hold no version behind them, by name.
func Sorted(all []string) []string {
	sorted := slices.Clone(all)
	slices.SortFunc(sorted, func(a, b string) int {
		v, isVersion := parse(a)
		o, isOther := parse(b)
		switch {
		case isVersion != isOther:
			return map[bool]int{true: -1, false: 1}[isVersion]
		case !isVersion:
			return cmp.Compare(a, b)
		}
		for i := range min(len(v.numbers), len(o.numbers)) {
			x, y := strings.TrimLeft(v.numbers[i], "0"), strings.TrimLeft(o.numbers[i], "0")
			if c := cmp.Or(cmp.Compare(len(y), len(x)), cmp.Compare(y, x)); c != 0 {
				return c
			}
		}
		return cmp.Or(cmp.Compare(len(o.numbers), len(v.numbers)), cmp.Compare(a, b))
	})
	return slices.Compact(sorted)
}
