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
		s = quotedSource(s)
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

// quotedSource puts a source in quotes where something in it would have a meaning.
func quotedSource(s string) string {
	if strings.Contains(s, ",") || strings.Contains(s, "->") || strings.TrimSpace(s) != s {
		return "'" + s + "'"
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
	source, quoted, rest, at, err := cutArrow(s)
	if err != nil {
		if m.SourceAt = source.at; !quoted {
			err.meant(arrowMount(source.text))
		}
		return m, err
	}
	m.Source, m.SourceAt = source.text, source.at
	if !quoted {
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
	if m.Target, m.TargetAt, err = insidePath(target, at); err != nil {
		return m, err
	}
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

// stretch is part of a value: what it says, and where it stands (offset, length).
type stretch struct {
	text string
	at   [2]int
}

// cutArrow cuts `SOURCE -> REST`. The source may stand in single quotes; then nothing in it has a meaning.
func cutArrow(s string) (source stretch, quoted bool, rest string, restAt int, err *SyntaxError) {
	src, move := trimmed(s)
	if !strings.HasPrefix(src, "'") {
		left, right, ok := strings.Cut(s, "->")
		if !ok {
			return stretch{src, [2]int{move, len(src)}}, false, "", 0, syntaxError(move, len(src),
				"only one side: a mount is written host -> container, such as /srv/skerry -> /data")
		}
		src, move = trimmed(left)
		return stretch{src, [2]int{move, len(src)}}, false, right, len(left) + 2, nil
	}
	end := strings.IndexByte(src[1:], '\'')
	if end < 0 {
		return source, true, "", 0, syntaxError(move, len(src), "the closing ' is missing")
	}
	source = stretch{src[1 : 1+end], [2]int{move + 1, end}}
	rest, restAt = src[end+2:], move+end+2
	if t, skip := trimmed(rest); !strings.HasPrefix(t, "->") {
		return source, true, "", 0, syntaxError(restAt+skip, len(t), "-> and the path inside the container belong here")
	}
	arrow := strings.Index(rest, "->")
	return source, true, rest[arrow+2:], restAt + arrow + 2, nil
}

// insidePath reads the path inside a container that stands at an offset of a value.
func insidePath(s string, at int) (inside string, where [2]int, err *SyntaxError) {
	inside, move := trimmed(s)
	where = [2]int{at + move, len(inside)}
	switch {
	case inside == "":
		return "", where, syntaxError(at, len(s), "the path inside the container is missing")
	case !strings.HasPrefix(inside, "/"):
		return "", where, syntaxError(where[0], len(inside), "the path inside the container starts with /")
	}
	return path.Clean(inside), where, nil
}

// parseMode reads the mode of a file or folder that stands at an offset of a value.
func parseMode(s string, at int) (uint32, *SyntaxError) {
	mode, err := strconv.ParseUint(s, 8, 32)
	if err != nil || mode > 0o7777 {
		return 0, syntaxError(at, len(s), "%q is no mode: up to four octal digits, such as 0750", s)
	}
	return uint32(mode), nil
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
			mode, err := parseMode(rest, at+move+len(option)-len(rest))
			if err != nil {
				return err
			}
			m.Mode = mode
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
