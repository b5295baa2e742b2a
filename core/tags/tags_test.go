package tags

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNewerThan(t *testing.T) {
	for _, c := range []struct{ current, all, want string }{
		{"4.2-small", "4.2-small 4.3-small 4.10-small 5.0-small 5.1 4.11 4.12-smaller 4.3-small-rc1",
			"4.10-small minor, 5.0-small major"},
		{"1.2.3", "1.2.3 1.2.4 1.2.10 1.3.0 1.4 2.0.0 2.0.0-rc1 10.0.0 1.2.2 0.9.9",
			"1.2.10 patch, 1.3.0 minor, 10.0.0 major"},
		{"v1.2.3-small", "v1.2.4-small 1.2.5-small v1.2.5 V1.2.6-small v2.0.0-small",
			"v1.2.4-small patch, v2.0.0-small major"},
		{"4", "5 6 20260101 4.1 latest 3", "6 major"},
		{"2026-11-01", "2026-11-28 2027-01-03 2026-10-31 2026-13-01 2026.11.29 5.0.0", "2027-01-03 minor"},
		{"20261101", "20261128 20260101 7 99999999", "20261128 minor"},
		{"2026.11.1", "2026.11.28 2026.10.30 3000.1.1 4.2.1", "2026.11.28 minor"},
		{"release-7.1", "release-7.2 release-8.0 7.3", "release-7.2 minor, release-8.0 major"},
		{"1.2.3.4", "1.2.3.5 1.2.4.0", "1.2.4.0 patch"},
		{"latest", "1.0 2.0 latest", ""},
		{"stable", "1.0", ""},
		{"3f2a91c", "3f2a91d 4f2a91c", ""},
		{"4.2", "", ""},
		{"4.2", "4.2 4.02 4.1", ""},
		{"999999999999.1", "9999999999999.1 999999999999.2", "999999999999.2 minor"},
	} {
		var got []string
		for _, n := range NewerThan(c.current, strings.Fields(c.all)) {
			got = append(got, n.Tag+" "+n.Change)
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), "%s of %s", c.current, c.all)
	}
	list := []Newer{{"1.2.4", Patch}, {"1.3.0", Minor}, {"2.0.0", Major}}
	assert.Equal(t, "1.2.4", Within(list, Patch))
	assert.Equal(t, "1.3.0", Within(list, Minor))
	assert.Equal(t, "2.0.0", Within(list, Major))
	assert.Equal(t, "2.0.0", Within(list[2:], Major))
	assert.Empty(t, Within(list[2:], Minor))
}

func TestMoves(t *testing.T) {
	all := strings.Fields("latest 4 4.2 4.2.1 4.3.0 4.2-small 4.2.1-small noble 2026-11-28 3f2a91c v1.2")
	var moving []string
	for _, tag := range all {
		if Moves(tag, all) {
			moving = append(moving, tag)
		}
	}
	assert.Equal(t, strings.Fields("latest 4 4.2 4.2-small noble"), moving)
	assert.Equal(t, strings.Fields("2026-11-28 4.10.2 4.3.0 4.3.0-small 4.2.1 4.02 4.2 4 v1.2 latest noble"),
		Sorted(strings.Fields("noble 4 4.2 4.2.1 latest 4.3.0 4.10.2 4.3.0-small 2026-11-28 v1.2 4.2 4.02")))
}
