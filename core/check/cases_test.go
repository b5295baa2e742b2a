package check_test

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
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

// A case is a folder testdata/RULE/CASE with the files of a lab; lab.toml and lamp-room.json come from
// testdata/base where it has none of its own. What has to be found stands on its line:
//
//	ports = ["8710 -> 80"]  # want port-clash `8710` "tcp 8710 on lamp-room is claimed twice"
//
// the rule, the very text under the marks, a part of the message; several with ; between them. Where no
// comment can follow, "# want-next" stands on the line before. A line without want stays silent. FILE.mended
// is FILE after all mends.
type testCase struct {
	rule, name, dir string
	lab             *lab.Lab
	wants           []string
	mended          map[string]string
	again           func(texts map[string]string) *lab.Lab // with other files
}

var wantPattern = regexp.MustCompile("^ *([a-z-]+) `([^`]*)` \"([^\"]*)\" *$")

func readCases(t *testing.T) []testCase {
	dirs, err := filepath.Glob("testdata/*/*")
	require.NoError(t, err)
	var cases []testCase
	for _, dir := range dirs {
		rule := filepath.Base(filepath.Dir(dir))
		if info, err := os.Stat(dir); rule == "base" || rule == "labs" || err != nil || !info.IsDir() {
			continue
		}
		cases = append(cases, readCase(t, rule, dir))
	}
	return cases
}

func readCase(t *testing.T, rule, dir string) testCase {
	t.Helper()
	c := testCase{rule: rule, name: filepath.Base(dir), dir: dir, mended: map[string]string{}}
	texts := map[string]string{}
	for _, root := range []string{"testdata/base", dir} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			text, err := os.ReadFile(path)
			name, _ := filepath.Rel(root, path)
			if plain, ok := strings.CutSuffix(name, ".mended"); ok {
				c.mended[plain] = string(text)
			} else {
				texts[name] = string(text)
			}
			return err
		}))
	}
	surveys := map[string]*survey.Survey{}
	var stacks []string
	var files map[string]lab.FileFact
	for name, text := range texts {
		if name == "files.json" { // what is true of the lab's files on their machine
			require.NoError(t, json.Unmarshal([]byte(text), &files))
			continue
		}
		if strings.HasSuffix(name, ".json") {
			s, err := survey.Parse([]byte(text))
			require.NoError(t, err, name)
			surveys[s.Host] = s
			continue
		}
		c.readWants(t, name, text)
		if stack, ok := strings.CutSuffix(name, "/"+declare.StackFile); ok {
			stacks = append(stacks, stack)
		}
	}
	slices.Sort(c.wants)
	c.again = func(other map[string]string) *lab.Lab {
		all := maps.Clone(texts)
		maps.Copy(all, other)
		return resolveWith(stacks, all, surveys, files)
	}
	c.lab = c.again(nil)
	return c
}

func resolve(stacks []string, texts map[string]string, surveys map[string]*survey.Survey) *lab.Lab {
	return resolveWith(stacks, texts, surveys, nil)
}

func resolveWith(stacks []string, texts map[string]string, surveys map[string]*survey.Survey,
	files map[string]lab.FileFact) *lab.Lab {
	decl := declare.Read(stacks, func(path string) (string, error) {
		text, ok := texts[path]
		if !ok {
			return "", fs.ErrNotExist
		}
		return text, nil
	})
	for name := range texts {
		if dir, file := filepath.Split(name); declare.IsStray(file) && texts[dir+declare.StackFile] == "" {
			decl.Strays = append(decl.Strays, name)
		}
	}
	slices.Sort(decl.Strays)
	var cards []string
	for name := range texts {
		if card, ok := strings.CutPrefix(name, declare.CardFolder+"/"); ok {
			cards = append(cards, card)
		}
	}
	decl.ReadCards(cards)
	decl.ReadContextsBy(func(at string) (*declare.Context, error) { return contextOf(texts, at) })
	return lab.Resolve(decl, lab.Input{
		Folder:  "/home/keeper/skerry-light",
		Shell:   func(string) (string, bool) { return "", false },
		Surveys: surveys,
		Files:   files,
	})
}

// contextOf is a folder of a build among the files of a case. NAME.bytes stands for a file NAME of so many bytes.
func contextOf(texts map[string]string, at string) (*declare.Context, error) {
	c := &declare.Context{Open: func(name string) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(texts[at+"/"+name])), nil
	}}
	for _, p := range slices.Sorted(maps.Keys(texts)) {
		name, below := strings.CutPrefix(p, at+"/")
		if !below {
			continue
		}
		f := declare.ContextFile{Name: name, Size: int64(len(texts[p]))}
		if plain, large := strings.CutSuffix(name, ".bytes"); large {
			f.Name = plain
			fmt.Sscan(texts[p], &f.Size)
		}
		c.Files = append(c.Files, f)
	}
	if c.Files == nil {
		return nil, fs.ErrNotExist
	}
	return c, nil
}

func (c *testCase) readWants(t *testing.T, file, text string) {
	number := 0
	for line := range strings.Lines(text) {
		number++
		at := number
		_, wants, ok := strings.Cut(line, "# want ")
		if !ok {
			if _, wants, ok = strings.Cut(line, "# want-next "); !ok {
				continue
			}
			at++
		}
		for _, w := range strings.Split(strings.TrimRight(wants, "\r\n"), ";") {
			m := wantPattern.FindStringSubmatch(w)
			require.NotNil(t, m, "%s:%d: a want that cannot be read: %s", file, number, w)
			c.wants = append(c.wants, fmt.Sprintf("%s:%d %s `%s` %s", file, at, m[1], m[2], m[3]))
		}
	}
}

// compare fails on what is missing and on what nobody asked for.
func (c *testCase) compare(t *testing.T, r check.Result) {
	open := slices.Clone(c.wants)
	for _, f := range r.Findings {
		require.False(t, f.At.IsZero(), f.Message)
		if stack, ok := strings.CutSuffix(f.At.File.Path, "/"+declare.StackFile); ok && f.Rule != "stack-misnamed" {
			assert.Equal(t, stack, f.Stack, "%s is of the stack in whose file it stands", f.Rule)
		}
		message := f.Message
		if f.Accepted != "" {
			message += " (accepted: " + f.Accepted + ")"
		}
		got := fmt.Sprintf("%s:%d %s `%s` ", f.At.File.Path, f.At.Place().Line, f.Rule, f.At.Text())
		i := slices.IndexFunc(open, func(w string) bool {
			part, ok := strings.CutPrefix(w, got)
			return ok && strings.Contains(message, part)
		})
		if assert.GreaterOrEqual(t, i, 0, "nobody asked for: %s%s", got, message) {
			open = slices.Delete(open, i, i+1)
		}
	}
	assert.Empty(t, open, "not found")
}

func TestCases(t *testing.T) {
	found, silent, mended := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, c := range readCases(t) {
		t.Run(c.rule+"/"+c.name, func(t *testing.T) {
			_, ok := check.Named(c.rule)
			require.True(t, ok, "there is no rule of that name")
			result := check.Run(c.lab, check.All())
			c.compare(t, result)
			found[c.rule] = found[c.rule] ||
				slices.ContainsFunc(result.Findings, func(f check.Finding) bool { return f.Rule == c.rule })
			other := !slices.ContainsFunc(result.Findings, func(f check.Finding) bool { return f.Rule == c.rule })
			silent[c.rule] = silent[c.rule] || other && result.Count(check.Error)+result.Count(check.Warning) == 0
			var groups [][]source.Edit
			var mends, before []string
			for _, f := range result.Findings {
				before = append(before, said(f))
				if f.Mend != nil && f.Accepted == "" {
					groups = append(groups, f.Mend.Edits)
					if len(f.Mend.Edits) > 0 {
						mended[f.Rule] = true
						mends = append(mends, said(f))
					}
				}
			}
			texts, applied := source.Apply(groups)
			assert.Equal(t, c.mended, texts, "FILE.mended is what the mends make of FILE")
			if len(applied) < len(mends) {
				return // two of them touch each other, and the second comes with the next --fix
			}
			for _, f := range check.Run(c.again(texts), check.All()).Findings {
				if f.Rule == "syntax" {
					assert.Contains(t, before, said(f), "files can be read as before")
				}
				assert.NotContains(t, mends, said(f), "it is mended")
			}
		})
	}
	// What nothing else demands would be left open.
	for _, r := range check.All() {
		assert.True(t, found[r.Name], "%s has no case that it finds", r.Name)
		assert.True(t, silent[r.Name], "%s has no case in which it stays silent", r.Name)
		assert.Equal(t, r.Mends, mended[r.Name], "%s: mends", r.Name)
	}
}

// said is what a finding says, wherever it stands.
func said(f check.Finding) string { return f.Rule + " " + f.At.Text() + " " + f.Message }

func TestRulesAreComplete(t *testing.T) {
	names := map[string]bool{}
	for _, r := range check.All() {
		assert.Regexp(t, `^[a-z]+(-[a-z]+)*$`, r.Name)
		assert.False(t, names[r.Name], "%s is there twice", r.Name)
		names[r.Name] = true
		for field, text := range map[string]string{
			"title":   r.Title,
			"text":    r.Text,
			"mistake": r.Mistake,
			"mended":  r.Mended,
			"needs":   string(r.Needs),
		} {
			assert.NotEmpty(t, text, "%s has no %s", r.Name, field)
		}
		assert.False(t, strings.HasSuffix(r.Title, "."), r.Name)
		assert.True(t, strings.HasSuffix(r.Text, "."), r.Name)
		assert.NotNil(t, r.Find, r.Name)
	}
}

// Without surveys the rules that need them are skipped and say so; the others work.
func TestWithoutSurveys(t *testing.T) {
	files := map[string]string{
		"lab.toml": "lab = \"skerry-light\"\n[host.lamp-room]\n",
		"mast/stack.toml": "[service.sensor]\nimage = \"registry.skerry.example/sensor:1.4\"\n" +
			"owner = \"keper\"\nmounts = [\"/srv/Skerry -> /data\"]\nports = [\"8710 -> 80\", \"8710 -> 81\"]\n",
	}
	r := check.Run(resolve([]string{"mast"}, files, nil), check.All())
	require.Len(t, r.Findings, 1)
	assert.Equal(t, "port-clash", r.Findings[0].Rule)
	var skipped []string
	for _, s := range r.Skipped {
		skipped = append(skipped, s.Rule)
	}
	var needy []string
	for _, rule := range check.All() {
		// These ask nothing of a host for what this lab declares.
		if rule.Needs != check.Files &&
			!slices.Contains([]string{"host-unreachable", "host-key-changed", "engine-unreachable", "engine-lacks", "files-place", "linger-off",
				"network-missing", "env-file-exposed", "env-file-tracked", "lab-writable"}, rule.Name) {
			needy = append(needy, rule.Name)
		}
	}
	assert.ElementsMatch(t, needy, skipped)
}
