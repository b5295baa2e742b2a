package standin

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/moby/moby/api/types/build"
	"github.com/moby/moby/api/types/jsonstream"

	"proudlantern.example/lantern/core/declare"
)

// mostContext is how much of a build's files is taken, in bytes.
const mostContext = 256 << 20

// stepTime is how long a step of a recipe takes, for those who watch.
const stepTime = 300 * time.Millisecond

// build makes an image: it behaves as the one that it rests on, with what the recipe says of variables, ports, accounts and
// labels. What the recipe runs is not run; a command that ends with "exit N" fails, unless N is 0.
func (s *Server) build(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	files, err := readContext(r.Body)
	recipe, ok := files[path.Clean(q.Get("dockerfile"))]
	if err == nil && !ok {
		err = fmt.Errorf("Cannot locate specified Dockerfile: %s", q.Get("dockerfile"))
	}
	arguments, labels := map[string]string{}, map[string]string{}
	for name, into := range map[string]*map[string]string{"buildargs": &arguments, "labels": &labels} {
		if text := q.Get(name); err == nil && text != "" {
			err = json.Unmarshal([]byte(text), into)
		}
	}
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		w.WriteHeader(400)
		json.NewEncoder(w).Encode(map[string]string{"message": err.Error()})
		return
	}
	say := func(m jsonstream.Message) {
		json.NewEncoder(w).Encode(m)
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
	}
	image, err := s.carryOut(recipe, q.Get("target"), arguments, files, func(text string) {
		say(jsonstream.Message{Stream: text + "\n"})
		if s.options.PullSpeed > 0 {
			time.Sleep(s.shorter(stepTime))
		}
	})
	if err != nil {
		say(jsonstream.Message{Error: &jsonstream.Error{Message: err.Error()}})
		return
	}
	image.Labels = maps.Clone(image.Labels)
	if image.Labels == nil {
		image.Labels = map[string]string{}
	}
	maps.Copy(image.Labels, labels)
	s.mu.Lock()
	s.built[q.Get("t")] = image
	s.mu.Unlock()
	id, _ := json.Marshal(build.Result{ID: image.id("")})
	aux := json.RawMessage(id)
	say(jsonstream.Message{Aux: &aux})
}

// readContext reads the files of a build.
func readContext(body io.Reader) (map[string]string, error) {
	files := map[string]string{}
	for t := tar.NewReader(io.LimitReader(body, mostContext)); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return files, nil
		}
		if err != nil {
			return nil, err
		}
		if h.Typeflag == tar.TypeReg {
			text, err := io.ReadAll(t)
			if err != nil {
				return nil, err
			}
			files[path.Clean(h.Name)] = string(text)
		}
	}
}

// exits matches a command that says how it ends.
var exits = regexp.MustCompile(`exit"?,? "?([1-9]\d*)`)

// carryOut goes through a recipe up to a stage, "" for the last one.
func (s *Server) carryOut(recipe, target string, arguments, files map[string]string, say func(string)) (Image, error) {
	parsed := declare.ParseRecipe(recipe, arguments)
	stages := map[string]Image{}
	var image Image
	stage, own := -1, map[string]string{}
	steps := declare.RecipeSteps(recipe)
	for n, step := range steps {
		word, rest, _ := strings.Cut(step, " ")
		say(fmt.Sprintf("Step %d/%d : %s", n+1, len(steps), step))
		rest = strings.TrimSpace(rest)
		switch strings.ToUpper(word) {
		case "FROM":
			if stage++; stage > 0 && target != "" && strings.EqualFold(parsed.Stages[stage-1].Name, target) {
				return image, nil
			}
			st := parsed.Stages[stage]
			image, own = Image{}, map[string]string{}
			if st.Base != "" {
				s.mu.Lock()
				_, base, ok := s.image(st.Base)
				s.mu.Unlock()
				if !ok {
					return image, fmt.Errorf("manifest for %s not found: manifest unknown", st.Base)
				}
				image = base
			} else if fields := strings.Fields(rest); len(fields) > 0 {
				image = stages[strings.ToLower(fields[0])]
			}
			image.made, image.Present = true, true
			image.Env = maps.Clone(image.Env)
		case "ARG":
			name, value, _ := strings.Cut(rest, "=")
			if given, ok := arguments[name]; ok {
				value = given
			}
			own[name] = value
		case "ENV":
			if image.Env == nil {
				image.Env = map[string]string{}
			}
			name, value, _ := strings.Cut(rest, "=")
			for n, v := range own {
				value = strings.NewReplacer("${"+n+"}", v, "$"+n, v).Replace(value)
			}
			image.Env[name] = value
		case "EXPOSE":
			image.Ports = append(slices.Clone(image.Ports), rest+"/tcp")
		case "USER":
			image.User = rest
		case "COPY", "ADD":
			fields := strings.Fields(rest)
			if len(fields) > 1 && !strings.HasPrefix(fields[0], "--") && !anyFile(files, fields[0]) {
				return image, fmt.Errorf("COPY failed: file not found in build context: stat %s: file does not exist", fields[0])
			}
			image.Files = maps.Clone(image.Files)
			if image.Files == nil {
				image.Files = map[string]string{}
			}
			image.Files["/.made/"+fmt.Sprint(n)] = rest + " " + files[path.Clean(fields[0])] // another content is another image
		case "RUN":
			if m := exits.FindStringSubmatch(rest); m != nil {
				say("the lens is cracked")
				return image, fmt.Errorf("The command '%s' returned a non-zero code: %s", rest, m[1])
			}
		}
		if stage >= 0 && parsed.Stages[stage].Name != "" {
			stages[parsed.Stages[stage].Name] = image
		}
	}
	return image, nil
}

func anyFile(files map[string]string, name string) bool {
	name = path.Clean(name)
	for f := range files {
		if name == "." || f == name || strings.HasPrefix(f, name+"/") {
			return true
		}
	}
	return false
}
