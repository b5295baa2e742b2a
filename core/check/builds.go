package check

import (
	"cmp"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/tags"
)

// largeContext is from where on a folder of a build takes longer to hand over than a person expects, in bytes.
const largeContext = 100e6

var buildRules = []Rule{
	{
		Name: "build-recipe-missing", Severity: Error, Needs: Files, Mends: true,
		Title: "an image of one's own has no recipe, or the recipe has no such stage",
		Text: "The folder stands in the stack's folder, and holds a Containerfile or a Dockerfile, or the file that recipe names. " +
			"Each argument in a line FROM needs a value.",
		Mistake: `build = { folder = "./imgae" }    # the folder is called image`,
		Mended:  `build = { folder = "./image" }`,
		Find:    resolverFinds,
	}, {
		Name: "build-context-secret", Severity: Warning, Needs: Files,
		Title: "a file that holds a secret may get into an image, or an argument of a build is one",
		Text: "Whoever has the image has all that was copied into it, and can read the arguments of its build. Environment files " +
			"are left out by themselves; a .containerignore lists what else is.",
		Mistake: `build = { folder = "./image" }    # it holds id_ed25519, and no .containerignore lists that`,
		Mended:  `build = { folder = "./image" }    # .containerignore says id_ed25519`,
		Find:    contextSecret,
	}, {
		Name: "build-context-large", Severity: Warning, Needs: Files,
		Title: "the folder of a build holds more than 100 MB",
		Text: "All of it is handed to the engine at each build, over the network to another host. A .containerignore lists what " +
			"the recipe does not need.",
		Mistake: `build = { folder = "./image" }    # with recordings of 2 GB`,
		Mended:  `build = { folder = "./image" }    # .containerignore says recordings`,
		Find:    contextLarge,
	}, {
		Name: "build-base-moving", Severity: Note, Needs: Files,
		Title: "an image rests on one whose tag moves",
		Text: "The same recipe makes another image some day, and nothing in the lab tells that. A tag with a version, or a digest, " +
			"stays; fetch = \"each-deploy\" looks for a newer one at each deploy.",
		Mistake: "FROM registry.skerry.example/root:edge    # in the recipe",
		Mended:  "FROM registry.skerry.example/root:1",
		Find:    baseMoving,
	},
}

// eachBuild calls f for each service whose image is made here, and whose recipe was read.
func eachBuild(in *Input, f func(s *lab.Service, b *lab.Build)) {
	for _, s := range in.services() {
		if s.Build != nil && !s.Build.Unread {
			f(s, s.Build)
		}
	}
}

// eachBase calls f for each image that one made here rests on, where it is not made here, too.
func eachBase(in *Input, f func(s *lab.Service, base string, at source.Span)) {
	eachBuild(in, func(s *lab.Service, b *lab.Build) {
		for _, st := range b.Parsed.Stages {
			if st.Base != "" && in.Lab.Builder(s.Stack.Host, st.Base) == nil {
				f(s, st.Base, b.LineAt(st.Line))
			}
		}
	})
}

const (
	mostSearched  = 64 << 20 // bytes of a folder that are searched for secrets
	searchedEach  = 1 << 20  // of one file
	shortestFound = 8        // bytes that a secret needs to be told from other text
)

// keyMarks stand in files that hold private keys (RFC 7468; the second one is age's).
var keyMarks = []string{"PRIVATE KEY-----", "AGE-SECRET-KEY-1"}

func contextSecret(in *Input) {
	var secrets []string
	eachBuild(in, func(s *lab.Service, b *lab.Build) {
		if secrets == nil {
			secrets = slices.DeleteFunc(in.Lab.Secrets(), func(s string) bool { return len(s) < shortestFound })
		}
		for _, a := range b.Arguments {
			if declare.IsSecret(a.Name) && a.Value != "" {
				in.report(s, source.Problem{
					At:      s.ItemAt("build.arguments", a.Name),
					Message: fmt.Sprintf("everybody who has %s can read the argument %s", s.Image.Text, a.Name),
					Mend:    &source.Mend{Text: "hand it over when it runs, in env"},
				})
			}
		}
		left := int64(mostSearched)
		for _, f := range b.Context.Files {
			if f.Folder || f.Link != "" || f.Size > left {
				continue
			}
			left -= min(f.Size, searchedEach)
			what := holdsSecret(b.Context, f.Name, secrets)
			if what == "" {
				continue
			}
			in.report(s, source.Problem{
				At:      b.FolderAt,
				Message: fmt.Sprintf("%s holds %s, and the recipe may copy it into the image", path.Join(b.Folder, f.Name), what),
				Mend:    &source.Mend{Text: fmt.Sprintf("%s in %s", f.Name, path.Join(b.Folder, declare.IgnoreNames[0]))},
			})
		}
	})
}

// holdsSecret says what of a secret a file holds; "" for none.
func holdsSecret(c *declare.Context, name string, secrets []string) string {
	f, err := c.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, searchedEach))
	if err != nil {
		return ""
	}
	for _, mark := range keyMarks {
		if strings.Contains(string(text), mark) {
			return "a private key"
		}
	}
	for _, s := range secrets {
		if strings.Contains(string(text), s) {
			return "a secret of the lab"
		}
	}
	return ""
}

func contextLarge(in *Input) {
	eachBuild(in, func(s *lab.Service, b *lab.Build) {
		all := int64(0)
		for _, f := range b.Context.Files {
			all += f.Size
		}
		if all <= largeContext {
			return
		}
		files := slices.Clone(b.Context.Files)
		slices.SortStableFunc(files, func(a, b declare.ContextFile) int { return cmp.Compare(b.Size, a.Size) })
		var names []string
		for _, f := range files[:min(3, len(files))] {
			if f.Size > 0 {
				names = append(names, fmt.Sprintf("%s (%s)", f.Name, units.HumanSize(float64(f.Size))))
			}
		}
		in.report(s, source.Problem{
			At:      b.FolderAt,
			Message: fmt.Sprintf("%s holds %s, and each build hands all of it over", b.Folder, units.HumanSize(float64(all))),
			Because: []source.Because{{Text: "the largest: " + strings.Join(names, ", ")}},
			Mend:    &source.Mend{Text: "list what the recipe does not need in " + path.Join(b.Folder, declare.IgnoreNames[0])},
		})
	})
}

func baseMoving(in *Input) {
	eachBase(in, func(s *lab.Service, base string, at source.Span) {
		name, digest, _ := strings.Cut(base, "@")
		tag := ""
		if colon := strings.LastIndexByte(name, ':'); colon > strings.LastIndexByte(name, '/') {
			tag = name[colon+1:]
		}
		if digest != "" || tag != "" && !tags.ByHabit(tag) {
			return
		}
		message := base + " has no tag, so it is whatever is newest"
		if tag != "" {
			message = fmt.Sprintf("the tag %s of %s moves", tag, name[:len(name)-len(tag)-1])
		}
		in.report(s, source.Problem{
			At: at, Message: message,
			Because: []source.Because{{Text: "the image of " + s.FullName() + " is made of it", At: s.Build.At}},
		})
	})
}
