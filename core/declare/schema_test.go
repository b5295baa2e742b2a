package declare

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/source"
)

// place is a key where it stands: the file and the lines around it.
type place struct {
	doc          KeyDoc
	file         string
	before       string // lines above that make the file complete
	prefix, tail string // around the key, for keys of tables inside a line
}

// places returns every key that is read, in its place.
func places() []place {
	var all []place
	add := func(file, before, prefix, tail string, keys []KeyDoc) {
		for _, k := range keys {
			all = append(all, place{k, file, before, prefix, tail})
		}
	}
	const lab, image = "lab = \"skerry-light\"\n",
		"[service.desk]\nimage = \"registry.skerry.example/tide-desk:2.3\"\n"
	for _, k := range LabDocs() {
		switch k.Name {
		case "lab", "let", "host":
		default:
			add(LabFile, lab, "", "", []KeyDoc{k})
		}
		switch k.Name {
		case "host":
			add(LabFile, lab+"[host.lamp-room]\n", "", "", k.Keys)
			for _, inner := range k.Keys {
				add(LabFile, lab+"[host.lamp-room.tls]\n", "", "", inner.Keys)
			}
		case "default":
			add(LabFile, lab+"[default]\n", "", "", k.Keys)
		case "gate":
			add(LabFile, lab+"[gate.lamp-room]\n", "", "", k.Keys)
		case "domain":
			add(LabFile, lab+"[domain.\"skerry.example\"]\n", "", "", k.Keys)
		case "sign-in":
			add(LabFile, lab+"[sign-in.keepers]\n", "", "", k.Keys)
		case "network":
			add(LabFile, lab+"[network.causeway]\n", "", "", k.Keys)
		}
	}
	for _, k := range StackDocs() {
		if k.Name == "volume" {
			add(StackFile, "[volume.readings]\n", "", "\n"+image, k.Keys)
		}
		if k.Name != "service" && k.Name != "let" {
			add(StackFile, "", "", "\n"+image, []KeyDoc{k})
			continue
		}
		for _, s := range k.Keys {
			if k.Name == "service" && s.Name != "image" {
				add(StackFile, image, "", "", []KeyDoc{s})
			}
			for _, inner := range s.Keys {
				if s.Name == "build" {
					folder := "folder = \"./image\", "
					if inner.Name == "folder" {
						folder = ""
					}
					add(StackFile, image, "build = { "+folder, " }", []KeyDoc{inner})
				}
			}
			if s.Name == "ready" {
				for _, y := range s.Keys {
					other := "log = \"open\", "
					if y.Name != "status" && y.Name != "within" {
						other = ""
					}
					add(StackFile, image, "ready = { "+other, " }", []KeyDoc{y})
				}
			}
		}
	}
	return all
}

// text puts a line in the place.
func (p place) text(line string) string { return p.before + p.prefix + line + p.tail + "\n" }

func (p place) read(line string) *Lab {
	files := map[string]string{LabFile: "lab = \"skerry-light\"\n", "dns.env": "TSIG=bGFtcA==\n"}
	stacks := []string{}
	if p.file == LabFile {
		files[LabFile] = p.text(line)
	} else {
		files["mast/"+StackFile], stacks = p.text(line), []string{"mast"}
		files["mast/tide-log.env"] = "A=b\n"
	}
	return Read(stacks, func(path string) (string, error) {
		if text, ok := files[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	})
}

// wrongType returns a line with a value of another type.
func (p place) wrongType() string {
	switch p.doc.Takes {
	case FormText, FormTexts, FormTextOrTexts, FormTextsOrNumbers, FormTable, FormNamed, FormValues, FormPairs, FormTables:
		return p.doc.Name + " = true"
	}
	return p.doc.Name + ` = "text"`
}

func compile(t *testing.T) map[string]*jsonschema.Schema {
	t.Helper()
	schemas := map[string]*jsonschema.Schema{}
	for name, s := range map[string]map[string]any{
		LabFile:   Schema(LabFile, LabDocs()),
		StackFile: Schema(StackFile, StackDocs()),
	} {
		text, err := json.Marshal(s)
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
		require.NoError(t, err)
		c := jsonschema.NewCompiler()
		require.NoError(t, c.AddResource(name, value))
		schemas[name], err = c.Compile(name)
		require.NoError(t, err)
	}
	return schemas
}

// accepts reports whether a schema accepts a TOML text.
func accepts(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	var value any
	require.NoError(t, toml.Unmarshal([]byte(text), &value), text)
	asJSON, err := json.Marshal(value)
	require.NoError(t, err)
	value, err = jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
	require.NoError(t, err)
	return s.Validate(value)
}

// For each key: its example is read without a word and accepted by the schema; a wrong type gives one finding
// at the value, a misspelling one at the key with the right one as its mend, and the schema rejects both.
func TestEveryKey(t *testing.T) {
	schemas := compile(t)
	all := places()
	require.Greater(t, len(all), 95)
	for _, p := range all {
		t.Run(p.doc.Table+" "+p.doc.Name, func(t *testing.T) {
			assert.NotEmpty(t, p.doc.Doc)
			assert.False(t, strings.HasSuffix(p.doc.Doc, "."))
			right := p.doc.Example
			for _, problem := range p.read(right).Problems {
				t.Errorf("%s: %s", right, problem.Message)
			}
			assert.NoError(t, accepts(t, schemas[p.file], p.text(right)))
			tidy, problems := Tidy(source.NewFile(p.file, p.text(right)))
			require.Empty(t, problems)
			before, _ := readTOML(source.NewFile(p.file, p.text(right)))
			after, _ := readTOML(source.NewFile(p.file, tidy))
			assert.True(t, sameTable(before, after), tidy)

			wrong := p.wrongType()
			problems = p.read(wrong).Problems
			require.Len(t, problems, 1, wrong)
			assert.Equal(t, "value-type", problems[0].Rule)
			_, value, _ := strings.Cut(wrong, " = ")
			assert.Equal(t, value, problems[0].At.Text())
			assert.Error(t, accepts(t, schemas[p.file], p.text(wrong)), wrong)

			key, rest := p.doc.Name, strings.TrimPrefix(right, p.doc.Name)
			misspelt := key + "q" + rest
			if header, ok := strings.CutPrefix(right, "["+key); ok {
				misspelt = "[" + key + "q" + header
			}
			problems = p.read(misspelt).Problems
			if p.prefix != "" && len(problems) > 1 { // ready without the key that it needs
				problems = problems[:1]
			}
			require.Len(t, problems, 1, misspelt)
			assert.Equal(t, "key-unknown", problems[0].Rule)
			assert.Equal(t, key+"q", problems[0].At.Text())
			if key == "network" && strings.Contains(p.text(""), "[service") || key == "http" && strings.Contains(p.text(""), "[gate") {
				assert.Nil(t, problems[0].Mend, "%ss is as near", key)
			} else if assert.NotNil(t, problems[0].Mend, key) && len(key) > 2 {
				assert.Contains(t, []string{key, key + "s"}, problems[0].Mend.Edits[0].New)
			}
			assert.Error(t, accepts(t, schemas[p.file], p.text(misspelt)), misspelt)
		})
	}
}

// Every file that is right for the check, and of the demo, is right for the schema; every one with an unknown
// key or a wrong type is not.
func TestSchemaAgreesWithTheCases(t *testing.T) {
	schemas := compile(t)
	right, wrong := 0, 0
	for _, root := range []string{"../check/testdata", "../../demo"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.Name() != LabFile && d.Name() != StackFile {
				return err
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			text = []byte(strings.ReplaceAll(string(text), "unix://DEMO", "unix:///DEMO")) // the demo fills it in
			var value any
			invalid := toml.Unmarshal(text, &value) != nil
			switch {
			case strings.Contains(path, "/correct") || strings.Contains(path, "/base/") ||
				strings.HasPrefix(path, "../../demo"):
				right++
				assert.NoError(t, accepts(t, schemas[d.Name()], string(text)), path)
			case !invalid &&
				regexp.MustCompile(
					"want(-next)? (key-unknown `[a-z-]+` \"[^\"]* has no key|value-type)").Match(text):
				wrong++
				assert.Error(t, accepts(t, schemas[d.Name()], string(text)), path)
			}
			return nil
		}))
	}
	assert.Greater(t, right, 30)
	assert.GreaterOrEqual(t, wrong, 2)
}

func TestSchemaRejectsWrongValues(t *testing.T) {
	schemas := compile(t)
	const image = "[service.desk]\nimage = \"a\"\n"
	for _, wrong := range []string{
		"[service.desk]\n", `memory = "10"`, `restart = "never"`, `restart = "on-failure x"`,
		`ports = ["8710"]`, `ports = ["8710 -> 80/tpc"]`, `mounts = ["/srv"]`, `log-limit = "x"`, `pid = "hosts"`,
		`ready = { tcp = 70000 }`, `cpus = 0`, `stop-within = "5 days"`, `fetch = "always"`,
		`env = { A = [1] }`, `page = "/x"`, `working-dir = "data"`, `platform = "linux"`,
	} {
		text := image + wrong
		if strings.HasPrefix(wrong, "[") {
			text = wrong
		}
		assert.Error(t, accepts(t, schemas[StackFile], text), wrong)
	}
	for _, right := range []string{`memory = "${much}"`, `ports = ["${host-port} -> 80"]`,
		`mounts = ["'/srv/a, b' -> /data, read-only"]`, `sysctls.net.core.somaxconn = "1"`} {
		assert.NoError(t, accepts(t, schemas[StackFile], image+right), right)
	}
	assert.Error(t, accepts(t, schemas[LabFile], `timezone = "UTC"`), "the name is missing")
	assert.Error(t, accepts(t, schemas[LabFile], fmt.Sprintf("lab = %q", "Skerry Light")))
}
