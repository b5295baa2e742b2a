package interchange

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// labOf resolves a lab out of texts.
func labOf(texts map[string]string, surveys map[string]*survey.Survey) *lab.Lab {
	var stacks []string
	for path := range texts {
		if stack, ok := strings.CutSuffix(path, "/"+declare.StackFile); ok {
			stacks = append(stacks, stack)
		}
	}
	return lab.Resolve(declare.Read(stacks, func(path string) (string, error) {
		if text, ok := texts[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	}), lab.Input{Folder: "/lab", Shell: func(string) (string, bool) { return "", false }, Surveys: surveys})
}

// Ids that are known on a host only are left out without it, and told: nobody becomes root by that.
func TestExportWithoutHost(t *testing.T) {
	l := labOf(map[string]string{"lab.toml": "lab = \"skerry\"\nowner = \"keeper\"\n[host.lamp-room]\n",
		"mast/stack.toml": "[service.desk]\nimage = \"a:1\"\nrun-as = \"owner\"\nowner-variables = [\"WATCH_UID\", \"WATCH_GID\"]\n"}, nil)
	e, err := Export(l.Stack("mast"))
	require.NoError(t, err)
	assert.NotContains(t, e.Text, "user:")
	assert.NotContains(t, e.Text, "0:0")
	require.Len(t, e.Notes, 2)
	assert.Contains(t, e.Notes[0]+e.Notes[1], "user is left out")
	assert.Contains(t, e.Notes[0]+e.Notes[1], "WATCH_UID and WATCH_GID are left out")
}

// An own image and copies come back, and what has to be given along is told.
func TestExportOfBuilds(t *testing.T) {
	texts := map[string]string{"lab.toml": "lab = \"skerry\"\n", "mast/stack.toml": `[service.desk]
image = "skerry.example/desk:1"
build = { folder = "./works", recipe = "small.recipe", stage = "small", arguments = { LEVEL = "quiet" } }
copies = 3
ports = ["8710-8712 -> 80"]
`}
	e, err := Export(labOf(texts, nil).Stack("mast"))
	require.NoError(t, err)
	require.Len(t, e.Notes, 1)
	assert.Contains(t, e.Notes[0], "give that folder along, as ./works")
	got, problem := Import(source.NewFile("mast.yaml", e.Text), input(nil))
	require.Nil(t, problem, e.Text)
	for _, line := range strings.Split(texts["mast/stack.toml"], "\n")[1:4] {
		assert.Contains(t, got.Text, line)
	}
	assert.Contains(t, got.Text, "8710-8712 -> 80")
}

// What is exported and imported again declares the same containers, for every stack of the right labs of the check.
func TestThereAndBack(t *testing.T) {
	dirs, err := filepath.Glob("../check/testdata/labs/*")
	require.NoError(t, err)
	stacks := 0
	for _, dir := range dirs {
		texts, surveys := map[string]string{}, map[string]*survey.Survey{}
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			text, err := os.ReadFile(path)
			name, _ := filepath.Rel(dir, path)
			if strings.HasSuffix(name, ".json") && name != "files.json" {
				s, err := survey.Parse(text)
				require.NoError(t, err)
				surveys[s.Host] = s
			} else {
				texts[name] = string(text)
			}
			return err
		}))
		l := labOf(texts, surveys)
		for _, st := range l.Stacks {
			if st.Host == nil {
				continue
			}
			e, err := Export(st)
			require.NoError(t, err)
			for _, secret := range l.Secrets() {
				if len(secret) > 5 {
					assert.NotContains(t, e.Text, secret)
				}
			}
			in := Input{Stack: st.Name, Folder: "/there", Read: func(path string) (string, error) { return e.Env[path], nil },
				Exists: func(string) bool { return false }}
			back, problem := Import(source.NewFile("a.yaml", e.Text), in)
			require.Nil(t, problem, e.Text)
			again := map[string]string{declare.LabFile: texts[declare.LabFile], st.Name + "/" + declare.StackFile: "host = \"" + st.Host.Name + "\"\n" + back.Text}
			if len(l.Hosts) == 1 {
				again[st.Name+"/"+declare.StackFile] = back.Text
			}
			for name, text := range back.Env {
				again[st.Name+"/"+name] = text
			}
			two := labOf(again, surveys).Stack(st.Name)
			require.Len(t, two.Services, len(st.Services), e.Text)
			for _, s := range st.Services {
				was, now := plan.Declare(s), plan.Declare(two.Service(s.Name))
				var left []string // secrets, which are to be filled in
				if !slices.ContainsFunc(was.Env, func(v plan.Variable) bool { return v.Name == "TZ" }) {
					left = append(left, "TZ") // a lab's zone is for all that say nothing else
				}
				for _, v := range was.Env {
					if v.Value.Secret() {
						left = append(left, v.Name)
					}
				}
				open := func(list []plan.Variable) []plan.Variable {
					return slices.DeleteFunc(list, func(v plan.Variable) bool { return slices.Contains(left, v.Name) })
				}
				was.Env, now.Env = open(was.Env), open(now.Env)
				was.Secret, now.Secret = nil, nil
				was.Mounts = slices.DeleteFunc(was.Mounts, func(m plan.Mount) bool { return m.Kind == declare.MountEngine }) // it is told
				if len(s.Settings.Command)+len(s.Settings.Entrypoint) == 0 || !slices.ContainsFunc(e.Notes, func(n string) bool { return strings.Contains(n, s.FullName()+": ") && strings.Contains(n, "secret") }) {
					assert.Empty(t, plan.Differences(was, now), "%s of %s\n%s\n%s", s.FullName(), dir, e.Text, back.Text)
				}
			}
			stacks++
		}
	}
	assert.Greater(t, stacks, 10)
}
