package engine

import (
	"archive/tar"
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/moby/moby/api/types/registry"
	"github.com/moby/moby/client"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// BuildRequest is an image that an engine is to make.
type BuildRequest struct {
	Reference string // the name that the result bears
	Build     *lab.Build
	Platform  string // "" for the engine's own
	Labels    map[string]string
}

// BuildError is that a step of a recipe has failed.
type BuildError struct {
	Step    string   // as the engine tells it, such as "Step 2/3 : RUN make"; "" before the first one
	Lines   []string // the last ones that the step has said
	Message string   // the engine's own words
}

func (e *BuildError) Error() string {
	text := e.Message
	if e.Step != "" {
		text = e.Step + ": " + text
	}
	for _, line := range e.Lines {
		text += "\n      " + line
	}
	return text
}

// stepLine matches how engines tell that a step begins.
var stepLine = regexp.MustCompile(`(?i)^(\[\d+/\d+\] )?step \d+(/\d+)? ?:`)

// ownLine matches what engines say of themselves while a recipe is carried out: what they make and remove for it, and the
// label that lantern adds.
var ownLine = regexp.MustCompile(`^ *-+> |^Removing intermediate container |(?i)^step \d+/\d+ ?: ?LABEL proudlantern\.`)

// mostLines is how many lines of a failed step are kept.
const mostLines = 10

// Build makes an image, and tells of each line what the engine says; step is true for one that begins a step. The error may
// be a *[BuildError]: nothing bears the name then that did not before.
func (e *Engine) Build(ctx context.Context, b BuildRequest, said func(line string, step bool)) error {
	arguments := map[string]*string{}
	for _, a := range b.Build.Arguments {
		arguments[a.Name] = &a.Value
	}
	o := client.ImageBuildOptions{
		Tags: []string{b.Reference}, Dockerfile: b.Build.Recipe, Target: b.Build.Stage, BuildArgs: arguments, Labels: b.Labels,
		Remove: true, ForceRemove: true, AuthConfigs: map[string]registry.AuthConfig{},
	}
	if b.Platform != "" {
		system, rest, _ := strings.Cut(b.Platform, "/")
		architecture, variant, _ := strings.Cut(rest, "/")
		o.Platforms = []ocispec.Platform{{OS: system, Architecture: architecture, Variant: variant}}
	}
	if e.can.labelsBuilds {
		_, err := e.build(ctx, b.Build.Context, o, said)
		return err
	}
	// What the cache has is taken whatever its labels are: they come in a step of their own.
	o.Tags, o.Labels = nil, nil
	id, err := e.build(ctx, b.Build.Context, o, said)
	if err != nil {
		return err
	}
	recipe := "FROM " + id + "\n"
	for _, name := range slices.Sorted(maps.Keys(b.Labels)) {
		recipe += fmt.Sprintf("LABEL %s=%q\n", name, b.Labels[name])
	}
	labelled := &declare.Context{
		Files: []declare.ContextFile{{Name: declare.RecipeNames[0], Size: int64(len(recipe))}},
		Open:  func(string) (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(recipe)), nil },
	}
	_, err = e.build(ctx, labelled, client.ImageBuildOptions{
		Tags: []string{b.Reference}, Dockerfile: declare.RecipeNames[0], Remove: true, ForceRemove: true, Platforms: o.Platforms,
	}, func(string, bool) {})
	return err
}

// build hands a context over, and returns the id of what was made.
func (e *Engine) build(ctx context.Context, c *declare.Context, o client.ImageBuildOptions, said func(line string, step bool)) (id string, err error) {
	packed, packing := io.Pipe()
	go func() { packing.CloseWithError(pack(packing, c)) }()
	defer packed.Close()
	answer, err := e.api.ImageBuild(ctx, packed, o)
	if err != nil {
		return "", explain("build", err)
	}
	defer answer.Body.Close()
	return readBuild(answer.Body, said)
}

// pack writes a context as a tar archive (POSIX.1-2001). Times and owners are always the same, so that engines find what they
// have made before.
func pack(to io.Writer, c *declare.Context) error {
	w := tar.NewWriter(to)
	for _, f := range c.Files {
		h := &tar.Header{Name: f.Name, Mode: 0o644, Size: f.Size, ModTime: time.Unix(0, 0), Typeflag: tar.TypeReg}
		switch {
		case f.Folder:
			h.Name, h.Mode, h.Typeflag = f.Name+"/", 0o755, tar.TypeDir
		case f.Link != "":
			h.Linkname, h.Mode, h.Typeflag = f.Link, 0o777, tar.TypeSymlink
		case f.Executable:
			h.Mode = 0o755
		}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if err := packFile(w, c, f); err != nil {
			return err
		}
	}
	return w.Close()
}

func packFile(w io.Writer, c *declare.Context, f declare.ContextFile) error {
	in, err := c.Open(f.Name)
	if err != nil {
		return err
	}
	defer in.Close()
	n, err := io.Copy(w, io.LimitReader(in, f.Size))
	if err == nil && n < f.Size {
		err = fmt.Errorf("%s has become shorter while it was read", f.Name)
	}
	return err
}

// readBuild reads what an engine says while it builds: a JSON object a line, whose texts may hold parts of lines.
func readBuild(body io.Reader, said func(line string, step bool)) (id string, err error) {
	failed := &BuildError{}
	rest := ""
	line := func(text string) {
		text = strings.TrimRight(text, " \t\r")
		switch {
		case ownLine.MatchString(text):
		case stepLine.MatchString(text):
			failed.Step, failed.Lines = text, nil
			said(text, true)
		case strings.TrimSpace(text) != "":
			failed.Lines = append(failed.Lines[max(0, len(failed.Lines)+1-mostLines):], short(text))
			said(text, false)
		}
	}
	rows := bufio.NewScanner(body)
	rows.Buffer(nil, mostRow)
	for rows.Scan() {
		var m struct {
			Stream, Status, Error string
			ErrorDetail           struct{ Message string }
			Aux                   struct{ ID string }
		}
		if json.Unmarshal(rows.Bytes(), &m) != nil {
			continue
		}
		if m.Aux.ID != "" {
			id = m.Aux.ID
		}
		rest += m.Stream
		for {
			text, after, found := strings.Cut(rest, "\n")
			if !found {
				break
			}
			line(text)
			rest = after
		}
		if len(rest) > mostLine {
			line(rest[:mostLine])
			rest = ""
		}
		if text := m.Error + m.ErrorDetail.Message; text != "" {
			if line(rest); m.Error != "" {
				text = m.Error
			}
			failed.Message = short(strings.TrimSpace(text))
			// Some engines repeat what the step has said, or say the step itself once more.
			failed.Lines = slices.DeleteFunc(failed.Lines, func(l string) bool { return l == failed.Message })
			return "", failed
		}
	}
	if err := rows.Err(); err != nil {
		return "", explain("build", err)
	}
	if id == "" {
		return "", &BuildError{Step: failed.Step, Lines: failed.Lines, Message: "the engine stopped without a result"}
	}
	return id, nil
}
