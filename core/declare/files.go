package declare

import (
	"fmt"
	"path"
	"strconv"
	"strings"
)

// File is one line of files: `SOURCE -> TARGET[, OPTION…]`, a file or folder of the stack's folder that goes into
// the container.
type File struct {
	Source   string // from the stack's folder, such as "./desk.conf"
	Target   string
	Fill     bool    // references in it are replaced
	Mode     *uint32 // of files; folders also get x where a file gets r. nil: none is written
	UID, GID *uint32 // nil: none is written

	SourceAt, TargetAt, ModeAt [2]int // where they stand in the value: offset, length
}

// optionsOfFiles are the options of a line of files.
var optionsOfFiles = []string{"fill", "mode", "owner"}

// ParseFile reads a line of files. The error is a *[SyntaxError] that marks the part at fault.
func ParseFile(s string) (File, error) {
	var f File
	source, _, rest, at, err := cutArrow(s)
	if err != nil {
		if !strings.Contains(s, "->") {
			err.Message = "only one side: a file is written ./SOURCE -> PATH, such as ./desk.conf -> /etc/desk.conf"
		}
		return f, err
	}
	f.Source, f.SourceAt = source.text, source.at
	switch {
	case f.Source == "":
		return f, syntaxError(f.SourceAt[0], f.SourceAt[1], "the file's path from the stack's folder is missing")
	case !strings.HasPrefix(f.Source, "./"):
		e := syntaxError(f.SourceAt[0], f.SourceAt[1],
			"a file comes from the stack's folder: its path starts with ./ (what is on the host is a mount)")
		if !strings.HasPrefix(f.Source, "/") && !strings.HasPrefix(f.Source, "../") {
			e.meant("./" + f.Source)
		}
		return f, e
	}
	if strings.HasPrefix(path.Clean(f.Source)+"/", "../") {
		return f, syntaxError(f.SourceAt[0], f.SourceAt[1], "%s leads out of the stack's folder", f.Source)
	}
	target, options, more := strings.Cut(rest, ",")
	if f.Target, f.TargetAt, err = insidePath(target, at); err != nil {
		return f, err
	}
	if f.Target == "/" {
		return f, syntaxError(f.TargetAt[0], f.TargetAt[1], "the root of the container is no place for files: name a folder below it")
	}
	for at += len(target) + 1; more; {
		var option string
		option, options, more = strings.Cut(options, ",")
		if err := f.readOption(option, at); err != nil {
			return f, err
		}
		at += len(option) + 1
	}
	return f, nil
}

// readOption reads an option that stands at an offset of the value.
func (f *File) readOption(s string, at int) error {
	option, move := trimmed(s)
	word, rest, _ := strings.Cut(option, " ")
	rest = strings.TrimSpace(rest)
	restAt := at + move + len(option) - len(rest)
	switch {
	case option == "fill":
		f.Fill = true
	case word == "mode" && rest != "":
		mode, err := parseMode(rest, restAt)
		if err != nil {
			return err
		}
		f.Mode, f.ModeAt = &mode, [2]int{at + move, len(option)}
	case word == "owner" && rest != "":
		user, group, both := strings.Cut(rest, ":")
		uid, err := strconv.ParseUint(user, 10, 32)
		gid, also := strconv.ParseUint(group, 10, 32)
		if !both || err != nil || also != nil {
			return syntaxError(restAt, len(rest), "%q is no owner inside a container: two numbers, UID:GID", rest)
		}
		u, g := uint32(uid), uint32(gid)
		f.UID, f.GID = &u, &g
	default:
		e := syntaxError(at+move, len(option), "%q is no option of a file: fill, mode MODE or owner UID:GID", option)
		if near := Nearest(word, optionsOfFiles); near != "" && Certain(word, near) {
			e.meant(strings.TrimSpace(near + " " + rest))
		}
		return e
	}
	return nil
}

// String returns the line as it is written in stack.toml.
func (f File) String() string {
	s := quotedSource(f.Source) + " -> " + f.Target
	if f.Fill {
		s += ", fill"
	}
	if f.Mode != nil {
		s += fmt.Sprintf(", mode %04o", *f.Mode)
	}
	if f.UID != nil && f.GID != nil {
		s += fmt.Sprintf(", owner %d:%d", *f.UID, *f.GID)
	}
	return s
}

// MostInFiles and MostBytesInFiles are how much one line of files may bring into a container.
const (
	MostInFiles      = 10_000 // files and folders
	MostBytesInFiles = 64 << 20
)

// TreeEntry is a file or folder of the lab that goes into a container.
type TreeEntry struct {
	Name       string // below what was read, with slashes; "" for what was read itself
	Folder     bool
	Executable bool
	Text       string
}
