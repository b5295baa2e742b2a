//go:build linux

package cli_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"proudlantern.example/lantern/engine/enginetest"
)

// Files that are small and mean much: each is read and checked soon and in little memory, with a finding
// where there is a limit.
func TestSmallFilesThatExplode(t *testing.T) {
	enginetest.SkipTwice(t)
	if testing.Short() {
		t.Skip("it measures memory and time")
	}
	many := func(n int, format string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i, (i+1)%n)
		}
		return b.String()
	}
	const service = "[service.desk]\nimage = \"registry.skerry.example/probe:1\"\n"
	for name, c := range map[string]struct{ lab, stack, env, says string }{
		"values that double": {stack: "[let]\n" + doubling(39) + service + "env.ROOM = \"${b39}\"\n",
			says: "longer than"},
		"all ports many times": {stack: service + "ports = [" +
			strings.Repeat("\"1-65535 -> 1-65535/tcp+udp\", ", 64) + "]\n", says: "more than 20000 ports"},
		"a circle": {stack: many(10_000,
			"[service.s%[1]d]\nimage = \"x.example/y:1\"\nafter = [\"s%[2]d\"]\n"), says: "at most 1000 are read"},
		"a file many times": {stack: service + "env-files = [" + strings.Repeat("\"e\",", 170_000) + "]\n",
			env: "ROOM=lamp\n"},
		"many accepted": {stack: service + "accept = { " + strings.TrimSuffix(many(25_000,
			"\"port-clash p%[1]d\" = \"reason\", "), ", ") + " }\n"},
		"many variables": {stack: service + many(40_000, "env.A%[1]d = \"x\"\n")},
		"many in a file": {stack: service + "env-files = [\"e\"]\n", env: many(100_000, "A%[1]d=x\n")},
		"many services": {stack: many(12_000,
			"[service.s%[1]d]\nimage = \"x.example/y:1\"\nports = [\"%[1]d -> 80\"]\n")},
		"many mounts": {stack: service + "mounts = [" + many(30_000, "\"/srv/a%[1]d -> /b%[1]d\",\n") + "]\n"},
	} {
		t.Run(name, func(t *testing.T) {
			b := standInBench(t)
			b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address)+c.lab)
			b.write("tide-log/stack.toml", c.stack)
			if c.env != "" {
				b.write("tide-log/e", c.env)
			}
			for _, command := range []string{"check --offline", "check --offline --format json",
				"ports --offline", "mounts --offline", "env tide-log --offline"} {
				code, said, took, memory := b.measure(t, strings.Fields(command)...)
				t.Logf("%-32s %d %6dms %4d MB, says %d kB",
					command, code, took.Milliseconds(), memory>>20, len(said)>>10)
				assert.Less(t, took, 20*time.Second, command) // 2 s on an idle machine
				assert.Less(t, memory, int64(200<<20), command)
				if command == "check --offline" {
					assert.Less(t, len(said), 64<<10, command)
				}
				if strings.HasPrefix(command, "check") {
					assert.Contains(t, said, c.says, command)
				}
			}
		})
	}
}

// doubling is n values of which each is twice the one before.
func doubling(n int) string {
	var b strings.Builder
	b.WriteString("b0 = \"tide\"\n")
	for i := 1; i <= n; i++ {
		fmt.Fprintf(&b, "b%d = \"${b%d}${b%d}\"\n", i, i-1, i-1)
	}
	return b.String()
}
