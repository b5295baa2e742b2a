package interchange

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/docker/go-units"
	"github.com/mattn/go-shellwords"

	"proudlantern.example/lantern/core/declare"
)

// service reads a service, element by element in the order of the table.
func (c *converter) service(s *service) {
	for _, e := range serviceElements {
		for _, p := range s.from.pairs {
			if p.key != e.name || p.at.kind == nothing && p.key != "command" && p.key != "entrypoint" {
				continue
			}
			if e.read != nil {
				e.read(c, s, p)
			} else if e.instead != "" {
				c.note(p.line, s.at+"."+p.key, "%s", e.instead)
			}
		}
	}
	for _, p := range s.from.pairs {
		if _, ok := find(serviceElements, p.key); strings.HasPrefix(p.key, "x-") {
			s.lines = append(s.lines, fmt.Sprintf("# %s: %s = %s", p.line, p.key, strings.ReplaceAll(text(p.at), "\n", " ")))
		} else if !ok {
			c.note(p.line, s.at+"."+p.key, "lantern knows no such element: take it out, or write what it means")
		}
	}
	if s.from.get("image") == nil && s.from.get("build") == nil {
		s.lines = append(s.lines, `# image = ""  # which image? the file names none`)
		c.note(s.line, s.at+".image", "the service has no image: name one here")
	}
	if s.from.get("restart") == nil {
		s.lines = append(s.lines, `restart = "no"  # the file says nothing, which means no there; without this line it is unless-stopped`)
	}
	if s.name != s.there && !slices.Contains(s.aliases, s.there) {
		s.aliases = append(s.aliases, s.there) // others call it by that name
	}
	if len(s.secrets) > 0 {
		file := s.name + ".env"
		c.env[file] = strings.Join(s.secrets, "\n") + "\n"
		s.envFiles = append(s.envFiles, file)
	}
}

type reader = func(c *converter, s *service, p pair)

func plainText(key string) reader {
	return func(_ *converter, s *service, p pair) { s.add(p.line, p.key, "%s = %s", key, quoted(text(p.at))) }
}

func readFlag(key string) reader {
	return func(_ *converter, s *service, p pair) {
		if p.at.text == "true" {
			s.add(p.line, p.key, "%s = true", key)
		}
	}
}

func readList(key string) reader {
	return func(_ *converter, s *service, p pair) {
		var all []string
		for _, n := range texts(p.at) {
			all = append(all, quoted(n.text))
		}
		if len(all) > 0 {
			s.add(p.line, p.key, "%s = [%s]", key, strings.Join(all, ", "))
		}
	}
}

func readTable(key string) reader {
	return func(_ *converter, s *service, p pair) {
		s.lines = append(s.lines, inTable(key, p.at, p.line, p.key)...)
	}
}

func readHostWord(key string) reader {
	return func(c *converter, s *service, p pair) {
		switch p.at.text {
		case "host":
			s.add(p.line, p.key, `%s = "host"`, key)
		case "private", "shareable":
		default:
			c.note(p.line, s.at+"."+p.key, "only host has a counterpart")
		}
	}
}

func readNumber(key string) reader {
	return func(c *converter, s *service, p pair) {
		n, err := strconv.ParseFloat(p.at.text, 64)
		switch {
		case err != nil || n < 0:
			c.note(p.line, s.at+"."+p.key, "%q is no number", p.at.text)
		case n > 0:
			s.add(p.line, p.key, "%s = %s", key, strconv.FormatFloat(n, 'f', -1, 64))
		}
	}
}

// readSize reads a size: there kB, MB and k, m, g all count in 1024 ("Specifying byte values").
func readSize(key string) reader {
	return func(c *converter, s *service, p pair) {
		if size, ok := c.size(s, p); ok {
			s.add(p.line, p.key, "%s = %q", key, size)
		}
	}
}

func (c *converter) size(s *service, p pair) (string, bool) {
	n, err := units.RAMInBytes(p.at.text)
	if err != nil || n < 0 {
		c.note(p.line, s.at+"."+p.key, "%q is no size", p.at.text)
		return "", false
	}
	return BinarySize(n), n > 0
}

// BinarySize writes bytes in the largest unit of powers of 1024 that fits.
func BinarySize(n int64) string {
	for _, u := range []struct {
		name string
		size int64
	}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n >= u.size && n%u.size == 0 {
			return fmt.Sprintf("%d%s", n/u.size, u.name)
		}
	}
	return fmt.Sprintf("%dB", n)
}

func readDuration(key string) reader {
	return func(c *converter, s *service, p pair) {
		if d, ok := duration(p.at.text); ok {
			s.add(p.line, p.key, "%s = %q", key, d)
		} else {
			c.note(p.line, s.at+"."+p.key, "%q is no duration of milliseconds or more", p.at.text)
		}
	}
}

// duration writes a duration in our way.
func duration(text string) (string, bool) {
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Millisecond {
		return "", false
	}
	d = d.Round(time.Millisecond)
	if d%time.Second != 0 {
		return fmt.Sprintf("%dms", d.Milliseconds()), true
	}
	return fmt.Sprintf("%ds", int64(d.Seconds())), true
}

func readPullPolicy(c *converter, s *service, p pair) {
	word, ok := map[string]string{"always": "each-deploy", "never": "never", "missing": "if-absent", "if_not_present": "if-absent"}[p.at.text]
	if !ok {
		c.note(p.line, s.at+"."+p.key, "%s has no counterpart", p.at.text)
		return
	}
	s.add(p.line, p.key, "fetch = %q", word)
}

func readContainerName(_ *converter, s *service, p pair) {
	if p.at.text != s.name && !slices.Contains(s.aliases, p.at.text) {
		s.aliases = append(s.aliases, p.at.text)
	}
}

func readCommand(key string) reader {
	return func(c *converter, s *service, p pair) {
		var words []string
		switch p.at.kind {
		case nothing:
			return // the image's own
		case list:
			for _, n := range p.at.items {
				words = append(words, n.text)
			}
		default:
			parsed, err := shellwords.NewParser().Parse(p.at.text)
			if err != nil {
				c.note(p.line, s.at+"."+p.key, "its words cannot be told apart: write them as a list")
				return
			}
			words = parsed
		}
		var all []string
		for _, w := range words {
			all = append(all, quoted(w))
		}
		s.add(p.line, p.key, "%s = [%s]", key, strings.Join(all, ", "))
	}
}

func readUser(c *converter, s *service, p pair) {
	user, group, both := strings.Cut(p.at.text, ":")
	_, noUID := strconv.ParseUint(user, 10, 32)
	_, noGID := strconv.ParseUint(group, 10, 32)
	switch {
	case strings.Contains(p.at.text, unknownMark), noUID == nil && both && noGID == nil:
		s.add(p.line, p.key, "run-as = %s", quoted(p.at.text))
	case noUID == nil && !both:
		s.add(p.line, p.key, "run-as = %q", user+":0")
		c.note(p.line, s.at+".user", "without a group the engine takes group 0, which is written")
	default:
		if _, err := declare.ParseInsideUser(p.at.text); err != nil {
			c.note(p.line, s.at+".user", "%q is no user", p.at.text)
			return
		}
		s.add(p.line, p.key, "run-as = %q", "inside "+p.at.text)
	}
}

func readEnvironment(c *converter, s *service, p pair) {
	for _, e := range entries(p.at) {
		if e.at.kind == nothing {
			value, ok := c.in.Env[e.key]
			if !ok {
				s.add(e.line, "environment", "env.%s = %s", declare.KeyName(e.key), declare.Quote("${shell."+e.key+"}"))
				c.note(e.line, s.at+".environment."+e.key, "its value is taken from the shell of whoever deploys")
				continue
			}
			e.at = &node{kind: scalar, line: e.line, text: value}
		}
		c.variable(s, e.key, e.at.text, e.line, "environment")
	}
}

// variable adds a variable: a secret goes into the environment file.
func (c *converter) variable(s *service, name, value string, line place, element string) {
	switch {
	case name == "" || strings.ContainsAny(name, "=\x00"):
		c.note(line, s.at+"."+element, "%q is no name of a variable", name)
	case HoldsSecret(name, value) && !strings.Contains(value, unknownMark):
		s.secrets = append(s.secrets, EnvLine(name, value))
	default:
		s.add(line, element, "env.%s = %s", declare.KeyName(name), quoted(value))
	}
}

// HoldsSecret reports whether a variable belongs into an environment file: by its name, or by what it holds.
func HoldsSecret(name, value string) bool {
	return value != "" && declare.IsVariable(name) && (declare.IsSecret(name) || urlPassword.MatchString(value))
}

// EnvLine returns a line of an environment file.
func EnvLine(name, value string) string {
	if !strings.ContainsAny(value, "'\"\\ \t#\n\r") && value == strings.TrimSpace(value) {
		return name + "=" + value
	}
	return name + "=\"" + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", "").Replace(value) + "\""
}

func readEnvFile(c *converter, s *service, p pair) {
	for _, n := range append(texts(p.at), nestedPaths(p.at)...) {
		file, inside := below(n.text)
		if n.text == "" {
			continue
		}
		if !inside {
			c.note(n.line, s.at+".env_file", "%s is outside of the folder of the file: it is not read", n.text)
			continue
		}
		content, err := c.in.Read(file)
		if err != nil {
			c.note(n.line, s.at+".env_file", "%s cannot be read", n.text)
			continue
		}
		for _, e := range dotEnv(content) {
			if s.sets(e.key) {
				continue // environment wins
			}
			c.variable(s, e.key, e.at.text, n.line, "env_file "+path.Base(file))
		}
	}
}

// urlPassword is a password in an address.
var urlPassword = regexp.MustCompile(`://[^/\s:@]*:[^@/\s]+@`)

// sets reports whether the service's own environment has a variable.
func (s *service) sets(name string) bool {
	env := s.from.get("environment")
	return env != nil && slices.ContainsFunc(entries(env), func(p pair) bool { return p.key == name })
}

// nestedPaths returns the paths of the long form of env_file.
func nestedPaths(n *node) []*node {
	var all []*node
	for _, item := range n.items {
		if p := item.get("path"); p != nil {
			all = append(all, p)
		}
	}
	return all
}

// DotEnv reads the lines NAME=value of a file beside the imported one.
func DotEnv(content string) map[string]string {
	all := map[string]string{}
	for _, p := range dotEnv(content) {
		all[p.key] = p.at.text
	}
	return all
}

// quotedPart is a value in quotes; a comment may follow.
var quotedPart = regexp.MustCompile(`^(?:'([^']*)'|"((?:[^"\\]|\\.)*)")\s*(?:#.*)?$`)

func dotEnv(content string) []pair {
	var all []pair
	number := 0
	for line := range strings.Lines(content) {
		number++
		line = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "export "))
		name, value, ok := strings.Cut(line, "=")
		if !ok || strings.HasPrefix(line, "#") {
			continue
		}
		value = strings.TrimSpace(value)
		switch inner := quotedPart.FindStringSubmatch(value); {
		case inner != nil && value[0] == '\'':
			value = inner[1]
		case inner != nil:
			value = strings.NewReplacer(`\n`, "\n", `\t`, "\t", `\"`, `"`, `\\`, `\`).Replace(inner[2])
		default:
			if i := strings.Index(value, " #"); i >= 0 {
				value = strings.TrimSpace(value[:i])
			}
		}
		all = append(all, pair{strings.TrimSpace(name), place{line: number}, &node{kind: scalar, line: place{line: number}, text: value}})
	}
	return all
}
