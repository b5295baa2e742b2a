package declare

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"proudlantern.example/lantern/core/source"
)

// EnvFile is an environment file: one NAME=value a line.
type EnvFile struct {
	File    *source.File
	Entries []EnvEntry // in the order of the file; of a name that stands twice the later one counts
}

// EnvEntry is one line of an environment file.
type EnvEntry struct {
	Name  string
	At    source.Span // of the name
	Value Text        // as the container gets it; Span marks what is written, without quotes
}

// Get returns the entry that counts for a name.
func (f *EnvFile) Get(name string) (EnvEntry, bool) {
	for i := len(f.Entries) - 1; i >= 0; i-- {
		if f.Entries[i].Name == name {
			return f.Entries[i], true
		}
	}
	return EnvEntry{}, false
}

// EnvPath returns the path relative to the lab of an environment file that a file in folder dir names. It is
// outside the lab when ok is false.
func EnvPath(dir, name string) (file string, ok bool) {
	p := path.Join(dir, name)
	return p, fs.ValidPath(p) && !path.IsAbs(name)
}

// envFile reads an environment file once. A name with references is left to [Lab.ReadEnvFile].
func (r *reader) envFile(l *Lab, dir string, name Text) {
	if strings.Contains(name.Value, "${") {
		return
	}
	if p, _ := EnvPath(dir, name.Value); l.EnvFiles[p] != nil {
		return
	}
	path, f := r.readEnvFile(l, dir, name.Span, name.Value)
	if f != nil {
		l.EnvFiles[path] = f
	}
}

// ReadEnvFile reads the environment file that a name stands for once its references are replaced.
func (l *Lab) ReadEnvFile(dir string, at source.Span,
	name string) (path string, f *EnvFile, problems []source.Problem) {
	r := reader{}
	path, f = r.readEnvFile(l, dir, at, name)
	return path, f, r.problems
}

func (r *reader) readEnvFile(l *Lab, dir string, at source.Span, name string) (string, *EnvFile) {
	p, ok := EnvPath(dir, name)
	if !ok {
		r.problem("value-grammar", at, "an environment file lies inside the lab: %s leads out of it", name)
		return p, nil
	}
	content, err := l.text(p)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		r.problem("env-file-missing", at, "there is no file %s", p)
		return p, nil
	case err != nil:
		r.problem("env-file-missing", at, "%s: %s", p, unreadable(err))
		return p, nil
	}
	f, problems := ParseEnvFile(source.NewFile(p, content))
	for _, p := range problems {
		made := r.problem(p.Rule, p.At, "%s", p.Message)
		made.Mend, made.Because = p.Mend, p.Because
	}
	return p, f
}

// IsVariable reports whether s can name a variable in an environment file.
func IsVariable(s string) bool { return isVariable(s) }

// MakesUp is the mend of a value that is missing and may be made up.
func MakesUp() *source.Mend {
	return &source.Mend{Text: "lantern check --fix, or the next deploy, makes it up and writes it there"}
}

// isVariable reports whether s can name a variable in an environment file.
func isVariable(s string) bool {
	for i, c := range s {
		letter := c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && (i == 0 || c != '.' && c != '-' && (c < '0' || c > '9')) {
			return false
		}
	}
	return s != ""
}

// ParseEnvFile reads an environment file. Faults are problems of the rules env-file-syntax and env-invisible;
// a line with a fault in its syntax gives no entry.
func ParseEnvFile(file *source.File) (*EnvFile, []source.Problem) {
	p := &envParser{file: file, out: &EnvFile{File: file}}
	if at, ok := firstInvalidUTF8(file.Text); ok {
		p.problem("env-file-syntax", at, at+1, "not UTF-8: a byte 0x%02x stands here", nil, file.Text[at])
		return p.out, p.problems
	}
	at := 0
	if strings.HasPrefix(file.Text, "\ufeff") {
		p.problem("env-invisible", 0, 3, "a byte-order mark would become part of the first name", p.drop(0, 3))
		at = 3
	}
	for at < len(file.Text) {
		if len(p.out.Entries) == mostVariables {
			p.problem("env-file-syntax", 0, 0, "more than %d variables stand here, and no more are read", nil,
				mostVariables)
			break
		}
		end := strings.IndexByte(file.Text[at:], '\n')
		if end < 0 {
			end = len(file.Text) - at
		}
		p.line(at, at+end)
		at += end + 1
	}
	p.duplicates()
	if n := len(p.returns); n > 0 {
		at := p.returns[0].At
		what := "a carriage return ends this line and would become part of the value"
		if n > 1 {
			what = fmt.Sprintf(
				"carriage returns end %d lines of this file, as on another system, and would "+
					"become part of the values", n)
		}
		p.problem("env-invisible", at.Start, at.End, "%s",
			&source.Mend{Text: "check --fix takes them out", Edits: p.returns}, what)
	}
	return p.out, p.problems
}

// mostVariables is how many variables of an environment file are read.
const mostVariables = 5000

// duplicates reports names that stand twice; the later one counts, so the earlier one can go.
func (p *envParser) duplicates() {
	first := make(map[string]int, len(p.out.Entries))
	for i, e := range p.out.Entries {
		if j, twice := first[e.Name]; twice {
			earlier := p.out.Entries[j]
			line := p.file.Span(earlier.At.Start,
				earlier.At.Start+len("=")+strings.IndexByte(p.file.Text[earlier.At.Start:]+"\n", '\n'))
			p.problem("env-duplicate", e.At.Start, e.At.End, "%s stands here a second time; this one wins",
				source.Replace(line, "", "check --fix takes the earlier one out"), e.Name)
			p.problems[len(p.problems)-1].Because = []source.Because{{Text: "the first one, without effect",
				At: earlier.At}}
		}
		first[e.Name] = i
	}
}

type envParser struct {
	file     *source.File
	out      *EnvFile
	problems []source.Problem
	returns  []source.Edit // that take carriage returns out
}

func (p *envParser) problem(rule string, start, end int, format string, mend *source.Mend, args ...any) {
	r := reader{}
	made := r.problem(rule, p.file.Span(start, end), format, args...)
	made.Mend = mend
	p.problems = append(p.problems, *made)
}

func (p *envParser) drop(start, end int) *source.Mend {
	return source.Replace(p.file.Span(start, end), "", "check --fix takes it out")
}

// line reads the bytes from start to end, which hold no line break.
func (p *envParser) line(start, end int) {
	text := p.file.Text
	if end > start && text[end-1] == '\r' {
		p.returns = append(p.returns, source.Edit{At: p.file.Span(end-1, end)})
		end--
	}
	line := text[start:end]
	if strings.TrimSpace(line) == "" || strings.HasPrefix(line, "#") {
		return
	}
	if i := strings.IndexByte(line, '='); i >= 0 && LooksSecret(strings.TrimSpace(line[:i])) {
		p.file.Span(start+i+1, end).Hide() // whatever is wrong with the line
	}
	if rest, ok := strings.CutPrefix(line, "export "); ok {
		p.problem("env-file-syntax", start, start+len("export "),
			"export is a shell's word and not part of an environment file",
			p.drop(start, end-len(strings.TrimLeft(rest, " "))))
		return
	}
	name, value, ok := strings.Cut(line, "=")
	if !ok {
		// What stands here may be the second line of a secret, so it is not repeated.
		p.file.Span(start, end).Hide()
		p.problem("env-file-syntax", start, end, "a line is NAME=value; here = is missing", nil)
		return
	}
	valueAt := start + len(name) + 1
	if trimmed := strings.TrimRight(name, " \t"); trimmed != name {
		p.problem("env-file-syntax", start+len(trimmed), valueAt-1, "white space before =",
			p.drop(start+len(trimmed), valueAt-1))
		return
	}
	if !isVariable(name) {
		p.problem("env-file-syntax", start, valueAt-1, "this is no name of a variable: letters, digits and _", nil)
		return
	}
	if trimmed := strings.TrimLeft(value, " \t"); trimmed != value {
		p.problem("env-file-syntax", valueAt, end-len(trimmed), "white space after =",
			p.drop(valueAt, end-len(trimmed)))
		return
	}
	entry := EnvEntry{Name: name, At: p.file.Span(start, valueAt-1)}
	if first, _ := utf8.DecodeRuneInString(value); strings.ContainsRune(curlyQuotes, first) {
		p.curly(value, valueAt, end)
		return
	}
	if value != "" && (value[0] == '\'' || value[0] == '"') {
		content, inner, ok := p.quoted(value, valueAt, end)
		if !ok {
			return
		}
		entry.Value = Text{content, inner, content == inner.Text()}
	} else {
		p.unquoted(value, valueAt, end)
		entry.Value = Text{value, p.file.Span(valueAt, end), true}
	}
	p.out.Entries = append(p.out.Entries, entry)
}

// curly reports curly quotes around a value.
func (p *envParser) curly(value string, valueAt, end int) {
	last, size := utf8.DecodeLastRuneInString(value)
	_, firstSize := utf8.DecodeRuneInString(value)
	inner := strings.TrimSuffix(value[firstSize:], string(last))
	var mend *source.Mend
	if strings.ContainsRune(curlyQuotes, last) && len(value) > firstSize && !strings.Contains(inner, "'") {
		mend = &source.Mend{
			Text: "check --fix writes plain quotes",
			Edits: []source.Edit{
				{At: p.file.Span(valueAt, valueAt+firstSize), New: "'"},
				{At: p.file.Span(end-size, end), New: "'"},
			},
		}
	}
	p.problem("env-file-syntax", valueAt, valueAt+firstSize,
		"curly quotes are part of the value here; plain ones, ' or \", go around it", mend)
}

// unquoted reports what people do not see or did not mean in a value that runs to the end of its line.
func (p *envParser) unquoted(value string, at, end int) {
	if trimmed := strings.TrimRight(value, " \t"); trimmed != value {
		p.problem("env-invisible", at+len(trimmed), end, "blanks end this line and become part of the value",
			p.drop(at+len(trimmed), end))
	}
	if i := strings.Index(value, "\u00a0"); i >= 0 {
		p.problem("env-invisible", at+i, at+i+2, "a no-break space stands in this value",
			source.Replace(p.file.Span(at+i, at+i+2), " ", "check --fix writes a plain space"))
	}
	if i := strings.Index(value, " #"); i >= 0 {
		p.problem("env-file-syntax", at+i, at+i+2,
			"without quotes the value runs to the end of the line, # included; put the value in quotes, or "+
				"the comment on a line of its own", nil)
	}
}

// quoted returns the value between quotes and where it stands.
func (p *envParser) quoted(value string, at, end int) (content string, inner source.Span, ok bool) {
	quote := value[0]
	var b strings.Builder
	i := 1
	for ; i < len(value) && value[i] != quote; i++ {
		if quote == '"' && value[i] == '\\' {
			i++
			if i == len(value) {
				break
			}
			switch value[i] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case '"', '\\':
				b.WriteByte(value[i])
			default:
				p.problem("env-file-syntax", at+i-1, at+i+1,
					`in double quotes only \n \t \" \\ have a meaning; single quotes take everything to the letter`, nil)
				return "", source.Span{}, false
			}
			continue
		}
		b.WriteByte(value[i])
	}
	if i >= len(value) {
		p.problem("env-file-syntax", at, at+1, "the closing %c is missing on this line", nil, quote)
		return "", source.Span{}, false
	}
	if i+1 < len(value) {
		p.problem("env-file-syntax", at+i+1, end, "text after the closing quote", nil)
		return "", source.Span{}, false
	}
	return b.String(), p.file.Span(at+1, at+i), true
}

func firstInvalidUTF8(s string) (int, bool) {
	if utf8.ValidString(s) {
		return 0, false
	}
	for i, c := range s {
		if c == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[i:]); size == 1 {
				return i, true
			}
		}
	}
	return 0, false
}

// IsSecret reports whether a variable's name says that its value is a secret.
func IsSecret(name string) bool {
	for _, end := range secretEndings {
		// Letters of one case differ from the other in one bit; most names end with another letter.
		if len(name) >= len(end) && (name[len(name)-1]^end[len(end)-1])&^0x20 == 0 &&
			strings.EqualFold(name[len(name)-len(end):], end) {
			return true
		}
	}
	return false
}

// curlyQuotes are what programs for letters and web pages make of plain quotes.
const curlyQuotes = "\u201c\u201d\u201e\u2018\u2019\u201a\u00ab\u00bb"

// LooksSecret reports whether a name is that of a secret, or is meant to be: with a letter wrong in its last
// word.
func LooksSecret(name string) bool {
	if IsSecret(name) {
		return true
	}
	last := strings.ToUpper(name[strings.LastIndexAny(name, "_-.")+1:])
	return len(last) > 4 &&
		slices.ContainsFunc(secretEndings, func(end string) bool {
			return len(end) > 4 && OneLetterAway(last, end)
		})
}

// IsPlain reports whether the name of a variable of the shell says that its value is no secret: everything else
// there may be one.
func IsPlain(name string) bool {
	if IsSecret(name) {
		return false
	}
	last := strings.ToUpper(name[strings.LastIndexByte(name, '_')+1:])
	return slices.Contains(plainEndings, last)
}

// plainEndings are the last words of names of what everybody may know.
var plainEndings = []string{"TAG", "VERSION", "RELEASE", "PORT", "PORTS", "DIR", "FOLDER", "PATH", "HOME",
	"ROOT", "FILE", "HOST", "HOSTNAME", "ADDRESS", "DOMAIN", "NAME", "USER", "GROUP", "UID", "GID", "PUID",
	"PGID", "TZ", "TIMEZONE", "ZONE",
	"LANG", "LOCALE", "LEVEL", "MODE", "ENV", "REGION", "IMAGE", "REGISTRY", "REPOSITORY", "COUNT", "SIZE",
	"LIMIT", "MEMORY", "SHELL", "EDITOR", "TERM", "BRANCH", "COMMIT"}

// secretEndings are what names of secrets end with.
var secretEndings = []string{"PASSWORD", "PASSWD", "PASSPHRASE", "PASS", "PWD", "SECRET", "TOKEN", "KEY",
	"CREDENTIALS"}
