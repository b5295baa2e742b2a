package check_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/check"
)

// What about shows of a rule is what one of its cases finds: each line of the mistake stands in the case,
// comments aside.
func TestExamplesAreCases(t *testing.T) {
	comment := regexp.MustCompile(`(^|\s+)#.*`)
	plain := func(line string) string {
		line = strings.ReplaceAll(line, "␍", "\r")
		return strings.Join(strings.Fields(comment.ReplaceAllString(line, "")), " ")
	}
	for _, rule := range check.All() {
		cases, err := filepath.Glob("testdata/" + rule.Name + "/*")
		require.NoError(t, err)
		shown := false
		for _, dir := range cases {
			lines, fires := map[string]bool{}, false
			require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() || strings.HasSuffix(path, ".json") ||
					strings.HasSuffix(path, ".mended") {
					return err
				}
				text, err := os.ReadFile(path)
				fires = fires || strings.Contains(string(text), "want "+rule.Name+" ") ||
					strings.Contains(string(text), "want-next "+rule.Name+" ") ||
					strings.Contains(string(text), "; "+rule.Name+" ")
				for line := range strings.Lines(string(text)) {
					lines[plain(line)] = true
				}
				return err
			}))
			all := fires
			for line := range strings.Lines(rule.Mistake) {
				all = all && (plain(line) == "" || lines[plain(line)])
			}
			shown = shown || all
		}
		assert.True(t, shown, "%s: no case has what about shows:\n%s", rule.Name, rule.Mistake)
	}
}
