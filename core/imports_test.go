// Package core_test holds what is true of all of core.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "proudlantern.example/lantern/"

// banned is what core may not import: input and output of any kind. What it needs is passed in.
var banned = []string{"os", "os/exec", "os/user", "os/signal", "io/ioutil", "net", "net/http", "net/url",
	"log", "log/slog", "syscall", "path/filepath", "crypto/rand", "math/rand", "bufio"}

// order is the direction of imports inside core: each package may import those before it.
var order = []string{"core/merge", "core/tags", "core/parallel", "core/secret", "core/source", "core/survey",
	"core/declare", "core/lab", "core/sites", "core/access", "core/wiring", "core/plan", "core/check", "core/prepare", "core/chart", "core/draft",
	"core/interchange", "core/adopt"}

// floors are the storeys of the house, from the ground up: a package imports only what lies below it, and
// what belongs to it.
var floors = [][]string{
	{"core"},
	{"internal/system"},
	{"internal/corpus", "labdir", "backup", "gate"},
	{"hostconn", "registry"},
	{"engine", "folders"},
	{"host"},
	{"helper"},
	{"deploy"},
	{"app"},
	{"demo"},
	{"cli"},
	{"cmd"},
}

// floorOf returns the floor of a package of ours and the part of the house that it belongs to; -1 where it
// has none.
func floorOf(house string) (floor int, part string) {
	for i, parts := range floors {
		for _, p := range parts {
			if house == p || strings.HasPrefix(house, p+"/") {
				return i, p
			}
		}
	}
	return -1, ""
}

// wrong says what is wrong with an import; "" when nothing is.
func wrong(from, to string) string {
	house := strings.TrimPrefix(from, module)
	ours, is := strings.CutPrefix(to, module)
	if strings.HasPrefix(house, "core/") {
		switch rank := func(p string) int { return slices.Index(order, p) }; {
		case slices.Contains(banned, to):
			return "pass in what it needs"
		case is && rank(house) < 0:
			return "it has no place in the order of core"
		case is && (rank(ours) < 0 || rank(ours) >= rank(house)):
			return "that is not before it"
		}
		return ""
	}
	if !is {
		return ""
	}
	floor, part := floorOf(house)
	below, other := floorOf(ours)
	switch {
	case floor < 0 || below < 0:
		return "one of them has no place in the house"
	case strings.HasSuffix(house, "test") && below <= floor: // a package for tests
		return ""
	case part != other && below >= floor:
		return "that is not below it"
	}
	return ""
}

// Direct imports only: fmt itself imports os.
func TestImports(t *testing.T) {
	out, err := exec.Command("go", "list", "-f",
		`{{$p := .ImportPath}}{{range .Imports}}{{$p}} {{.}}{{"\n"}}{{end}}`, "../...").Output()
	require.NoError(t, err)
	seen := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		from, to, _ := strings.Cut(strings.TrimSpace(line), " ")
		assert.Empty(t, wrong(from, to), "%s imports %s", from, to)
		seen[from] = true
	}
	// Each package notices an import from the roof, and core whatever reaches outside.
	for from := range seen {
		if house := strings.TrimPrefix(from, module); strings.HasPrefix(house, "core/") {
			for _, planted := range []string{"os", "net", module + "labdir", module + "cli",
				module + order[len(order)-1]} {
				assert.True(t, wrong(from, planted) != "" || planted == from, "%s may import %s", from, planted)
			}
		} else if !strings.HasPrefix(house, "cmd/") && !strings.HasPrefix(house, "cli") {
			assert.NotEmpty(t, wrong(from, module+"cli"), "%s may import cli", from)
			assert.NotEmpty(t, wrong(from, module+"cmd/lantern"), "%s may import cmd", from)
		}
	}
	assert.Greater(t, len(seen), 20, "the list of imports was read")
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
					assert.NotContains(t,
						[]string{"Now", "Since", "Until", "Sleep", "After", "NewTimer", "LoadLocation"},
						call.Sel.Name, path)
				}
			}
			return true
		})
		return nil
	}))
	assert.Greater(t, files, 15)
}

// What belongs to a host is reached by the way to it, which may be a long one: only hostconn touches this
// machine's files and network for it. These calls are about something else.
var notTheHosts = map[string][]string{
	// how long we wait
	"engine/bounds.go": {"os.Getenv"},
	// who we are, and whether our own process lives
	"deploy/lock.go": {"os.Getpid", "os.Hostname", "os.ReadFile", "os.Readlink"},
	// where we deploy from
	"deploy/place.go": {"os.Hostname", "os.ReadFile"},
	// whether a page answers where the person is
	"deploy/observe/reach.go": {"net.Dialer"},
	// our own cache of what registries said
	"host/registry.go": {"os.Getpid", "os.MkdirAll", "os.ReadFile", "os.Remove", "os.Rename",
		"os.UserCacheDir", "os.WriteFile"},
}

func TestOneWayToAHost(t *testing.T) {
	touches := map[string][]string{
		"os":      nil,
		"net":     {"Dial", "DialTimeout", "Dialer", "Listen", "LookupHost", "DefaultResolver"},
		"syscall": {"Stat", "Kill", "Open", "Statfs"},
	}
	found := map[string][]string{}
	for _, pattern := range []string{"../engine/*.go", "../host/*.go", "../deploy/*.go", "../deploy/observe/*.go"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			require.NoError(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				if use, ok := n.(*ast.SelectorExpr); ok {
					x, ok := use.X.(*ast.Ident)
					if !ok || x.Obj != nil { // a variable of that name
						return true
					}
					names, ok := touches[x.Name]
					if call := x.Name + "." + use.Sel.Name; ok &&
						(names == nil || slices.Contains(names, use.Sel.Name)) {
						found[strings.TrimPrefix(name,
							"../")] = append(found[strings.TrimPrefix(name, "../")], call)
					}
				}
				return true
			})
		}
	}
	for name, calls := range found {
		slices.Sort(calls)
		assert.Equal(t, notTheHosts[name], slices.Compact(calls), name)
	}
	assert.Len(t, found, len(notTheHosts))
}
