package draft

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// Copied is a stack made like another one.
type Copied struct {
	Text  string // of its stack.toml
	Notes []Note
	Env   map[string]string // texts of its environment files, by their paths in the stack's folder
}

// Like makes a stack like another one of the lab: with host ports that are free, folders of its own, and secrets that
// makeUp makes up. Comments and layout stay. What both stacks share is noted.
func Like(p Place, st *lab.Stack, envFiles map[string]*declare.EnvFile, makeUp func(length int) string) Copied {
	c := &copying{Place: p, of: st, env: map[string]string{}, ports: map[int]bool{}}
	for _, s := range st.Services {
		c.service(s)
	}
	for _, v := range st.Volumes {
		if !v.EngineNameAt.IsZero() && v.EngineNameAt.File == st.File && !v.Existing {
			c.replace(v.EngineNameAt, c.Stack+"."+v.Name)
		}
	}
	names := map[string]string{} // of environment files, old and new
	for _, t := range c.envTexts() {
		old, ok := declare.EnvPath(st.Name, t.Value)
		dir, file := path.Split(old)
		if !ok || dir != st.Name+"/" || strings.Contains(t.Value, "${") {
			c.note(t.Span, "env-files", "both stacks read "+t.Value)
			continue
		}
		own := file
		if rest, named := strings.CutPrefix(file, st.Name); named {
			own = c.Stack + rest
		}
		if at := t.Part(0, len(t.Value)); at.Text() == t.Value && own != t.Value {
			c.replace(at, own)
		}
		names[old] = own
	}
	for old, own := range names {
		if file := envFiles[old]; file != nil {
			c.env[own] = c.secrets(file, makeUp)
		}
	}
	text := st.File.Text
	if texts, _ := source.Apply(c.edits); texts[st.File.Path] != "" {
		text = texts[st.File.Path]
	}
	return Copied{text, c.notes, c.env}
}

type copying struct {
	Place
	of    *lab.Stack
	edits [][]source.Edit
	notes []Note
	env   map[string]string
	ports map[int]bool
}

func (c *copying) replace(at source.Span, with string) {
	c.edits = append(c.edits, []source.Edit{{At: at, New: with}})
}

// note notes what a person has to look at. Lines stay those of the file that is copied: edits are within lines.
func (c *copying) note(at source.Span, element, text string) {
	n := Note{Element: element, Text: text, Line: 1}
	if at.File == c.of.File {
		n.Line = at.Place().Line
	}
	if !slices.Contains(c.notes, n) {
		c.notes = append(c.notes, n)
	}
}

// envTexts returns where environment files are named, each once.
func (c *copying) envTexts() []declare.Text {
	var all []declare.Text
	for _, s := range c.of.Services {
		all = append(all, s.Declared().EnvFiles...)
	}
	for _, l := range c.of.Lets() {
		if l.EnvFile.IsSet() {
			all = append(all, l.EnvFile)
		}
	}
	return all
}

// service gives a service ports and folders of its own.
func (c *copying) service(s *lab.Service) {
	at := "service." + s.Name
	for _, p := range s.Ports {
		switch {
		case p.Host.First == 0: // the engine picks one
		case p.Host.Count() == 1 && p.HostAt.Text() == p.Host.String() && p.HostAt.File == c.of.File:
			port := c.free(p.Host.First)
			c.ports[port] = true
			c.replace(p.HostAt, strconv.Itoa(port))
		default:
			c.note(p.HostAt, at+".ports", "both stacks publish "+p.Host.String())
		}
	}
	for _, p := range s.Listens {
		c.note(p.HostAt, at+".listens", "both stacks listen on "+p.Host.String()+" of the host")
	}
	for _, m := range s.Mounts {
		if m.Kind != declare.MountPath || m.SourceAt.File != c.of.File {
			continue
		}
		written := m.SourceAt.Text()
		own := segments(written, c.of.Name, c.Stack)
		switch {
		case m.FromLab:
			c.note(m.SourceAt, at+".mounts", "copy "+written+" from the folder of "+c.of.Name)
		case own != written:
			c.replace(m.SourceAt, own)
		case !strings.Contains(written, "${stack.name}") && !m.ReadOnly:
			c.note(m.SourceAt, at+".mounts", "both stacks write "+m.Source)
		}
	}
	if len(s.Aliases) > 0 && len(s.Networks) > 0 {
		c.note(s.Aliases[0].At, at+".aliases", "both stacks answer to "+s.Aliases[0].Name+" on "+s.Networks[0].Name)
	}
}

// free returns a free port of the host, from one on.
func (c *copying) free(port int) int {
	for port++; port < 65535 && (c.ports[port] || c.Taken(port)); port++ {
	}
	return port
}

// segments returns a path with a name in it in place of another one: whole names only.
func segments(p, old, own string) string {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		if part == old {
			parts[i] = own
		}
	}
	return strings.Join(parts, "/")
}

// secretBytes are those that a secret of a copy has at least.
const secretBytes = 32

// secrets returns the text of an environment file with other secrets.
func (c *copying) secrets(file *declare.EnvFile, makeUp func(int) string) string {
	var edits [][]source.Edit
	for _, e := range file.Entries {
		if declare.IsSecret(e.Name) && e.Value.Value != "" {
			edits = append(edits, []source.Edit{{At: e.Value.Span, New: makeUp(secretBytes)}})
			c.note(source.Span{}, "env-files", e.Name+" was made up; if somebody else chose it, write theirs")
		}
	}
	if texts, _ := source.Apply(edits); texts[file.File.Path] != "" {
		return texts[file.File.Path]
	}
	return file.File.Text
}
