package labdir

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io/fs"
	"maps"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/internal/system"
)

// Facts looks at files of a lab on the machine that holds it: their modes, and whether version control lists
// them. Those that have the name of an environment file and lie beside lab.toml or a stack.toml count, too.
// Paths are relative to the lab.
func Facts(dir string, paths []string) map[string]lab.FileFact {
	facts := map[string]lab.FileFact{}
	tracked := trackedFiles(dir)
	for _, pattern := range []string{"*.env", "*/*.env"} {
		found, _ := fs.Glob(os.DirFS(dir), pattern) // its only error is a bad pattern
		for _, p := range found {
			if !slices.Contains(paths, p) {
				paths = append(paths, p)
			}
		}
	}
	for _, p := range paths {
		full := filepath.Join(dir, filepath.FromSlash(p))
		info, err := os.Stat(full)
		if err != nil {
			continue
		}
		facts[p] = lab.FileFact{Mode: uint32(info.Mode().Perm()), Tracked: tracked[full]}
	}
	if os.Geteuid() != 0 {
		return facts // who may write these may do no more than lantern can
	}
	others := slices.Sorted(maps.Keys(facts))
	for _, pattern := range []string{".", declare.LabFile, "*/" + declare.StackFile} {
		found, _ := fs.Glob(os.DirFS(dir), pattern)
		for _, p := range found {
			others = append(others, p, path.Dir(p))
		}
	}
	for _, p := range others {
		if info, err := os.Stat(filepath.Join(dir, filepath.FromSlash(p))); err == nil {
			if by := writers(info); by != "" {
				fact := facts[p]
				fact.Mode, fact.Writers = uint32(info.Mode().Perm()), by
				facts[p] = fact
			}
		}
	}
	return facts
}

// writers says who else than its owner may write a file, or change what is in a folder. A group of the
// owner's own, as many systems give each account one, does not count.
func writers(info fs.FileInfo) string {
	st, ok := system.FactsOf(info)
	switch mode := info.Mode(); {
	case mode&0o002 != 0 && mode&fs.ModeSticky == 0:
		return "everybody"
	case ok && mode&0o020 != 0 && st.GID != 0 && st.GID != st.UID:
		return "the group " + groupName(st.GID)
	}
	return ""
}

func groupName(gid uint32) string {
	if g, err := user.LookupGroupId(strconv.Itoa(int(gid))); err == nil {
		return g.Name
	}
	return strconv.Itoa(int(gid))
}

// mostIndex is the largest index that is read, in bytes: one of a hundred thousand files has some ten million.
const mostIndex = 64 << 20

// trackedFiles returns the files that the git repository around a folder lists in its index; none where there
// is no repository, or one whose index cannot be read.
func trackedFiles(dir string) map[string]bool {
	for at := dir; ; at = filepath.Dir(at) {
		text, err := ReadAny(filepath.Join(gitFolder(at), "index"), mostIndex)
		if err == nil {
			names, err := gitIndex([]byte(text))
			if err != nil {
				return nil
			}
			files := make(map[string]bool, len(names))
			for _, n := range names {
				files[filepath.Join(at, filepath.FromSlash(n))] = true
			}
			return files
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// gitFolder returns where git keeps what it knows of a folder: .git, or where a file of that name leads to,
// as in further working trees (gitrepository-layout(5)).
func gitFolder(at string) string {
	own := filepath.Join(at, ".git")
	text, err := ReadAny(own, 4096)
	if err != nil {
		return own
	}
	folder, ok := strings.CutPrefix(strings.TrimRight(text, "\r\n"), "gitdir: ")
	switch {
	case !ok:
		return own
	case filepath.IsAbs(folder):
		return folder
	}
	return filepath.Join(at, folder)
}

// errIndex is returned for an index that does not follow its format.
var errIndex = errors.New("not a git index of version 2, 3 or 4")

// gitIndex returns the names in an index (gitformat-index(5), versions 2 to 4).
func gitIndex(text []byte) ([]string, error) {
	const head = 12
	fixed := 42 + sha1.Size // bytes of an entry in front of its name: the object's name is in it
	if end := len(text) - sha256.Size; end >= head && sha256.Sum256(text[:end]) == [sha256.Size]byte(text[end:]) {
		fixed = 42 + sha256.Size // a repository of the newer kind ends with such a sum
	}
	if len(text) < head || string(text[:4]) != "DIRC" {
		return nil, errIndex
	}
	version, count := binary.BigEndian.Uint32(text[4:]), binary.BigEndian.Uint32(text[8:])
	if version < 2 || version > 4 {
		return nil, errIndex
	}
	var names []string
	previous, at := "", head
	for range count {
		start := at
		if at+fixed > len(text) {
			return nil, errIndex
		}
		const extended = 0x4000
		flags := binary.BigEndian.Uint16(text[at+fixed-2:])
		at += fixed
		if flags&extended != 0 {
			at += 2
		}
		keep := 0
		if version == 4 {
			drop, next, ok := dropped(text, at, len(previous))
			if !ok {
				return nil, errIndex
			}
			at = next
			keep = len(previous) - drop
		}
		if at > len(text) {
			return nil, errIndex
		}
		end := bytes.IndexByte(text[at:], 0)
		if end < 0 {
			return nil, errIndex
		}
		previous = previous[:keep] + string(text[at:at+end])
		names = append(names, strings.Clone(previous))
		at += end + 1
		if version < 4 { // filled up with zeros to a multiple of eight
			at = start + (at-start+7)/8*8
		}
	}
	return names, nil
}

// dropped reads how many letters of the name before do not count, at most most: 7 bits a byte, each further
// byte adding one, as in the offsets of packs. It returns where the next thing begins.
func dropped(text []byte, at, most int) (drop, next int, ok bool) {
	for first := true; at < len(text); first = false {
		if !first {
			drop++
		}
		b := text[at]
		at++
		if drop = drop<<7 | int(b&0x7f); drop > most {
			return 0, 0, false // before it overflows
		}
		if b&0x80 == 0 {
			return drop, at, true
		}
	}
	return 0, 0, false
}
