package declare

import (
	"io"
	"slices"
	"strconv"
	"strings"
)

// RecipeNames are the usual names of recipes, in the order in which they are looked for.
var RecipeNames = []string{"Containerfile", "Dockerfile"}

// IgnoreNames are the usual names of files that list what a recipe is not to see, in the order in which they are looked for.
var IgnoreNames = []string{".containerignore", ".dockerignore"}

// MostInContext is how many files and folders a recipe may take files from.
const MostInContext = 100_000

// Context is the folder that a recipe may take files from, without what is left out. Its contents stay where they are until
// somebody opens them.
type Context struct {
	Files []ContextFile // sorted by name; a folder comes before what is in it
	Open  func(name string) (io.ReadCloser, error)
}

// ContextFile is something in a [Context].
type ContextFile struct {
	Name       string // below the folder, with slashes
	Folder     bool
	Executable bool
	Link       string // where it leads, as it is written; "" for what is no link
	Size       int64  // in bytes
}

// Has reports whether the context has a file of that name.
func (c *Context) Has(name string) bool {
	return slices.ContainsFunc(c.Files, func(f ContextFile) bool { return f.Name == name && !f.Folder })
}

// Names returns the names of the files, for those who look for a misspelt one.
func (c *Context) Names() []string {
	var all []string
	for _, f := range c.Files {
		if !f.Folder {
			all = append(all, f.Name)
		}
	}
	return all
}

// Recipe is what of a recipe counts before it is carried out. The rest is the engine's business.
type Recipe struct {
	Stages []Stage
}

// Stage is a part of a recipe that begins with a line FROM.
type Stage struct {
	Name string // "" for one without
	Line int    // of its FROM, from 1
	// Base is the image that it rests on, with arguments put in: "" for another stage, and for nothing at all (scratch)
	Base string
	// Missing is an argument in Base that has no value, "" for none.
	Missing string
	// Platform that it asks for; "" for none.
	Platform string
}

// ParseRecipe reads the lines FROM of a recipe, and the lines ARG before the first of them, by which they may be written.
// The arguments take the place of the values that are written there.
func ParseRecipe(text string, arguments map[string]string) Recipe {
	var r Recipe
	values := map[string]string{}
	for _, line := range recipeLines(text) {
		word, rest, _ := strings.Cut(line.text, " ")
		rest = strings.TrimSpace(rest)
		switch strings.ToUpper(word) {
		case "ARG":
			if len(r.Stages) > 0 {
				continue
			}
			for _, one := range strings.Fields(rest) {
				name, value, _ := strings.Cut(one, "=")
				values[name] = strings.Trim(value, `"'`)
				if given, ok := arguments[name]; ok {
					values[name] = given
				}
			}
		case "FROM":
			r.Stages = append(r.Stages, r.stage(rest, line.number, values))
		}
	}
	return r
}

// stage reads what stands behind FROM.
func (r Recipe) stage(rest string, line int, values map[string]string) Stage {
	s := Stage{Line: line}
	fields := strings.Fields(rest)
	for len(fields) > 0 && strings.HasPrefix(fields[0], "--") {
		if p, ok := strings.CutPrefix(fields[0], "--platform="); ok {
			s.Platform, _ = putIn(p, values)
		}
		fields = fields[1:]
	}
	if len(fields) == 0 {
		return s
	}
	if len(fields) >= 3 && strings.EqualFold(fields[1], "as") {
		s.Name = strings.ToLower(fields[2])
	}
	base, missing := putIn(strings.Trim(fields[0], `"'`), values)
	earlier := slices.ContainsFunc(r.Stages, func(o Stage) bool { return o.Name != "" && o.Name == strings.ToLower(base) })
	if s.Missing = missing; base != "scratch" && !earlier {
		s.Base = base
	}
	return s
}

// Bases returns the images that the recipe rests on, each once.
func (r Recipe) Bases() []string {
	var all []string
	for _, s := range r.Stages {
		if s.Base != "" && s.Missing == "" && !slices.Contains(all, s.Base) {
			all = append(all, s.Base)
		}
	}
	return all
}

// Names returns the names of its stages.
func (r Recipe) Names() []string {
	var all []string
	for i, s := range r.Stages {
		if s.Name != "" {
			all = append(all, s.Name)
		}
		all = append(all, strconv.Itoa(i)) // engines take numbers, too
	}
	return all
}

// putIn puts values in the place of $NAME, ${NAME}, ${NAME:-otherwise} and ${NAME:+instead}. Missing is a name that has none.
func putIn(text string, values map[string]string) (out, missing string) {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(text, "$")
		b.WriteString(before)
		if !found {
			return b.String(), missing
		}
		name, instead, how := "", "", ""
		if inner, ok := strings.CutPrefix(rest, "{"); ok {
			inner, rest, _ = strings.Cut(inner, "}")
			name = inner
			for _, sign := range []string{":-", ":+"} {
				if n, i, cut := strings.Cut(inner, sign); cut {
					name, instead, how = n, i, sign
				}
			}
		} else {
			end := strings.IndexFunc(rest, func(c rune) bool {
				return c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && !isDigit(c)
			})
			if end < 0 {
				end = len(rest)
			}
			name, rest = rest[:end], rest[end:]
		}
		value := values[name]
		switch {
		case how == ":-" && value == "":
			value = instead
		case how == ":+" && value != "":
			value = instead
		case how == "" && value == "":
			missing = name
		}
		b.WriteString(value)
		text = rest
	}
}

// recipeLine is a line of a recipe with those that continue it.
type recipeLine struct {
	text   string
	number int // of its first line, from 1
}

// recipeLines takes a recipe apart: without comments, and with continued lines as one. The first line may say that another
// sign than \ continues lines.
func recipeLines(text string) []recipeLine {
	sign := `\`
	var all []recipeLine
	open := false
	for i, line := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		trimmed := strings.TrimSpace(line)
		if comment, ok := strings.CutPrefix(trimmed, "#"); ok {
			if name, value, said := strings.Cut(comment, "="); said && len(all) == 0 && strings.TrimSpace(strings.ToLower(name)) == "escape" {
				sign = strings.TrimSpace(value)
			}
			continue
		}
		if trimmed == "" {
			continue
		}
		part, more := strings.CutSuffix(trimmed, sign)
		if open {
			last := &all[len(all)-1]
			last.text = strings.TrimSpace(last.text + " " + part)
		} else {
			all = append(all, recipeLine{strings.TrimSpace(part), i + 1})
		}
		open = more
	}
	return all
}

// RecipeSteps returns the steps of a recipe, a line each.
func RecipeSteps(text string) []string {
	var all []string
	for _, l := range recipeLines(text) {
		all = append(all, l.text)
	}
	return all
}
