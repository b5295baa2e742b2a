package interchange

import (
	"path"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/source"
)

// mostFiles is how many files one imported file may bring along.
const mostFiles = 50

// whole reads a file with those that it includes, and replaces its variables.
func (c *converter) whole(file, text string) (*node, error) {
	root, err := parse(file, text)
	if err != nil {
		return nil, err
	}
	if root.kind != table {
		return nil, &refused{root.line, "a file of stacks is a table with services"}
	}
	if err := c.interpolate(root); err != nil {
		return nil, err
	}
	if file != "" {
		rebase(root, path.Dir(file))
	}
	include := root.get("include")
	if include == nil {
		return root, nil
	}
	for _, n := range include.items {
		paths := []*node{n}
		if n.kind == table {
			if n.get("path") == nil {
				return nil, &refused{n.line, "include needs path"}
			}
			paths = texts(n.get("path"))
			for _, p := range n.pairs {
				if p.key != "path" {
					c.note(p.line, "include."+p.key, "has no counterpart: the file's own folder and .env count")
				}
			}
		}
		for _, one := range paths {
			other, err := c.other(one, path.Join(path.Dir(file), one.text))
			if err != nil {
				return nil, err
			}
			if err := join(root, other); err != nil {
				return nil, err
			}
		}
	}
	return root, nil
}

// other reads another file of the folder.
func (c *converter) other(n *node, file string) (*node, error) {
	file, inside := below(file)
	switch {
	case !inside || path.IsAbs(n.text):
		return nil, &refused{n.line, n.text + " is outside of the folder of the imported file"}
	case slices.Contains(c.reading, file):
		return nil, &refused{n.line, "a circle: " + file + " brings itself along"}
	case len(c.files) > mostFiles:
		return nil, &refused{n.line, "more files than any that a person writes"}
	}
	text, err := c.in.Read(file)
	if err != nil {
		return nil, &refused{n.line, n.text + " cannot be read"}
	}
	c.files[file] = source.NewFile(file, text)
	c.reading = append(c.reading, file)
	defer func() { c.reading = c.reading[:len(c.reading)-1] }()
	return c.whole(file, text)
}

// join adds what an included file declares. What both declare is refused ("include", conflicting resources).
func join(root, other *node) error {
	for _, p := range other.pairs {
		switch p.key {
		case "services", "volumes", "networks", "configs", "secrets", "models":
		default:
			continue
		}
		own := root.get(p.key)
		if own == nil {
			root.pairs = append(root.pairs, p)
			continue
		}
		for _, q := range p.at.pairs {
			if own.get(q.key) != nil {
				return &refused{q.line, q.key + " is in the file that includes this one, too"}
			}
			own.pairs = append(own.pairs, q)
		}
	}
	return nil
}

// rebase makes relative paths of a file in another folder relative to that of the imported file.
func rebase(root *node, dir string) {
	if dir == "." || root.get("services") == nil {
		return
	}
	for _, s := range root.get("services").pairs {
		if v := s.at.get("volumes"); v != nil {
			for _, n := range v.items {
				if strings.HasPrefix(n.text, "./") || strings.HasPrefix(n.text, "../") {
					n.text = "./" + path.Join(dir, n.text)
				}
				if from := n.get("source"); from != nil && strings.HasPrefix(from.text, ".") {
					from.text = "./" + path.Join(dir, from.text)
				}
			}
		}
		if e := s.at.get("env_file"); e != nil {
			for _, n := range append(texts(e), nestedPaths(e)...) {
				if n.text != "" {
					n.text = path.Join(dir, n.text)
				}
			}
		}
	}
}

// extendAll puts what services extend into them.
func (c *converter) extendAll(root *node) error {
	services := root.get("services")
	for i, p := range services.pairs {
		if p.at.kind != table {
			continue
		}
		whole, err := c.extended(services, p)
		if err != nil {
			return err
		}
		services.pairs[i].at = whole
	}
	return nil
}

// extended returns a service with what it extends, directly or not.
func (c *converter) extended(services *node, p pair) (*node, error) {
	e := p.at.get("extends")
	if e == nil {
		return p.at, nil
	}
	name, file := e, (*node)(nil)
	if e.kind == table {
		name, file = e.get("service"), e.get("file")
	}
	if name == nil || name.text == "" {
		return nil, &refused{e.line, "extends needs the name of a service"}
	}
	from := services
	if file != nil {
		other, err := c.other(file, path.Join(path.Dir(p.line.file), file.text))
		if err != nil {
			return nil, err
		}
		if from = other.get("services"); from == nil {
			return nil, &refused{file.line, file.text + " has no services"}
		}
	}
	base := from.get(name.text)
	if base == nil || base.kind != table {
		return nil, &refused{name.line, "there is no service " + name.text + " to extend"}
	}
	mark := base.line.String() + " " + name.text
	if slices.Contains(c.reading, mark) || base == p.at {
		return nil, &refused{name.line, "a circle: " + name.text + " extends itself"}
	}
	c.reading = append(c.reading, mark)
	defer func() { c.reading = c.reading[:len(c.reading)-1] }()
	base, err := c.extended(from, pair{name.text, base.line, base})
	if err != nil {
		return nil, err
	}
	return merged(base, p.at, ""), nil
}

// replaced are elements whose lists are replaced as a whole ("extends", merging sequences).
var replacedLists = []string{"command", "entrypoint", "test"}

// merged returns a table with what another one adds to it, or says otherwise.
func merged(base, own *node, key string) *node {
	if key == "environment" || key == "labels" || key == "sysctls" || key == "annotations" {
		base, own = asTable(base), asTable(own)
	}
	switch {
	case base.kind == list && own.kind == list && !slices.Contains(replacedLists, key):
		out := &node{kind: list, line: own.line, items: slices.Clone(base.items)}
		for _, item := range own.items {
			if item.kind != scalar || !slices.ContainsFunc(out.items, func(o *node) bool { return o.kind == scalar && o.text == item.text }) {
				out.items = append(out.items, item)
			}
		}
		return out
	case base.kind != table || own.kind != table:
		return own
	}
	out := &node{kind: table, line: own.line}
	for _, p := range base.pairs {
		if p.key == "extends" {
			continue
		}
		if i := slices.IndexFunc(own.pairs, func(o pair) bool { return o.key == p.key }); i >= 0 {
			o := own.pairs[i]
			if p.at = merged(p.at, o.at, p.key); p.at == o.at {
				p.line = o.line // nothing of the base is left
			}
		}
		out.pairs = append(out.pairs, p)
	}
	for _, p := range own.pairs {
		if p.key != "extends" && base.get(p.key) == nil {
			out.pairs = append(out.pairs, p)
		}
	}
	return out
}

// asTable returns a list of NAME=value as a table.
func asTable(n *node) *node {
	if n.kind != list {
		return n
	}
	return &node{kind: table, line: n.line, pairs: entries(n)}
}
