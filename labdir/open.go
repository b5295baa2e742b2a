package labdir

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
)

// Find returns the folder of a lab: the named one, else the first with a lab.toml from the current folder
// upwards. The error says what was looked for and where.
func Find(named string) (string, error) {
	if named != "" {
		dir, err := filepath.Abs(named)
		if err != nil {
			return "", err
		}
		if _, err := os.Stat(filepath.Join(dir, declare.LabFile)); err != nil {
			return "", fmt.Errorf("%s is no lab: there is no %s in it%s", named, declare.LabFile, misnamed(dir))
		}
		return dir, nil
	}
	dir, err := os.Getwd()
	if err != nil {
		return "", err
	}
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, declare.LabFile)); err == nil {
			return at, nil
		}
		if at == filepath.Dir(at) {
			return "",
				fmt.Errorf("there is no lab here: no %s in %s or above it%s; --lab DIR names one",
					declare.LabFile, dir, misnamed(dir))
		}
	}
}

// misnamed says which file of a folder is probably meant to be lab.toml; "" for none.
func misnamed(dir string) string {
	found, _ := os.ReadDir(dir)
	for _, e := range found {
		if name := e.Name(); !e.IsDir() &&
			regexp.MustCompile(`(?i)^labs?\.(toml|tml|ya?ml|json)$`).MatchString(name) {
			return "; " + name + " is not read"
		}
	}
	return ""
}

// Open reads the files of a lab. Links may not lead out of it. The texts of the overlay, by path, take the
// place of what the files say.
func Open(dir string, overlay map[string]string) (*declare.Lab, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("the lab %s cannot be read: %s", dir, InWords(err))
	}
	entries, err := fs.ReadDir(root.FS(), ".")
	if err != nil {
		return nil, fmt.Errorf("the lab %s cannot be read: %s", dir, InWords(err))
	}
	var stacks, strays []string
	for _, e := range entries {
		if e.Name()[0] == '.' || !e.IsDir() {
			continue
		}
		// A folder that may not be looked into may hold a stack: reading it says so.
		if _, err := root.Lstat(e.Name() + "/" + declare.StackFile); err == nil ||
			errors.Is(err, fs.ErrPermission) {
			stacks = append(stacks, e.Name())
		} else {
			strays = append(strays, straysIn(root, e.Name())...)
		}
	}
	for path := range overlay {
		if stack, ok := strings.CutSuffix(path, "/"+declare.StackFile); ok && !slices.Contains(stacks, stack) {
			stacks = append(stacks, stack)
		}
	}
	// The folder stays open: names of environment files with references are known only when the lab is
	// resolved.
	decl := declare.Read(stacks, func(path string) (string, error) {
		if text, ok := overlay[path]; ok {
			return text, nil
		}
		return Read(root, path)
	})
	decl.Strays = strays
	decl.ReadTreesBy(func(path string) ([]declare.TreeEntry, error) { return tree(root, overlay, path) })
	decl.ReadContextsBy(func(path string) (*declare.Context, error) { return context(root, overlay, path) })
	if !slices.Contains(stacks, declare.CardFolder) { // then its other files are the stack's
		decl.ReadCards(cardsIn(root, overlay))
	}
	return decl, nil
}

// cardsIn returns the names of the files that are cards of images.
func cardsIn(root *os.Root, overlay map[string]string) []string {
	entries, _ := fs.ReadDir(root.FS(), declare.CardFolder) // most labs have none
	var names []string
	for _, e := range entries {
		if !e.IsDir() && strings.HasSuffix(e.Name(), ".toml") && e.Name()[0] != '.' && len(names) < declare.MostEntries {
			names = append(names, e.Name())
		}
	}
	for path := range overlay {
		if dir, name, _ := strings.Cut(path, "/"); dir == declare.CardFolder && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// straysIn returns the files of a folder whose names are nearly stack.toml.
func straysIn(root *os.Root, dir string) []string {
	entries, err := fs.ReadDir(root.FS(), dir)
	if err != nil {
		return nil
	}
	var found []string
	for _, e := range entries {
		if !e.IsDir() && declare.IsStray(e.Name()) {
			found = append(found, dir+"/"+e.Name())
		}
	}
	return found
}

// ReadIn reads a file below a folder, see [Read].
func ReadIn(dir, path string) (string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	return Read(root, path)
}

// WriteIn writes a file below a folder, see [Write].
func WriteIn(dir, path, was, text string, mode fs.FileMode) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return Write(root, path, was, text, mode)
}

// InWords returns the last part of an error of the file system, without the call and the path.
func InWords(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// Stamp tells whether the files of a lab have changed: two looks at the same files give the same text. The paths are
// those of its environment files.
func Stamp(dir string, paths []string) string {
	paths = append([]string{declare.LabFile}, paths...)
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if e.IsDir() {
			paths = append(paths, e.Name()+"/"+declare.StackFile)
		}
	}
	cards, _ := os.ReadDir(filepath.Join(dir, declare.CardFolder))
	for _, e := range cards {
		paths = append(paths, declare.CardFolder+"/"+e.Name())
	}
	var b strings.Builder
	for _, p := range paths {
		if info, err := os.Stat(filepath.Join(dir, p)); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", p, info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}
