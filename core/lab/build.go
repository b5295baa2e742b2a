package lab

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

// Build is how an image of the lab's own is made.
type Build struct {
	At        source.Span // of the key
	Folder    string      // that its recipe may take files from, in the lab
	Recipe    string      // the name of its file in that folder
	Stage     string      // "" for the last one
	Arguments []Pair      // sorted by name

	FolderAt, RecipeAt, StageAt source.Span // those that are not written are at the key

	Context *declare.Context
	Parsed  declare.Recipe
	File    *source.File // the recipe
	Unread  bool         // the folder or the recipe is not there, or cannot be read

	digest func() (string, error)
}

// Bases returns the images that it is made of, as the recipe names them, each once.
func (b *Build) Bases() []string { return b.Parsed.Bases() }

// Digest returns a digest of what goes into the image but for its bases: the files, the recipe, the stage and the
// arguments. It reads all files, once.
func (b *Build) Digest() (string, error) { return b.digest() }

// LineAt returns where a line of the recipe stands, by its number from 1.
func (b *Build) LineAt(number int) source.Span {
	start := 0
	for range number - 1 {
		start += strings.IndexByte(b.File.Text[start:], '\n') + 1
	}
	line, _, _ := strings.Cut(b.File.Text[start:], "\n")
	return b.File.Span(start, start+len(strings.TrimRight(line, " \t\r\\")))
}

// mostRecipe is how large a recipe may be, in bytes.
const mostRecipe = 1 << 20

// build works out how the image of a service is made.
func (r *resolver) build(s *Service, d *declare.Build, in *scope) {
	if d == nil {
		return
	}
	b := &Build{At: d.At, FolderAt: d.At, RecipeAt: d.At, StageAt: d.At, Unread: true}
	s.Build = b
	known := true
	part := func(t declare.Text, into *string, at *source.Span) {
		if !t.IsSet() {
			return
		}
		v := r.expand(t, in)
		*into, *at = v.Text, v.Part(0, len(v.Text))
		known = known && !v.Unknown
	}
	folder := ""
	part(d.Folder, &folder, &b.FolderAt)
	part(d.Recipe, &b.Recipe, &b.RecipeAt)
	part(d.Stage, &b.Stage, &b.StageAt)
	for _, n := range d.Arguments {
		if n.Name == "" || strings.ContainsAny(n.Name, "= \t\n\x00") {
			r.problem("value-grammar", n.At, "%q is no name of an argument", n.Name)
			known = false
			continue
		}
		v, ok := r.known(n.Text, in)
		if known = known && ok; ok {
			b.Arguments = append(b.Arguments, Pair{n.Name, v.Text})
			s.place("build.arguments", n.Name, v.Part(0, len(v.Text)))
		}
	}
	slices.SortFunc(b.Arguments, func(a, b Pair) int { return cmp.Compare(a.Name, b.Name) })
	switch {
	case !known || !d.Folder.IsSet():
		return
	case folder != "." && !strings.HasPrefix(folder, "./"):
		p := r.problem("value-grammar", b.FolderAt, "the folder of a build is one of the stack's: it begins with ./")
		if fixed := "./" + folder; !strings.HasPrefix(folder, "/") && !strings.HasPrefix(folder, "../") && b.FolderAt.Text() == folder {
			p.Mend = source.Replace(b.FolderAt, fixed, fixed+" is how it is written")
		}
		return
	case strings.HasPrefix(path.Clean(folder)+"/", "../"):
		r.problem("value-grammar", b.FolderAt, "%s leads out of the stack's folder", folder)
		return
	case strings.Contains(s.Image.Text, "@"):
		r.problem("value-grammar", s.Image.Part(0, len(s.Image.Text)), "an image that is built here bears a name, and no digest")
		return
	}
	b.Folder = path.Join(s.Stack.Name, folder)
	r.readBuild(b)
}

// readBuild looks into the folder, and reads the recipe.
func (r *resolver) readBuild(b *Build) {
	missing := func(at source.Span, format string, args ...any) {
		r.problem("build-recipe-missing", at, format, args...)
	}
	context, err := r.decl.Context(b.Folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		missing(b.FolderAt, "there is no folder %s in the lab", b.Folder)
		return
	case errors.Is(err, fs.ErrPermission):
		missing(b.FolderAt, "%s may not be read", b.Folder)
		return
	case err != nil:
		missing(b.FolderAt, "%s", err)
		return
	}
	b.Context = r.withoutEnvFiles(context, b.Folder)
	if b.Recipe == "" {
		for _, name := range slices.Backward(declare.RecipeNames) {
			if b.Context.Has(name) {
				b.Recipe = name
			}
		}
		if b.Recipe == "" {
			missing(b.FolderAt, "%s holds no %s: recipe = \"…\" names another file", b.Folder, strings.Join(declare.RecipeNames, " and no "))
			return
		}
	}
	if b.Recipe = path.Clean(b.Recipe); !b.Context.Has(b.Recipe) {
		missing(b.RecipeAt, "%s holds no %s, or what is left out of it covers it", b.Folder, b.Recipe)
		if near := declare.Nearest(b.Recipe, b.Context.Names()); near != "" {
			r.problems[len(r.problems)-1].Mend = declare.Meant(b.RecipeAt, b.Recipe, []string{near}, "is one")
		}
		return
	}
	text, err := readWhole(b.Context, b.Recipe)
	if err != nil {
		missing(b.RecipeAt, "the recipe %s cannot be read: %s", path.Join(b.Folder, b.Recipe), err)
		return
	}
	given := map[string]string{}
	for _, a := range b.Arguments {
		given[a.Name] = a.Value
	}
	b.File = source.NewFile(path.Join(b.Folder, b.Recipe), text)
	if b.Parsed = declare.ParseRecipe(text, given); len(b.Parsed.Stages) == 0 {
		missing(b.RecipeAt, "%s is no recipe: no line begins with FROM", path.Join(b.Folder, b.Recipe))
		return
	}
	if names := b.Parsed.Names(); b.Stage != "" && !slices.Contains(names, strings.ToLower(b.Stage)) {
		p := r.problem("build-recipe-missing", b.StageAt, "the recipe %s has no stage %s", b.Recipe, b.Stage)
		p.Mend = declare.Meant(b.StageAt, b.Stage, names, "is one")
		return
	}
	for _, st := range b.Parsed.Stages {
		if st.Missing != "" {
			p := r.problem("build-recipe-missing", b.LineAt(st.Line), "the argument %s has no value here, neither in the recipe nor in arguments", st.Missing)
			p.Mend = &source.Mend{Text: "ARG " + st.Missing + "=… before the first FROM, or arguments = { " + st.Missing + " = \"…\" }"}
			return
		}
	}
	b.Unread = false
	b.digest = sync.OnceValues(func() (string, error) { return b.sum() })
}

// withoutEnvFiles leaves the lab's environment files out of a context: they hold secrets, and none of them is read inside.
func (r *resolver) withoutEnvFiles(c *declare.Context, folder string) *declare.Context {
	left := *c
	left.Files = slices.DeleteFunc(slices.Clone(c.Files), func(f declare.ContextFile) bool {
		_, is := r.decl.EnvFiles[path.Join(folder, f.Name)]
		return is
	})
	return &left
}

func readWhole(c *declare.Context, name string) (string, error) {
	f, err := c.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, mostRecipe+1))
	if err == nil && len(text) > mostRecipe {
		err = errors.New("it is larger than 1 MiB")
	}
	return string(text), err
}

// sum is [Build.Digest].
func (b *Build) sum() (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "1 %q %q\n", b.Recipe, b.Stage)
	for _, a := range b.Arguments {
		fmt.Fprintf(h, "argument %q %q\n", a.Name, a.Value)
	}
	for _, f := range b.Context.Files {
		fmt.Fprintf(h, "%q %t %t %q %d\n", f.Name, f.Folder, f.Executable, f.Link, f.Size)
		if f.Folder || f.Link != "" {
			continue
		}
		if err := copyFrom(h, b.Context, f.Name); err != nil {
			return "", fmt.Errorf("%s: %w", path.Join(b.Folder, f.Name), err)
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func copyFrom(to io.Writer, c *declare.Context, name string) error {
	f, err := c.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(to, f)
	return err
}

// Builder returns the service of the lab that makes an image on a host, nil where the image comes from elsewhere.
func (l *Lab) Builder(h *Host, image string) *Service { return l.built[builtOn{h, image}] }

// builtOn is an image of the lab's own on the host that it is made on.
type builtOn struct {
	host  *Host
	image string
}

// builders notes who makes which image, once all services are known.
func (l *Lab) builders() {
	for _, st := range l.Stacks {
		for _, s := range st.Services {
			if s.Build == nil || s.Image.Text == "" {
				continue
			}
			if l.built == nil {
				l.built = map[builtOn]*Service{}
			}
			if at := (builtOn{st.Host, s.Image.Text}); l.built[at] == nil {
				l.built[at] = s
			}
		}
	}
}

// Builder returns the service of the stack that makes an image, or nil.
func (s *Stack) Builder(image string) *Service {
	for _, v := range s.Services {
		if v.Build != nil && v.Image.Text == image {
			return v
		}
	}
	return nil
}
