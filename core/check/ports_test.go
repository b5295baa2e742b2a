package check

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOverlap(t *testing.T) {
	addresses := func(list ...string) []netip.Addr {
		var out []netip.Addr
		for _, s := range list {
			out = append(out, netip.MustParseAddr(s))
		}
		return out
	}
	all := addresses()
	for _, c := range []struct {
		a, b []netip.Addr
		want bool
	}{
		{all, all, true},
		{all, addresses("192.0.2.14"), true},
		{all, addresses("2001:db8::1"), true},
		{addresses("0.0.0.0"), addresses("192.0.2.14"), true},
		{addresses("0.0.0.0"), addresses("::"), true},
		{addresses("::"), addresses("192.0.2.14"), true},
		{addresses("0.0.0.0"), addresses("2001:db8::1"), false},
		{addresses("192.0.2.14"), addresses("192.0.2.15"), false},
		{addresses("::ffff:192.0.2.14"), addresses("192.0.2.14"), true},
		{addresses("127.0.0.1", "::1"), addresses("::1"), true},
		{addresses("127.0.0.1", "::1"), addresses("127.0.0.2"), false},
	} {
		assert.Equal(t, c.want, overlap(c.a, c.b), "%v and %v", c.a, c.b)
		assert.Equal(t, c.want, overlap(c.b, c.a), "%v and %v", c.b, c.a)
	}
}
