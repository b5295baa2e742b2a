package interchange

import (
	"errors"
	"strings"

	"github.com/mattn/go-shellwords"

	"proudlantern.example/lantern/core/source"
)

// option is one of a command that starts a container, by the names that several engines share.
type option struct {
	element string // of the specification; "" for one that means nothing here
	flag    bool   // it takes no value
	list    bool   // it may stand several times
	note    string // what to do instead
}

var startOptions = map[string]option{
	"d": {flag: true}, "detach": {flag: true}, "i": {flag: true}, "interactive": {flag: true}, "t": {flag: true},
	"tty": {flag: true}, "rm": {flag: true, note: "lantern keeps the container: it is the service"},
	"name": {element: "container_name"}, "p": {element: "ports", list: true}, "publish": {element: "ports", list: true},
	"v": {element: "volumes", list: true}, "volume": {element: "volumes", list: true},
	"e": {element: "environment", list: true}, "env": {element: "environment", list: true},
	"env-file": {element: "env_file", list: true}, "restart": {element: "restart"}, "u": {element: "user"}, "user": {element: "user"},
	"w": {element: "working_dir"}, "workdir": {element: "working_dir"}, "h": {element: "hostname"}, "hostname": {element: "hostname"},
	"entrypoint": {element: "entrypoint"}, "l": {element: "labels", list: true}, "label": {element: "labels", list: true},
	"network": {element: "network_mode"}, "net": {element: "network_mode"}, "m": {element: "mem_limit"}, "memory": {element: "mem_limit"},
	"cpus": {element: "cpus"}, "shm-size": {element: "shm_size"}, "device": {element: "devices", list: true},
	"cap-add": {element: "cap_add", list: true}, "cap-drop": {element: "cap_drop", list: true},
	"privileged": {element: "privileged", flag: true}, "read-only": {element: "read_only", flag: true}, "init": {element: "init", flag: true},
	"pid": {element: "pid"}, "ipc": {element: "ipc"}, "dns": {element: "dns", list: true}, "add-host": {element: "extra_hosts", list: true},
	"tmpfs": {element: "tmpfs", list: true}, "sysctl": {element: "sysctls", list: true}, "group-add": {element: "group_add", list: true},
	"stop-signal": {element: "stop_signal"}, "platform": {element: "platform"}, "pull": {element: "pull_policy"},
	"security-opt": {element: "security_opt", list: true}, "gpus": {element: "gpus"}, "userns": {element: "userns_mode"},
	"health-cmd": {note: "write it into ready: ready = { command = […] }"}, "log-driver": {note: "log-limit bounds logs"},
	"log-opt": {note: "log-limit bounds logs"}, "mount": {note: "write it into mounts: SOURCE -> TARGET"},
	"network-alias": {note: "write it into aliases"}, "expose": {}, "stop-timeout": {note: "write it into stop-within"},
}

// ImportCommand reads a command line that starts a container, as pages of images print them: words before its options
// are ignored.
func ImportCommand(file *source.File, in Input) (*Stack, *source.Problem) {
	c := newConverter(in)
	c.files[""], c.isCommand = file, true
	out, err := c.command(file.Text)
	var why *refused
	if errors.As(err, &why) {
		p := why.problem(file)
		return nil, &p
	}
	return out, nil
}

func (c *converter) command(text string) (*Stack, error) {
	first := place{line: 1}
	if len(text) > 64<<10 {
		return nil, &refused{first, "this is longer than any command line"}
	}
	words, err := shellwords.NewParser().Parse(strings.NewReplacer("\\\r\n", " ", "\\\n", " ", "\r\n", " ", "\n", " ").Replace(strings.TrimSpace(text)))
	if err != nil {
		return nil, &refused{first, "the words of this command line cannot be told apart: a quote may be missing"}
	}
	for len(words) > 0 && !strings.HasPrefix(words[0], "-") {
		words = words[1:]
	}
	if len(words) == 0 {
		return nil, &refused{first, "no options stand in it: what starts a container has some, and then the image"}
	}
	s := &node{kind: table, line: first}
	words, err = c.options(s, words)
	if err != nil {
		return nil, err
	}
	if len(words) == 0 {
		return nil, &refused{first, "no image stands behind the options"}
	}
	put := func(key string, n *node) { s.pairs = append(s.pairs, pair{key, first, n}) }
	put("image", &node{kind: scalar, line: first, text: words[0]})
	if len(words) > 1 {
		command := &node{kind: list, line: first}
		for _, w := range words[1:] {
			command.items = append(command.items, &node{kind: scalar, line: first, text: w})
		}
		put("command", command)
	}
	name := strings.TrimSuffix(words[0], "/")
	name = name[strings.LastIndexByte(name, '/')+1:]
	name, _, _ = strings.Cut(name, "@")
	name, _, _ = strings.Cut(name, ":")
	if n := s.get("container_name"); n != nil {
		name = n.text
	}
	services := &node{kind: table, line: first, pairs: []pair{{name, first, s}}}
	c.root = &node{kind: table, line: first, pairs: []pair{{"services", first, services}}}
	return c.stack()
}

// options reads options into a service, and returns the words behind them.
func (c *converter) options(s *node, words []string) ([]string, error) {
	first := place{line: 1}
	for len(words) > 0 && strings.HasPrefix(words[0], "-") && words[0] != "-" {
		word := words[0]
		words = words[1:]
		if word == "--" {
			break
		}
		name, value, has := strings.Cut(strings.TrimLeft(word, "-"), "=")
		if !strings.HasPrefix(word, "--") {
			name, value, has = short(word[1:])
			for o, ok := startOptions[name]; ok && o.flag && has; o, ok = startOptions[name] { // -dit
				name, value, has = short(value)
			}
		}
		o, known := startOptions[name]
		switch {
		case !known:
			return nil, &refused{first, "the option " + word + " is not known here: take it out, and its value"}
		case o.flag && !has:
			value = "true"
		case !o.flag && !has && len(words) == 0:
			return nil, &refused{first, "the option " + word + " has no value"}
		case !o.flag && !has:
			value, words = words[0], words[1:]
		}
		if o.note != "" {
			c.note(first, name, "%s: %s", strings.TrimSpace(name+" "+value), o.note)
		}
		if o.element != "" {
			addOption(s, o, value)
		}
	}
	return words, nil
}

// short takes a short option apart from what is written right behind it.
func short(text string) (name, value string, has bool) {
	if len(text) < 2 {
		return text, "", false
	}
	return text[:1], strings.TrimPrefix(text[1:], "="), true
}

func addOption(s *node, o option, value string) {
	first := place{line: 1}
	at := &node{kind: scalar, line: first, text: value}
	if !o.list {
		s.pairs = append(s.pairs, pair{o.element, first, at})
		return
	}
	if own := s.get(o.element); own != nil {
		own.items = append(own.items, at)
		return
	}
	s.pairs = append(s.pairs, pair{o.element, first, &node{kind: list, line: first, items: []*node{at}}})
}
