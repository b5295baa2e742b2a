package declare

import (
	"path"
	"strings"

	"proudlantern.example/lantern/core/source"
)

// Stack is a stack.toml as declared. The name is the folder's.
type Stack struct {
	Name                         string
	File                         *source.File
	About, Host, Timezone, Owner Text
	Let                          []Let
	Services                     []*Service

	// Broken tells that the file could not be read as a whole: what is missing in it says nothing.
	Broken bool
}

// Service is a [service.NAME] as declared.
type Service struct {
	Name string
	At   source.Span // of its name

	About, Image, Owner, RunAs, Timezone, Restart, Page, LogLimit, StopWithin Text

	Ports, Mounts, OwnerVariables, EnvFiles, After, Secrets []Text

	Env   []Variable
	Ready *Ready
}

// Variable is an entry of env.
type Variable struct {
	Name  string
	At    source.Span
	Value Text
}

// Ready is how a service shows that it does its work.
type Ready struct {
	At                             source.Span
	HTTP, Status, Log, TCP, Within Text
}

var stackKeys = append([]key[Stack]{
	text("about", func(s *Stack) *Text { return &s.About }),
	text("host", func(s *Stack) *Text { return &s.Host }),
	text("timezone", func(s *Stack) *Text { return &s.Timezone }),
	text("owner", func(s *Stack) *Text { return &s.Owner }),
	tables("let", "a value of [let]", func(r *reader, e entry, s *Stack) { r.let(e, &s.Let) }),
	tables("service", "a service", func(r *reader, e entry, s *Stack) {
		v := &Service{Name: e.key, At: e.keySpan}
		r.service = v.Name
		defer func() { r.service = "" }()
		before := len(r.problems)
		table1(r, e, serviceKeys, "a service", v)
		if !v.Image.IsSet() && len(r.problems) == before && !s.Broken {
			r.problem("key-missing", e.keySpan, "%s has no image", e.key)
		}
		s.Services = append(s.Services, v)
	}),
}, notYet[Stack]("networks", "own-network", "volume", "accept")...)

var serviceKeys = append([]key[Service]{
	text("about", func(s *Service) *Text { return &s.About }),
	text("image", func(s *Service) *Text { return &s.Image }),
	texts("ports", func(s *Service) *[]Text { return &s.Ports }),
	texts("mounts", func(s *Service) *[]Text { return &s.Mounts }),
	text("owner", func(s *Service) *Text { return &s.Owner }),
	texts("owner-variables", func(s *Service) *[]Text { return &s.OwnerVariables }),
	text("run-as", func(s *Service) *Text { return &s.RunAs }),
	text("timezone", func(s *Service) *Text { return &s.Timezone }),
	{"env", readEnv},
	texts("env-files", func(s *Service) *[]Text { return &s.EnvFiles }),
	texts("secrets", func(s *Service) *[]Text { return &s.Secrets }),
	text("restart", func(s *Service) *Text { return &s.Restart }),
	texts("after", func(s *Service) *[]Text { return &s.After }),
	{"ready", func(r *reader, e entry, s *Service) {
		s.Ready = &Ready{At: e.keySpan}
		before := len(r.problems)
		table1(r, e, readyKeys, "ready", s.Ready)
		kinds := 0
		for _, t := range []Text{s.Ready.HTTP, s.Ready.TCP, s.Ready.Log} {
			if t.IsSet() {
				kinds++
			}
		}
		if kinds != 1 && len(r.problems) == before {
			r.problem("key-missing", e.keySpan, "ready needs one of http, tcp and log")
		}
	}},
	text("page", func(s *Service) *Text { return &s.Page }),
	text("log-limit", func(s *Service) *Text { return &s.LogLimit }),
	text("stop-within", func(s *Service) *Text { return &s.StopWithin }),
}, notYet[Service]("platform", "fetch", "command", "entrypoint", "working-dir", "hostname", "listens", "extra-groups",
	"timezone-variable", "networks", "network", "shares-network-with", "aliases", "overlap", "memory", "shared-memory", "cpus",
	"devices", "capabilities", "drop-capabilities", "privileged", "read-only", "init", "pid", "ipc", "cgroup", "sysctls", "labels",
	"ulimits", "address-book", "dns", "stop-signal", "accept")...)

var readyKeys = append([]key[Ready]{
	text("http", func(y *Ready) *Text { return &y.HTTP }),
	text("status", func(y *Ready) *Text { return &y.Status }),
	text("log", func(y *Ready) *Text { return &y.Log }),
	text("within", func(y *Ready) *Text { return &y.Within }),
	{"tcp", func(r *reader, e entry, y *Ready) {
		if e.value.kind != kindInteger {
			r.wrongType(e.value, "a port number")
			return
		}
		y.TCP = Text{Value: e.value.text, Span: e.value.span}
	}},
}, notYet[Ready]("command", "image")...)

func readEnv(r *reader, e entry, s *Service) {
	if e.value.kind != kindTable {
		r.wrongType(e.value, "a table of variables")
		return
	}
	for _, e := range e.value.table.entries {
		if e.key == "" || strings.ContainsAny(e.key, "=\x00") {
			r.problem("value-grammar", e.keySpan, "%q is no name of a variable", e.key)
			continue
		}
		if IsSecret(e.key) {
			e.value.span.Hide() // also when it is wrong
		}
		if value, ok := r.scalar(e.value); ok {
			s.Env = append(s.Env, Variable{e.key, e.keySpan, value})
		}
	}
}

// stack reads one stack and the environment files that it names.
func (r *reader) readStack(name string, l *Lab, text func(string) (string, error)) *Stack {
	before := len(r.problems)
	r.stack = name
	defer func() { r.stack = "" }()
	s := &Stack{Name: name}
	s.File = r.open(path.Join(name, StackFile), text)
	if !isName(name) {
		r.problem("name-invalid", s.File.Span(0, 0), "the folder's name %q is no name for a stack: small letters, digits and -, starting with a letter, at most 40", name)
	}
	top := r.parse(s.File)
	for _, p := range r.problems[before:] {
		s.Broken = s.Broken || p.Rule == "syntax"
	}
	if top != nil {
		read(r, top, stackKeys, "stack.toml", s)
	}
	r.envFilesOfLet(l, name, s.Let, text)
	for _, v := range s.Services {
		r.service = v.Name
		for _, f := range v.EnvFiles {
			r.envFile(l, name, f, text)
		}
	}
	r.service = ""
	return s
}

func (r *reader) envFilesOfLet(l *Lab, dir string, lets []Let, text func(string) (string, error)) {
	for _, let := range lets {
		if let.EnvFile.IsSet() {
			r.envFile(l, dir, let.EnvFile, text)
		}
	}
}
