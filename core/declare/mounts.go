package declare

import (
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
)

// MountKind tells what is mounted.
type MountKind int

const (
	// MountPath is a file or folder of the host.
	MountPath MountKind = iota
	// MountVolume is a volume of the engine.
	MountVolume
	// MountMemory is a file system in memory.
	MountMemory
	// MountEngine is the engine's own socket.
	MountEngine
)

// Mount is one line of mounts: `SOURCE -> TARGET[, OPTION…]`.
type Mount struct {
	Kind       MountKind
	Source     string // MountPath: the path, MountVolume: the volume's name
	Size       int64  // MountMemory: bytes, 0 for the engine's default
	Target     string
	ReadOnly   bool
	Create     bool
	Mode       uint32 // of Create; 0 where none is written
	Shared     bool
	StartEmpty bool

	SourceAt, TargetAt [2]int // where the two stand in the value: offset, length
}

// Relative reports whether the source is a path from the stack's folder.
func (m Mount) Relative() bool { return m.Kind == MountPath && strings.HasPrefix(m.Source, "./") }

func (m Mount) String() string {
	s := m.Source
	switch m.Kind {
	case MountVolume:
		s = "volume " + s
	case MountMemory:
		s = "memory"
		if m.Size > 0 {
			s += fmt.Sprintf(" %dB", m.Size)
		}
	case MountEngine:
		s = "engine"
	case MountPath:
		if strings.Contains(s, ",") || strings.Contains(s, "->") || strings.TrimSpace(s) != s {
			s = "'" + s + "'"
		}
	}
	s += " -> " + m.Target
	if m.ReadOnly {
		s += ", read-only"
	}
	if m.Create {
		s += ", create"
		if m.Mode != 0 {
			s += fmt.Sprintf(" %04o", m.Mode)
		}
	}
	if m.Shared {
		s += ", shared"
	}
	if m.StartEmpty {
		s += ", start-empty"
	}
	return s
}

// Below reports whether a path is another one or lies below it.
func Below(p, above string) bool {
	return p == above || strings.HasPrefix(p, strings.TrimSuffix(above, "/")+"/")
}

// ParseMount reads a mount. The error is a *[SyntaxError] that marks the part at fault.
func ParseMount(s string) (Mount, error) {
	var m Mount
	rest, at := s, 0
	src, move := trimmed(rest)
	if strings.HasPrefix(src, "'") {
		end := strings.IndexByte(src[1:], '\'')
		if end < 0 {
			return m, syntaxError(move, len(src), "the closing ' is missing")
		}
		m.Source, m.SourceAt = src[1:1+end], [2]int{move + 1, end}
		rest, at = src[end+2:], move+end+2
		if t, skip := trimmed(rest); !strings.HasPrefix(t, "->") {
			return m, syntaxError(at+skip, len(t), "-> and the path inside the container belong here")
		}
		arrow := strings.Index(rest, "->")
		rest, at = rest[arrow+2:], at+arrow+2
	} else {
		left, right, ok := strings.Cut(s, "->")
		if !ok {
			return m,
				syntaxError(move, len(src),
					"only one side: a mount is written host -> container, such as /srv/skerry -> /data").
					meant(arrowMount(src))
		}
		src, move = trimmed(left)
		m.Source, m.SourceAt = src, [2]int{move, len(src)}
		rest, at = right, len(left)+2
		if err := m.readSource(); err != nil {
			return m, err
		}
	}
	if m.Kind == MountPath {
		if err := m.checkPath(); err != nil {
			return m, err
		}
	}
	target, options, more := strings.Cut(rest, ",")
	m.Target, move = trimmed(target)
	m.TargetAt = [2]int{at + move, len(m.Target)}
	switch {
	case m.Target == "":
		return m, syntaxError(at, len(target), "the path inside the container is missing")
	case !strings.HasPrefix(m.Target, "/"):
		return m, syntaxError(m.TargetAt[0], len(m.Target), "the path inside the container starts with /")
	}
	m.Target = path.Clean(m.Target)
	for at += len(target) + 1; more; {
		var option string
		option, options, more = strings.Cut(options, ",")
		if err := m.readOption(option, at); err != nil {
			return m, err
		}
		at += len(option) + 1
	}
	return m, nil
}

// colonMount is a mount as engines' commands write it: SOURCE:TARGET[:OPTIONS].
var colonMount = regexp.MustCompile(`^([^:,]+):(/[^:,]*)(?::([a-zA-Z,]+))?$`)

// arrowMount writes such a mount as ours; "" for anything else, and where an option has no word here.
func arrowMount(s string) string {
	m := colonMount.FindStringSubmatch(s)
	if m == nil {
		return ""
	}
	source := m[1]
	switch {
	case IsName(source):
		source = "volume " + source
	case !strings.HasPrefix(source, "/") && !strings.HasPrefix(source, "./") && !strings.HasPrefix(source, "${"):
		return ""
	}
	text := source + " -> " + m[2]
	for _, option := range strings.FieldsFunc(m[3], func(c rune) bool { return c == ',' }) {
		switch option {
		case "ro":
			text += ", read-only"
		case "rw", "z", "Z": // writable is usual; labels of a security module are the engine's to set
		case "rshared", "shared":
			text += ", shared"
		default:
			return ""
		}
	}
	return text
}

// readSource tells a path from the other kinds of source.
func (m *Mount) readSource() error {
	word, rest, _ := strings.Cut(m.Source, " ")
	rest = strings.TrimSpace(rest)
	switch {
	case word == "volume" && rest != "":
		m.Kind, m.Source = MountVolume, rest
	case word == "memory":
		m.Kind, m.Source = MountMemory, ""
		if rest != "" {
			size, err := ParseSize(rest)
			if err != nil {
				return within(err, m.SourceAt[0]+m.SourceAt[1]-len(rest))
			}
			m.Size = size
		}
	case m.Source == "engine":
		m.Kind, m.Source = MountEngine, ""
	}
	return nil
}

func (m *Mount) checkPath() error {
	switch {
	case m.Source == "":
		return syntaxError(m.SourceAt[0], m.SourceAt[1], "the path on the host is missing")
	case strings.HasPrefix(m.Source, "~"):
		return syntaxError(m.SourceAt[0], m.SourceAt[1], "~ is a shell's word: write the whole path")
	case !strings.HasPrefix(m.Source, "/") && !strings.HasPrefix(m.Source, "./"):
		return syntaxError(m.SourceAt[0], m.SourceAt[1],
			"a path on the host starts with / or, from the stack's folder, with ./")
	case strings.ContainsRune(m.Source, 0):
		return syntaxError(m.SourceAt[0], m.SourceAt[1], "a path has no zero byte")
	}
	if !m.Relative() {
		m.Source = path.Clean(m.Source)
	}
	return nil
}

func (m *Mount) readOption(s string, at int) error {
	option, move := trimmed(s)
	word, rest, _ := strings.Cut(option, " ")
	rest = strings.TrimSpace(rest)
	switch {
	case option == "read-only":
		m.ReadOnly = true
	case option == "shared" && m.Kind == MountPath:
		m.Shared = true
	case option == "start-empty" && m.Kind == MountVolume:
		m.StartEmpty = true
	case word == "create" && m.Kind == MountPath:
		m.Create = true
		if rest != "" {
			mode, err := strconv.ParseUint(rest, 8, 32)
			if err != nil || mode > 0o7777 {
				return syntaxError(at+move+len(option)-len(rest), len(rest),
					"%q is no mode: up to four octal digits, such as 0750", rest)
			}
			m.Mode = uint32(mode)
		}
	case option == "shared" || option == "start-empty" || word == "create":
		return syntaxError(at+move, len(option), "%s does not go with this kind of source", word)
	default:
		e := syntaxError(at+move, len(option),
			"%q is no option of a mount: read-only, create, shared or start-empty", option)
		switch written := strings.ToLower(strings.NewReplacer("_", "-").Replace(option)); {
		case written == "ro" || written == "readonly":
			e.meant("read-only")
		default:
			if near := Nearest(written,
				[]string{"read-only", "create", "shared", "start-empty"}); near != "" && Certain(written, near) {
				e.meant(near)
			}
		}
		return e
	}
	return nil
}
