package declare

import (
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/source"
)

// readTexts reads a lab from the texts of its files.
func readTexts(texts map[string]string) *Lab {
	var stacks []string
	for path := range texts {
		if stack, ok := strings.CutSuffix(path, "/"+StackFile); ok {
			stacks = append(stacks, stack)
		}
	}
	return Read(stacks, func(path string) (string, error) {
		if text, ok := texts[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	})
}

// written again returns the texts of a lab that declares the same.
func writtenAgain(l *Lab) map[string]string {
	texts := map[string]string{LabFile: WriteLab(l)}
	for _, s := range l.Stacks {
		texts[s.Name+"/"+StackFile] = WriteStack(s)
	}
	return texts
}

// meaning is a declaration without the places where it stands.
func meaning(v reflect.Value) any {
	switch v.Type() {
	case reflect.TypeFor[Text]():
		if text := v.Interface().(Text); text.IsSet() {
			return text.Value
		}
		return nil
	case reflect.TypeFor[source.Span](), reflect.TypeFor[*source.File]():
		return nil
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return nil
		}
		return meaning(v.Elem())
	case reflect.Struct:
		fields := map[string]any{}
		for i := range v.NumField() {
			name := v.Type().Field(i).Name
			// What is wrong, and which files there are, is not the writers'.
			if !v.Type().Field(i).IsExported() || name == "Problems" || name == "EnvFiles" || name == "Switches" {
				continue
			}
			if what := meaning(v.Field(i)); what != nil {
				fields[name] = what
			}
		}
		if len(fields) == 0 {
			return nil
		}
		return fields
	case reflect.Slice:
		if v.IsNil() {
			return nil
		}
		list := []any{}
		for i := range v.Len() {
			list = append(list, meaning(v.Index(i)))
		}
		return list
	case reflect.Map:
		return nil
	}
	return v.Interface()
}

func sameMeaning(t *testing.T, texts map[string]string) {
	t.Helper()
	was := readTexts(texts)
	again := writtenAgain(was)
	now := readTexts(again)
	for _, p := range now.Problems {
		assert.NotContains(t, []string{"syntax", "key-unknown", "value-type"}, p.Rule, "%s in\n%v", p.Message,
			again)
	}
	assert.Equal(t, meaning(reflect.ValueOf(was)), meaning(reflect.ValueOf(now)), "%v", again)
	assert.Equal(t, again, writtenAgain(now), "writing is settled")
}

// Whatever a key says is written as it was read: for the example of each key.
func TestEveryKeyIsWritten(t *testing.T) {
	const lab, service = "lab = \"skerry-light\"\n", "[service.desk]\nimage = \"registry.skerry.example/desk:1\"\n"
	before := map[string][2]string{ // what stands before the example, and what before its name
		"lab.toml": {"", ""}, "[host.NAME]": {lab + "[host.lamp-room]\n", ""},
		"tls": {lab + "[host.lamp-room]\n", "tls."}, "[network.NAME]": {lab + "[network.causeway]\n", ""},
		"[default]":   {lab + "[default]\n", ""},
		"[gate.HOST]": {lab + "[gate.lamp-room]\n", ""}, "[sign-in.NAME]": {lab + "[sign-in.keepers]\n", ""},
		"[domain.NAME]": {lab + "[domain.\"skerry.example\"]\n", ""}, "certificate": {lab + "[domain.\"skerry.example\"]\n", "certificate."}, "dns-update": {lab + "[domain.\"skerry.example\"]\n", "dns-update."},
		"dns-update.key": {lab + "[domain.\"skerry.example\"]\n", "dns-update.key."},
		"stack.toml":     {"", ""}, "[volume.NAME]": {"[volume.readings]\n", ""}, "[service.NAME]": {service, ""},
		"ready": {service, "ready."}, "build": {service, "build."},
	}
	seen := 0
	var each func(keys []KeyDoc, file string)
	each = func(keys []KeyDoc, file string) {
		for _, k := range keys {
			if k.Table == "[let] NAME" {
				continue // both keys belong together: below
			}
			head, ok := before[k.Table]
			require.True(t, ok, k.Table)
			text := head[0] + head[1] + k.Example + "\n"
			if k.Table == "[service.NAME]" && k.Name == "image" {
				text = "[service.desk]\n" + k.Example + "\n"
			}
			texts := map[string]string{LabFile: lab, "mast/" + StackFile: ""}
			if file == LabFile && k.Name == "lab" {
				texts[LabFile] = ""
			}
			if file == LabFile && head[0] != "" {
				texts[LabFile] = ""
			}
			texts[file] += text
			t.Run(k.Table+" "+k.Name, func(t *testing.T) {
				sameMeaning(t, texts)
				written := writtenAgain(readTexts(texts))[file]
				assert.Contains(t, written, k.Name, "%q becomes %q", text, written)
			})
			seen++
			each(k.Keys, file)
		}
	}
	each(LabDocs(), LabFile)
	each(StackDocs(), "mast/"+StackFile)
	assert.Greater(t, seen, 80)
	sameMeaning(t, map[string]string{
		LabFile: lab + "[let]\npw = { env-file = \"a.env\", key = \"PW\" }\nn = 5\n",
		"a.env": "PW=moon\n",
	})
}

// A text is written so that it is read as it was, and so are names.
func TestQuotedTexts(t *testing.T) {
	for _, text := range []string{"", `a "b" 'c'`, `back\slash`, "line\nline\r\n\ttab", "\x01\x7f",
		"Straße 🐦", "${name} # no comment", `"""`, "ends with \\"} {
		s := &Stack{
			Services: []*Service{{Name: "desk", Image: NewText("a:1"),
				Env:    []Variable{{Name: "A", Value: NewText(text)}},
				Accept: []Named{{Name: "rule " + text, Text: NewText(text)}}, Ports: []Text{NewText(text)}}},
		}
		l := readTexts(map[string]string{LabFile: "lab = \"a\"\n", "mast/" + StackFile: WriteStack(s)})
		require.Empty(t, l.Problems, WriteStack(s))
		got := l.Stacks[0].Services[0]
		assert.Equal(t, []string{text, "rule " + text, text, text},
			[]string{got.Env[0].Value.Value, got.Accept[0].Name, got.Accept[0].Text.Value, got.Ports[0].Value})
	}
}

// So are whole labs.
func TestLabsAreWritten(t *testing.T) {
	labs, err := filepath.Glob("../check/testdata/labs/*")
	require.NoError(t, err)
	require.Greater(t, len(labs), 8)
	for _, dir := range labs {
		texts := map[string]string{}
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".toml") && !strings.HasSuffix(path, ".env") {
				return err
			}
			text, err := os.ReadFile(path)
			name, _ := filepath.Rel(dir, path)
			texts[filepath.ToSlash(name)] = string(text)
			return err
		}))
		t.Run(filepath.Base(dir), func(t *testing.T) { sameMeaning(t, texts) })
	}
}
