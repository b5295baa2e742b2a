//go:build linux

package cli_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// files are the blocks of a page that begin with the path of a file of a lab.
var files = regexp.MustCompile("(?s)```(?:toml|sh)\n# ([a-z.-]+(?:/[a-z.-]+)?)\n(.*?)```")

// What the pages for beginners show is a lab that the check has nothing to say about.
// yours stands in for what a reader puts in.
var yours = strings.NewReplacer("YOUR-ACCOUNT", "keeper", "YOUR-IMAGE", "registry.skerry.example/desk:1.4")

func TestPagesAreLabs(t *testing.T) {
	for page, stacks := range map[string]int{"../docs/lab-by-example.md": 2, "../README.md": 1} {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		b := &bench{t: t, dir: t.TempDir()}
		found := 0
		for _, m := range files.FindAllStringSubmatch(string(text), -1) {
			b.write(m[1], yours.Replace(m[2]))
			if strings.HasSuffix(m[1], "stack.toml") {
				found++
			}
		}
		require.Equal(t, stacks, found, page)
		stdout, _ := b.run(0, "check", "--offline", "--strict")
		assert.Contains(t, stdout, "0 errors, 0 warnings, 0 notes", "%s:\n%s", page, stdout)
	}
}
