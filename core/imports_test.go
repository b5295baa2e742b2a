// Package core_test holds what is true of all of core.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "proudlantern.example/lantern/"

// banned is what core may not import: input and output of any kind. What it needs is passed in.
var banned = []string{"os", "os/exec", "os/user", "os/signal", "io/ioutil", "net", "net/http", "net/url", "log", "log/slog", "syscall", "path/filepath", "crypto/rand", "math/rand", "bufio"}

// order is the direction of imports inside core: each package may import those before it.
var order = []string{"core/parallel", "core/secret", "core/source", "core/survey", "core/declare", "core/lab", "core/plan", "core/check"}

// Direct imports only: fmt itself imports os.
func TestImports(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{$p := .ImportPath}}{{range .Imports}}{{$p}} {{.}}{{"\n"}}{{end}}`, "../...").Output()
	require.NoError(t, err)
	rank := map[string]int{}
	for i, p := range order {
		rank[module+p] = i + 1
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		from, to, _ := strings.Cut(strings.TrimSpace(line), " ")
		ours := strings.TrimPrefix(to, module)
		switch house := strings.TrimPrefix(from, module); {
		case strings.HasPrefix(house, "core/"):
			seen++
			assert.NotContains(t, banned, to, "%s imports %s: pass in what it needs", from, to)
			if ours != to {
				require.Positive(t, rank[from], "%s has no place in the order of core", from)
				assert.Less(t, rank[to], rank[from], "%s imports %s, which is not before it", from, to)
				assert.True(t, strings.HasPrefix(ours, "core/"), "%s imports %s", from, to)
			}
		case house == "labdir", house == "registry":
			assert.True(t, ours == to || strings.HasPrefix(ours, "core/"), "%s imports %s", from, to)
		case strings.HasPrefix(house, "engine"), strings.HasPrefix(house, "host"):
			assert.False(t, strings.HasPrefix(ours, "cli") || strings.HasPrefix(ours, "deploy"), "%s imports %s", from, to)
		case strings.HasPrefix(house, "deploy"):
			assert.False(t, strings.HasPrefix(ours, "cli"), "%s imports %s", from, to)
		}
	}
	assert.Greater(t, seen, 20, "the list of imports was read")
}

// The clock and the environment are facts of a machine, too.
func TestNoClock(t *testing.T) {
	files := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if call, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := call.X.(*ast.Ident); ok && x.Name == "time" {
					assert.NotContains(t, []string{"Now", "Since", "Until", "Sleep", "After", "NewTimer", "LoadLocation"}, call.Sel.Name, path)
				}
			}
			return true
		})
		return nil
	}))
	assert.Greater(t, files, 15)
}
