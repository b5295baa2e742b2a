package check_test

import (
	"encoding/json"
	"io/fs"
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
			l, text := readRichLab(t, dir)
			all.WriteString(text)
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
		`"\d+ -> \d+"`, `"\d+-\d+ -> `, `"any -> `, `/udp"`, `/tcp\+udp"`, `"localhost:\d+ -> `, `"[0-9.]+:\d+ -> `, `"\[[0-9a-f:]+\]:\d+ -> `, `listens = `,
		`"\$\{folder`, `"/etc/`, `"\./`, `"'`, `"volume `, `"memory -> `, `"memory \d+MiB`, `"engine -> `, `, read-only"`, `, create 0700"`, `, shared"`, `, start-empty"`, `existing = true`, `devices = `,
		`run-as = "owner"`, `run-as = "image"`, `run-as = "\d+:\d+"`, `run-as = "[a-z]+"`, `run-as = "[a-z]+:[a-z]+"`, `owner-variables = `, `extra-groups = `, `owner = "[a-z]+:[a-z]+"`,
		`\[network\.`, `internal = true`, `subnet = `, `own-network = false`, `network = "host"`, `network = "none"`, `shares-network-with = `, `aliases = `,
	} {
		assert.Regexp(t, regexp.MustCompile(kind), all.String())
	}
}

func readRichLab(t *testing.T, dir string) (*lab.Lab, string) {
	t.Helper()
	texts, surveys, facts := map[string]string{}, map[string]*survey.Survey{}, map[string]lab.FileFact{}
	var stacks []string
	var all strings.Builder
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
			surveys[s.Host] = s
			return nil
		}
		texts[name], facts[name] = string(text), lab.FileFact{Mode: 0o600}
		all.Write(text)
		if stack, ok := strings.CutSuffix(name, "/"+declare.StackFile); ok {
			stacks = append(stacks, stack)
		}
		return nil
	}))
	return resolveWith(stacks, texts, surveys, facts), all.String()
}
