package check_test

import (
	"encoding/json"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// A correct lab shows nothing: each folder of testdata/labs is one, with the surveys of its hosts.
func TestRichLabs(t *testing.T) {
	dirs, err := filepath.Glob("testdata/labs/*")
	require.NoError(t, err)
	require.Len(t, dirs, 10)
	var all strings.Builder
	for _, dir := range dirs {
		t.Run(filepath.Base(dir), func(t *testing.T) {
			rich := readRichLab(t, dir)
			l := rich.resolve(nil, true)
			for _, text := range rich.texts {
				all.WriteString(text)
			}
			assert.GreaterOrEqual(t, len(l.Stacks), 3)
			assert.LessOrEqual(t, len(l.Stacks), 8)
			result := check.Run(l, check.All())
			for _, f := range result.Findings {
				if f.Severity != check.Note && f.Accepted == "" {
					t.Errorf("%s:%d %s: %s", f.At.File.Path, f.At.Place().Line, f.Rule, f.Message)
				}
			}
			assert.Empty(t, result.Skipped, "all of it is judged")
		})
	}
	// Together they have every kind of port, mount, identity and network.
	for _, kind := range []string{
		`"\d+ -> \d+"`, `"\d+-\d+ -> `, `"any -> `, `/udp"`, `/tcp\+udp"`, `"localhost:\d+ -> `,
		`"[0-9.]+:\d+ -> `, `"\[[0-9a-f:]+\]:\d+ -> `, `listens = `,
		`"\$\{folder`, `"/etc/`, `"\./`, `"'`, `"volume `, `"memory -> `, `"memory \d+MiB`, `"engine -> `,
		`, read-only"`, `, create 0700"`, `, shared"`, `, start-empty"`, `existing = true`, `devices = `,
		`run-as = "owner"`, `run-as = "image"`, `run-as = "\d+:\d+"`, `run-as = "[a-z]+"`,
		`run-as = "[a-z]+:[a-z]+"`, `owner-variables = `, `extra-groups = `, `owner = "[a-z]+:[a-z]+"`,
		`\[network\.`, `internal = true`, `subnet = `, `own-network = false`, `network = "host"`,
		`network = "none"`, `shares-network-with = `, `aliases = `,
	} {
		assert.Regexp(t, regexp.MustCompile(kind), all.String())
	}
}

// A name that is misspelt where it is declared is not written wherever it is used: the lab's own files stay
// as they are, whatever is known of its hosts. Nor are the ports of a lab that has another name now.
func TestMisspeltDeclarations(t *testing.T) {
	dirs, err := filepath.Glob("testdata/labs/*")
	require.NoError(t, err)
	declared := regexp.MustCompile(
		`(?m)^(?:\[(?:volume|service|network|host|owner)\.([a-z-]{4,})\]|lab\s*= "([a-z-]+)")`)
	tried := 0
	for _, dir := range dirs {
		rich := readRichLab(t, dir)
		for name, text := range rich.texts {
			for _, m := range declared.FindAllStringSubmatchIndex(text, -1) {
				end := max(m[3], m[5])
				wrong := text[:end-2] + text[end-1:] // without its last letter but one
				for _, seen := range []bool{true, false} {
					tried++
					var groups [][]source.Edit
					var rules []string
					for _, f := range check.Run(rich.resolve(map[string]string{name: wrong}, seen),
						check.All()).Findings {
						if f.Mend != nil && len(f.Mend.Edits) > 0 {
							groups, rules = append(groups, f.Mend.Edits), append(rules, f.Rule+": "+f.Message)
						}
					}
					texts, _ := source.Apply(groups)
					assert.Empty(t, texts, "%s: %s, hosts seen: %t\n%s", dir, text[m[0]:m[1]], seen,
						strings.Join(rules, "\n"))
				}
			}
		}
	}
	assert.Greater(t, tried, 100)
}

// richLab is a correct lab with the surveys of its hosts.
type richLab struct {
	texts   map[string]string
	surveys map[string]*survey.Survey
	facts   map[string]lab.FileFact
	stacks  []string
}

// resolve works the lab out, with other texts for some files, with or without the surveys.
func (r *richLab) resolve(other map[string]string, seen bool) *lab.Lab {
	texts := maps.Clone(r.texts)
	maps.Copy(texts, other)
	surveys := r.surveys
	if !seen {
		surveys = nil
	}
	return resolveWith(r.stacks, texts, surveys, r.facts)
}

func readRichLab(t *testing.T, dir string) *richLab {
	t.Helper()
	r := &richLab{
		texts:   map[string]string{},
		surveys: map[string]*survey.Survey{},
		facts:   map[string]lab.FileFact{},
	}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		name, _ := filepath.Rel(dir, path)
		if strings.HasSuffix(name, ".json") {
			s := &survey.Survey{}
			require.NoError(t, json.Unmarshal(text, s))
			r.surveys[s.Host] = s
			return nil
		}
		r.texts[name], r.facts[name] = string(text), lab.FileFact{Mode: 0o600}
		if stack, ok := strings.CutSuffix(name, "/"+declare.StackFile); ok {
			r.stacks = append(r.stacks, stack)
		}
		return nil
	}))
	return r
}
