package declare

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/internal/corpus"
)

// What TOML itself forbids is an error here, too; the library says what it forbids.
func TestTOMLErrors(t *testing.T) {
	for _, c := range []struct{ text, at, says string }{
		{"a = 1\na = 2\n", "a", "in line 1"},
		{"[a]\nb = 1\n[a]\n", "a", "in line 1"},
		{"[a]\nb.c = 1\n[a.b]\n", "b", "there already"},
		{"a = 1\n[a.b]\n", "a", "has a value already"},
		{"a = { b = 1 }\na.c = 2\n", "a", "there already"},
		{"[a.b]\nc = 1\n[a]\nb.d = 2\n", "b", "there already"},
		{"a = { b = 1, b = 2 }\n", "b", "there already"},
		{"a = \"x\n", "a = \"x", "the closing quote is missing"},
		{"a = [1, 2\nb = 3\n", "[", "not closed"},
		{"a = { b = 1\nb = 3\n", "{", "not closed"},
		{"a == 1\n", "=", "not TOML"},
		{"a = hello\n", "hello", "a text stands in quotes"},
		{"a = /srv -> /data # one\n", "/srv -> /data", "a text stands in quotes"},
		{"memory = 512MB\n", "512MB", "a text stands in quotes"},
		{"a = \u201chello\u201d\n", "\u201c", "curly quotes"},
		{"a = \"b\"c\"\n", "c", "something follows"},
		{"a = [\"b\" \"c\"]\n", "\"", "commas between its values"},
		{"a = [80 -> 80]\n", "-", "texts stand in quotes"},
		{"a: \"b\"\n", ":", "have = between them"},
		{"a = yes\n", "yes", "true and false"},
		{"a = None\n", "None", "no value for nothing"},
		{"a = .5\n", ".5", "begins with a digit"},
		{"[service desk]\n", "[service desk]", "a dot between them"},
		{"a \"b\"\n", "a", "= is missing"},
		{"export A = 1\n", "export A", "one word"},
		{"  - a\n", "-", "not written with -"},
		{"a = \"C:\\dir\"\n", "\\d", "a sign of its own"},
	} {
		t.Run(c.text, func(t *testing.T) {
			_, problems := readTOML(source.NewFile("f", c.text))
			require.NotEmpty(t, problems)
			if c.at != "" {
				assert.Equal(t, c.at, problems[0].At.Text())
			}
			assert.Contains(t, problems[0].Message, c.says)
			var into map[string]any
			assert.Error(t, toml.Unmarshal([]byte(c.text), &into), "the library agrees")
		})
	}
	for _, text := range []string{
		"[a.b]\nc = 1\n[a]\nd = 2\n", "a.b = 1\na.c = 2\n", "[x]\na.b.c = 1\na.b.d = 2\n[x.y]\n",
		"a = [\n 1, # one\n 2,\n]\n", "", "# only a comment",
	} {
		_, problems := readTOML(source.NewFile("f", text))
		assert.Empty(t, problems, text)
	}
}

// A secret on a line that is no TOML was never read as one, and is not shown all the same.
func TestSecretsInBrokenLines(t *testing.T) {
	for _, text := range []string{"env.A_PASSWORD = moon rise\n", "env = { A_TOKEN: \"moon rise\" }\n",
		"B_PASSWRD = \u201cmoon rise\u201d\n", "env.A_KEY = \"moon rise\n"} {
		_, problems := readTOML(source.NewFile("f", text))
		require.NotEmpty(t, problems, text)
		before, marked, after := problems[0].At.Excerpt()
		said := before + marked + after + problems[0].Message
		if m := problems[0].Mend; m != nil {
			said += m.Text
		}
		assert.NotContains(t, said, "moon", text)
	}
}

func TestPartsOfTexts(t *testing.T) {
	for _, c := range []struct{ text, part, want string }{
		{`a = "8710 -> 80"`, "80", "80"},
		{`a = '8710 -> 80'`, "8710", "8710"},
		{`a = "x\t8710 -> 80"`, "8710", "8710"},
		{`a = "\u00e9 8710 -> 80"`, "8710", "8710"},
		{"a = \"\"\"\n8710 -> \\\n   80\"\"\"", "80", "80"},
		{"a = '''\n8710 -> 80'''", "8710", "8710"},
		{`a = "tab\there"`, "\t", `\t`},
	} {
		top, problems := readTOML(source.NewFile("f", c.text))
		require.Empty(t, problems, c.text)
		n := top.entries[0].value
		text := Text{Value: n.text, Span: n.span}
		i := strings.Index(text.Value, c.part)
		require.GreaterOrEqual(t, i, 0, c.text)
		assert.Equal(t, c.want, text.Part(i, i+len(c.part)).Text(), c.text)
	}
}

func TestEnvFile(t *testing.T) {
	for _, c := range []struct{ text, name, want, rule, at string }{
		{text: "# a comment\nA=b", name: "A", want: "b"},
		{text: "A=b=c d", name: "A", want: "b=c d"},
		{text: "A='b $C # d'", name: "A", want: "b $C # d"},
		{text: `A="b\n\"c\"\\"`, name: "A", want: "b\n\"c\"\\"},
		{text: "A=", name: "A", want: ""},
		{text: "A=1\nA=2", rule: "env-duplicate", at: "A"},
		{text: "A=b\r\n", rule: "env-invisible", at: "\r"},
		{text: "\ufeffA=b", rule: "env-invisible", at: "\ufeff"},
		{text: "A=b  \n", rule: "env-invisible", at: "  "},
		{text: "A=b\u00a0c", rule: "env-invisible", at: "\u00a0"},
		{text: "export A=b", rule: "env-file-syntax", at: "export "},
		{text: "A =b", rule: "env-file-syntax", at: " "},
		{text: "A= b", rule: "env-file-syntax", at: " "},
		{text: "A", rule: "env-file-syntax", at: "A"},
		{text: "A=b # c", rule: "env-file-syntax", at: " #"},
		{text: "A='b' c", rule: "env-file-syntax", at: " c"},
		{text: "A='b", rule: "env-file-syntax", at: "'"},
		{text: `A="\x"`, rule: "env-file-syntax", at: `\x`},
		{text: "1A=b", rule: "env-file-syntax", at: "1A"},
		{text: "A=\xff", rule: "env-file-syntax", at: "\xff"},
	} {
		t.Run(c.text, func(t *testing.T) {
			f, problems := ParseEnvFile(source.NewFile("a.env", c.text))
			if c.rule == "" {
				require.Empty(t, problems)
				e, ok := f.Get(c.name)
				require.True(t, ok)
				assert.Equal(t, c.want, e.Value.Value)
				return
			}
			require.Len(t, problems, 1)
			assert.Equal(t, c.rule, problems[0].Rule)
			assert.Equal(t, c.at, problems[0].At.Text())
		})
	}
}

// insideFiles fails for a problem that marks something outside of its file.
func insideFiles(t *testing.T, problems []source.Problem) {
	t.Helper()
	for _, p := range problems {
		if at := p.At; at.File == nil || at.Start < 0 || at.End < at.Start || at.End > len(at.File.Text) {
			t.Fatalf("%s: a span outside of its file", p.Message)
		}
		p.At.Excerpt()
	}
}

func FuzzTOML(f *testing.F) {
	f.Add("lab = \"a\"\n[host.b]\nengine = \"unix:///x\"\n",
		"[service.a]\nimage = \"b\"\nports = [\"1 -> ${x}\"]\nready = { http = \"80/\" }\n")
	f.Add("lab = [", "a.b = 1 # c\n[a.b]\n[[c]]\n\n# d\ne = [ # f\n 1, # g\n]\n")
	corpus.Add(f)
	f.Fuzz(func(t *testing.T, lab, stack string) {
		files := map[string]string{LabFile: lab, "mast/" + StackFile: stack}
		l := Read([]string{"mast"}, func(path string) (string, error) {
			text, ok := files[path]
			if !ok {
				return "", fs.ErrNotExist
			}
			return text, nil
		})
		insideFiles(t, l.Problems)
		for path, text := range files {
			once, problems := Tidy(source.NewFile(path, text))
			if len(problems) > 0 {
				insideFiles(t, problems)
				continue
			}
			if twice, problems := Tidy(source.NewFile(path, once)); twice != once || len(problems) > 0 {
				t.Fatalf("tidy twice is not once:\n%s\n%s", once, twice)
			}
		}
	})
}

func FuzzEnvFile(f *testing.F) {
	f.Add("A='b'\nB=c # d\nA=1\n")
	f.Add("\ufeffexport A=\"\\n\"\r\n")
	corpus.Add(f)
	f.Fuzz(func(t *testing.T, text string) {
		file, problems := ParseEnvFile(source.NewFile("mast/a.env", text))
		insideFiles(t, problems)
		for _, e := range file.Entries {
			if e.Value.Part(0, len(e.Value.Value)).End > len(text) {
				t.Fatalf("%s: a value outside of its file", e.Name)
			}
		}
	})
}
