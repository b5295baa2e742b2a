package plan

import (
	"fmt"
	"slices"
	"strings"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
)

// File is a file or folder that is put into a container. Its content is no part of fingerprints: it is compared with
// what the container has, which a reload may have changed since.
type File struct {
	Target   string
	Folder   bool `json:",omitempty"`
	Mode     uint32
	UID, GID survey.ID   // inside
	Content  secret.Text `json:"-"`
}

// fieldFiles begins the names of the fields that are files.
const fieldFiles = "files."

// fileDifferences compares what was read from a container with the files that are declared. Of a folder it counts
// only that it is there: one of the image keeps its owner and its mode.
func fileDifferences(running, declared Container) []Difference {
	if slices.Contains(running.NotReported, "files") {
		return nil
	}
	has := make(map[string]File, len(running.Files))
	for _, f := range running.Files {
		has[f.Target] = f
	}
	var d []Difference
	for _, f := range declared.Files {
		was, there := has[f.Target]
		field := fieldFiles + f.Target
		switch {
		case !there:
			d = append(d, Difference{field, "", f.describe()})
		case was.Folder != f.Folder:
			d = append(d, Difference{field, was.kind(), f.kind()})
		case f.Folder:
		case was.Mode != f.Mode:
			d = append(d, Difference{field, fmt.Sprintf("mode %04o", was.Mode), fmt.Sprintf("mode %04o", f.Mode)})
		case !was.Content.Same(f.Content):
			d = append(d, Difference{field, "what is there", "other content from line " + fmt.Sprint(firstLine(was.Content, f.Content)) + " on, " +
				f.describe()})
		}
	}
	return d
}

func (f File) kind() string {
	if f.Folder {
		return "a folder"
	}
	return "a file"
}

func (f File) describe() string {
	if f.Folder {
		return "a folder"
	}
	return units.BytesSize(float64(f.Content.Len()))
}

// firstLine returns the number of the first line in which two texts differ. What stands there may be a secret of
// another time, so it is not shown.
func firstLine(a, b secret.Text) int {
	x, y := a.Reveal(), b.Reveal()
	n := 0
	for n < len(x) && n < len(y) && x[n] == y[n] {
		n++
	}
	return 1 + strings.Count(y[:n], "\n")
}

// onlyContents reports whether all that is different is what stands in files.
func onlyContents(running, declared Container, d []Difference) bool {
	return len(d) > 0 && !slices.ContainsFunc(d, func(d Difference) bool {
		target, is := strings.CutPrefix(d.Field, fieldFiles)
		same := func(f File) bool { return f.Target == target && !f.Folder }
		i, j := slices.IndexFunc(running.Files, same), slices.IndexFunc(declared.Files, same)
		return !is || i < 0 || j < 0 || running.Files[i].Mode != declared.Files[j].Mode
	})
}

// Changed returns the files that a running container has with another content, as they are to be and as they were.
func (s Service) Changed() (now, before []File) {
	for _, f := range s.Container.Files {
		i := slices.IndexFunc(s.Running.Container.Files, func(o File) bool { return o.Target == f.Target })
		if i >= 0 && !f.Folder && !s.Running.Container.Files[i].Content.Same(f.Content) {
			old := f
			old.Content = s.Running.Container.Files[i].Content
			now, before = append(now, f), append(before, old)
		}
	}
	return now, before
}
