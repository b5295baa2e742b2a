package tags

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRange(t *testing.T) {
	for text, tags := range map[string]string{
		">= 2.0":           "2 2.0 2.0.1 3-small v2.1 !1.9 !latest !",
		">= 2, < 3":        "2.9.9 !3 !3.0 !1",
		"=4.2":             "4.2 4.2.0 4.2-small !4.2.1",
		"> 1":              "1.0.1 2 !1 !1.0",
		"<= 2026.11":       "2026.11 2026.10 !2026.12",
		"< 999999999999.1": "999999999999 !999999999999.1",
	} {
		r, err := ParseRange(text)
		require.NoError(t, err, text)
		for _, tag := range strings.Split(tags, " ") {
			plain, not := strings.CutPrefix(tag, "!")
			assert.Equal(t, !not, r.Has(plain), "%s has %s", text, plain)
		}
	}
	for _, text := range []string{"", "2.0", ">= 2.x", ">= 2 < 3", ">= 1,", strings.Repeat("> 1,", 20) + "> 1", "> 1234567890123"} {
		_, err := ParseRange(text)
		assert.Error(t, err, text)
	}
	assert.False(t, Range{}.Has("1"))
}
