package interchange

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// readBuild reads how an image is made. The folder itself is not read: it has to come into the stack's folder.
func readBuild(c *converter, s *service, p pair) {
	context, recipe, stage, arguments := ".", "", "", []string(nil)
	if len(p.at.pairs) == 0 {
		context = text(p.at)
	}
	for _, q := range p.at.pairs {
		switch q.key {
		case "context":
			context = text(q.at)
		case "dockerfile":
			recipe = text(q.at)
		case "target":
			stage = text(q.at)
		case "args":
			for _, a := range q.at.pairs {
				arguments = append(arguments, declare.KeyName(a.key)+" = "+quoted(a.at.text))
			}
			for _, n := range q.at.items {
				if name, value, both := strings.Cut(n.text, "="); both {
					arguments = append(arguments, declare.KeyName(name)+" = "+quoted(value))
				} else {
					c.note(q.line, s.at+".build.args", "%s has no value here: write it into arguments", name)
				}
			}
		default:
			c.note(q.line, s.at+".build."+q.key, "has no counterpart: leave it out, or write it into the recipe")
		}
	}
	if strings.Contains(context, "://") || strings.HasPrefix(context, "git@") {
		c.note(p.line, s.at+".build", "what it is made of lies elsewhere: fetch it into the stack's folder, and write build = { folder = \"./image\" }")
		return
	}
	folder := path.Base(path.Clean(context))
	if folder == "." || folder == ".." || folder == "/" {
		folder = "image"
	}
	parts := []string{"folder = " + quoted("./"+folder)}
	if recipe != "" {
		parts = append(parts, "recipe = "+quoted(recipe))
	}
	if stage != "" {
		parts = append(parts, "stage = "+quoted(stage))
	}
	if arguments != nil {
		parts = append(parts, "arguments = { "+strings.Join(arguments, ", ")+" }")
	}
	if s.from.get("image") == nil {
		s.add(p.line, p.key, "image = %s", quoted("localhost/"+s.name+":1"))
	}
	s.add(p.line, p.key, "build = { %s }", strings.Join(parts, ", "))
	c.note(p.line, s.at+".build", "copy %s into the stack's folder, as %s", context, folder)
}

// readCopies reads how many containers of a service run.
func readCopies(c *converter, s *service, p pair) {
	n, err := strconv.Atoi(p.at.text)
	switch {
	case err != nil || n < 0:
		c.note(p.line, s.at+"."+p.key, "%q is no number", p.at.text)
	case n > 1 && !slices.ContainsFunc(s.lines, func(l string) bool { return strings.HasPrefix(l, "copies = ") }): // scale and replicas say the same
		s.add(p.line, p.key, "copies = %d", n)
	}
}

// build writes how an image is made, for somebody who gets the folder, too.
func (e *exporter) build(t tableNode, s *lab.Service) {
	b := s.Build
	if b == nil || b.Folder == "" {
		return
	}
	own := newTable()
	folder := "./" + strings.TrimPrefix(b.Folder, e.stack.Name+"/")
	own.put("context", plain(folder))
	if b.Recipe != declare.RecipeNames[1] { // which is what others look for
		own.put("dockerfile", word(b.Recipe))
	}
	own.put("target", word(b.Stage))
	own.put("args", pairTable(b.Arguments))
	t.put("build", own.node)
	e.note(s, "its image is built from %s: give that folder along, as %s", b.Folder, folder)
}

// copies writes how many containers of a service there are.
func (e *exporter) copies(t tableNode, s *lab.Service) {
	if n := len(s.Copies()); n > 1 {
		t.put("scale", &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!int", Value: strconv.Itoa(n)})
	}
}

// copies returns how many containers of the service run there.
func (s *service) copies() int {
	number := s.from.get("scale")
	if deploy := s.from.get("deploy"); number == nil && deploy != nil {
		number = deploy.get("replicas")
	}
	if number == nil {
		return 1
	}
	n, _ := strconv.Atoi(number.text)
	return n
}
