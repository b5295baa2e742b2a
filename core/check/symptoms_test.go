package check

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSymptoms(t *testing.T) {
	for _, c := range []struct{ line, rule string }{
		{"open /data/tides.db: permission denied", "mount-denied"},
		{"mkdir: can't create directory '/data': Read-only file system", "mount-denied"},
		{"listen tcp4 0.0.0.0:8713: bind: address already in use", "port-in-use"},
		{"dial tcp: lookup stor on 127.0.0.11:53: no such host", "wire-unknown"},
		{"Error: connect ECONNREFUSED 127.0.0.1:7410", "wire-port"},
		{`FATAL: password authentication failed for user "tides"`, "wire-credentials"},
		{"exec /desk: exec format error", "image-platform"},
		{"write /data/x: no space left on device", "mount-low-space"},
	} {
		rules := Symptoms([]string{"the desk opens", c.line})
		if assert.NotEmpty(t, rules, c.line) {
			assert.Equal(t, c.rule, rules[0], c.line)
		}
	}
	assert.Empty(t, Symptoms([]string{"open for readings", "the lens is cracked"}))
	for _, s := range symptoms {
		for _, name := range s.rules {
			assert.True(t, slices.ContainsFunc(All(), func(r Rule) bool { return r.Name == name }),
				"%s is a rule", name)
		}
	}
}
