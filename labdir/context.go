package labdir

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/moby/patternmatcher"
	"github.com/moby/patternmatcher/ignorefile"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/internal/system"
)

// context looks into a folder that a recipe may take files from, see [declare.Lab]. What its ignore file lists is left out,
// and environment files and what lantern keeps always are. Links stay links: nothing is read through them. The texts of the
// overlay take the place of what the files say.
func context(root *os.Root, overlay map[string]string, at string) (*declare.Context, error) {
	info, err := root.Stat(at)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission):
		return nil, err
	case err != nil:
		return nil, fmt.Errorf("%s cannot be read, or it is a link that leads out of the lab", at)
	case !info.IsDir():
		return nil, fmt.Errorf("%s is no folder", at)
	}
	ignored, err := ignoredIn(root, overlay, at)
	if err != nil {
		return nil, err
	}
	w := contextWalk{root: root, top: at, ignored: ignored}
	if err := w.walk(""); err != nil {
		return nil, err
	}
	for p, text := range overlay {
		name, below := strings.CutPrefix(p, at+"/")
		if !below || leftOut(name) {
			continue
		}
		w.found = slices.DeleteFunc(w.found, func(f declare.ContextFile) bool { return f.Name == name })
		w.found = append(w.found, declare.ContextFile{Name: name, Size: int64(len(text))})
	}
	slices.SortFunc(w.found, func(a, b declare.ContextFile) int { return strings.Compare(a.Name, b.Name) })
	return &declare.Context{Files: w.found, Open: func(name string) (io.ReadCloser, error) {
		if text, ok := overlay[path.Join(at, name)]; ok {
			return io.NopCloser(strings.NewReader(text)), nil
		}
		return root.OpenFile(path.Join(at, name), os.O_RDONLY|system.NonBlock, 0)
	}}, nil
}

// ignoredIn returns what the ignore file of a folder lists; nil where there is none.
func ignoredIn(root *os.Root, overlay map[string]string, at string) (*patternmatcher.PatternMatcher, error) {
	for _, name := range declare.IgnoreNames {
		p := path.Join(at, name)
		text, ok := overlay[p]
		if !ok {
			var err error
			if text, err = Read(root, p); errors.Is(err, fs.ErrNotExist) {
				continue
			} else if err != nil {
				return nil, fmt.Errorf("%s: %w", p, err)
			}
		}
		patterns, err := ignorefile.ReadAll(strings.NewReader(text))
		if err != nil {
			return nil, fmt.Errorf("%s cannot be understood: %w", p, err)
		}
		m, err := patternmatcher.New(patterns)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be understood: %w", p, err)
		}
		return m, nil
	}
	return nil, nil
}

// leftOut reports whether something is never seen by a recipe: what lantern keeps, and environment files, by their usual
// names. Those that the lab declares are known to the core.
func leftOut(name string) bool {
	base := path.Base(name)
	return base == ".lantern" || base == ".env" || strings.HasPrefix(base, ".env.") || strings.HasSuffix(base, ".env")
}

// contextWalk collects what is below a folder.
type contextWalk struct {
	root    *os.Root
	top     string
	ignored *patternmatcher.PatternMatcher
	found   []declare.ContextFile
}

func (w *contextWalk) walk(dir string) error {
	list, err := fs.ReadDir(w.root.FS(), path.Join(w.top, dir))
	if err != nil {
		return inPlace(err, path.Join(w.top, dir))
	}
	for _, e := range list {
		name := path.Join(dir, e.Name())
		if leftOut(name) || w.ignores(name) && !(e.IsDir() && w.ignored.Exclusions()) {
			continue
		}
		if len(w.found) == declare.MostInContext {
			return fmt.Errorf("%s holds more than %d files and folders", w.top, declare.MostInContext)
		}
		if err := w.add(name, e); err != nil {
			return err
		}
	}
	return nil
}

// ignores reports whether the ignore file lists something. The recipe is seen all the same: the engine needs it.
func (w *contextWalk) ignores(name string) bool {
	if w.ignored == nil || slices.Contains(declare.RecipeNames, name) {
		return false
	}
	yes, err := w.ignored.MatchesOrParentMatches(name)
	return err == nil && yes
}

func (w *contextWalk) add(name string, e fs.DirEntry) error {
	at := path.Join(w.top, name)
	info, err := e.Info()
	if err != nil {
		return inPlace(err, at)
	}
	f := declare.ContextFile{Name: name}
	switch mode := info.Mode(); {
	case mode.IsDir():
		f.Folder = true
		if !w.ignores(name) {
			w.found = append(w.found, f)
		}
		return w.walk(name)
	case mode&fs.ModeSymlink != 0:
		if f.Link, err = w.root.Readlink(at); err != nil {
			return inPlace(err, at)
		}
	case !mode.IsRegular():
		return fmt.Errorf("%s is no plain file: list it in %s", at, declare.IgnoreNames[0])
	default:
		f.Size, f.Executable = info.Size(), mode&0o100 != 0
	}
	w.found = append(w.found, f)
	return nil
}
