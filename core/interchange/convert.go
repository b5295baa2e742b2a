package interchange

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// Input is what a file is read with.
type Input struct {
	Stack    string            // the name that it gets
	Host     string            // that it is for; "" where the lab has one only
	Hosts    []string          // of the lab, where it has several and nobody has said which
	Folder   string            // of the file on this machine, absolute
	Env      map[string]string // of the file .env beside it
	Profiles []string          // services of other profiles are left out
	Networks []string          // that the lab has already
	// Read returns a file below the folder, and whether anything is at a path.
	Read   func(path string) (string, error)
	Exists func(path string) bool
}

// Stack is what becomes of a file.
type Stack struct {
	Text  string            // of stack.toml
	Lab   string            // tables that lab.toml needs beside its own
	Env   map[string]string // texts of environment files that hold secrets, by their names
	Notes []Note

	Networks []*lab.Network // that the lab has from now on; nil where nothing is said of them
	Profiles []string       // of services that were left out, because nobody has asked for them
}

// Note is what has no counterpart, or what a person has to look at.
type Note struct {
	File    string // below the folder; "" for the imported file itself
	Line    int
	Element string // its dotted path, such as services.desk.ports
	Text    string
}

// Import reads a file. A problem keeps it from being read at all.
func Import(file *source.File, in Input) (*Stack, *source.Problem) {
	c := newConverter(in)
	c.files[""] = file
	out, err := c.file(file.Text)
	var why *refused
	if errors.As(err, &why) {
		p := why.problem(c.files[why.line.file])
		return nil, &p
	}
	return out, nil
}

func newConverter(in Input) *converter {
	return &converter{in: in, env: map[string]string{}, names: map[string]string{}, volumes: map[string]*volume{},
		files: map[string]*source.File{}}
}

type converter struct {
	in       Input
	root     *node
	notes    []Note
	env      map[string]string
	lab      strings.Builder
	names    map[string]string // of services: there, and here
	volumes  map[string]*volume
	unknowns []string
	profiles []string // of services that were left out

	isCommand bool                    // it is a command line: what it mounts is declared nowhere
	files     map[string]*source.File // that were read, by their paths
	reading   []string                // that are being read, and services that are being extended
}

// volume is a volume of the file: as it is declared, and what is written of it.
type volume struct {
	name  string
	lines []string
	used  bool
}

func (c *converter) note(line place, element, format string, args ...any) {
	c.notes = append(c.notes, Note{line.file, line.line, element, fmt.Sprintf(format, args...)})
}

// unknown notes a variable that has a value only where the stack is deployed.
func (c *converter) unknown(name string, line place) {
	if !slices.Contains(c.unknowns, name) {
		c.unknowns = append(c.unknowns, name)
		c.note(line, name, "${%s} has no value here: it is taken from the shell of whoever deploys; or put a value in its place", name)
	}
}

func (c *converter) file(text string) (*Stack, error) {
	root, err := c.whole("", text)
	if err != nil {
		return nil, err
	}
	if c.root = root; root.get("services") == nil {
		return nil, &refused{place{line: 1}, "the file has no services"}
	}
	if err := c.extendAll(root); err != nil {
		return nil, err
	}
	return c.stack()
}

func (c *converter) stack() (*Stack, error) {
	services := c.root.get("services")
	if services.kind != table {
		return nil, &refused{services.line, "services is a table of names"}
	}
	c.readVolumes()
	c.top()
	var all []*service
	for _, p := range services.pairs {
		if strings.HasPrefix(p.key, "x-") {
			continue
		}
		if p.at.kind != table {
			return nil, &refused{p.line, p.key + " is no table"}
		}
		if c.leftOut(p) {
			continue
		}
		s := &service{there: p.key, name: c.name(p.key), line: p.line, at: "services." + p.key, from: p.at, own: true}
		c.names[p.key] = s.name
		all = append(all, s)
	}
	if len(all) == 0 {
		return nil, &refused{services.line, "no service is left: --profile names those of a profile"}
	}
	w := &strings.Builder{}
	fmt.Fprintf(w, "# Imported; the numbers are lines of the file that it comes from.\n")
	if n := c.root.get("name"); n != nil {
		fmt.Fprintf(w, "about = %s  # %s: name\n", declare.Quote(text(n)), n.line)
	}
	if c.in.Host != "" {
		fmt.Fprintf(w, "host = %s\n", declare.Quote(c.in.Host))
	} else if len(c.in.Hosts) > 1 {
		fmt.Fprintf(w, "# host = \"\"  # on which machine? %s\n", strings.Join(c.in.Hosts, " or "))
		c.note(place{line: 1}, "host", "the lab has several machines: say in host on which one it runs, or import with --host")
	}
	for _, s := range all {
		c.service(s)
	}
	c.ownNetwork(w, all)
	for _, s := range all {
		s.write(w)
	}
	for _, v := range c.sortedVolumes() {
		fmt.Fprintf(w, "\n[volume.%s]\n", v.name)
		for _, l := range v.lines {
			w.WriteString(l + "\n")
		}
	}
	slices.SortStableFunc(c.notes, func(a, b Note) int {
		return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line)
	})
	return &Stack{Text: w.String(), Lab: c.lab.String(), Env: c.env, Notes: c.notes, Profiles: c.profiles}, nil
}

// ownNetwork says where the stack has no network of its own: none of its services is on one.
func (c *converter) ownNetwork(w *strings.Builder, all []*service) {
	isOn := func(s *service) bool { return s.own && s.from.get("network_mode") == nil }
	isOff := func(s *service) bool { return !s.own }
	switch on, off := slices.ContainsFunc(all, isOn), slices.IndexFunc(all, isOff); {
	case off < 0:
	case !on:
		fmt.Fprintf(w, "own-network = false  # all services are on networks of others\n")
	default:
		c.note(all[off].line, all[off].at+".networks", "it is on the stack's own network, too, here")
	}
}

// leftOut reports whether a service belongs to profiles that nobody has asked for.
func (c *converter) leftOut(p pair) bool {
	profiles := p.at.get("profiles")
	if profiles == nil || profiles.kind != list {
		return false
	}
	var names []string
	for _, n := range profiles.items {
		if slices.Contains(c.in.Profiles, n.text) {
			return false
		}
		names = append(names, n.text)
	}
	if len(names) > 0 {
		for _, n := range names {
			if !slices.Contains(c.profiles, n) {
				c.profiles = append(c.profiles, n)
			}
		}
		c.note(p.line, "services."+p.key, "left out: it is of the profile %s; --profile brings it", strings.Join(names, ", "))
	}
	return len(names) > 0
}

// name returns a name of ours for one of a service.
func (c *converter) name(there string) string { return ServiceName(there, c.taken) }

// ServiceName returns a name of ours for one that something has elsewhere; none that is taken.
func ServiceName(there string, taken func(string) bool) string {
	own := strings.ToLower(strings.Map(func(r rune) rune {
		if r == '_' || r == '.' || r == ' ' {
			return '-'
		}
		return r
	}, there))
	if !declare.IsName(own) || declare.IsTaken(own) {
		own = "service-" + strings.Trim(own, "-")
	}
	if !declare.IsName(own) {
		own = "service"
	}
	base := own
	for n := 2; taken(own); n++ {
		own = fmt.Sprintf("%s-%d", base, n)
	}
	return own
}

func (c *converter) taken(name string) bool {
	for _, own := range c.names {
		if own == name {
			return true
		}
	}
	return false
}

// readVolumes notes the volumes that the file declares.
func (c *converter) readVolumes() {
	n := c.root.get("volumes")
	if n == nil {
		return
	}
	for _, p := range n.pairs {
		v := &volume{name: c.volumeName(p.key)}
		for _, q := range p.at.pairs {
			at := "volumes." + p.key + "." + q.key
			switch q.key {
			case "external":
				if q.at.text == "true" {
					v.lines = append(v.lines, fmt.Sprintf("existing = true  # %s: external", q.line))
					if p.at.get("name") == nil {
						v.lines = append(v.lines, "engine-name = "+quoted(p.key))
					}
				}
			case "name":
				v.lines = append(v.lines, fmt.Sprintf("engine-name = %s  # %s: name", quoted(text(q.at)), q.line))
			case "driver":
				v.lines = append(v.lines, fmt.Sprintf("driver = %s  # %s: driver", quoted(text(q.at)), q.line))
			case "driver_opts":
				v.lines = append(v.lines, inTable("options", q.at, q.line, "driver_opts")...)
			case "labels":
				v.lines = append(v.lines, inTable("labels", q.at, q.line, "labels")...)
			default:
				if !strings.HasPrefix(q.key, "x-") {
					c.note(q.line, at, "has no counterpart")
				}
			}
		}
		c.volumes[p.key] = v
	}
}

func (c *converter) volumeName(there string) string { return VolumeName(there) }

// VolumeName returns a name of ours for that of a volume or network elsewhere.
func VolumeName(there string) string {
	own := strings.ToLower(strings.NewReplacer("_", "-", ".", "-").Replace(there))
	if !declare.IsName(own) {
		own = "volume-" + strings.Trim(own, "-")
	}
	return own
}

// sortedVolumes returns the volumes that are mounted, by name.
func (c *converter) sortedVolumes() []*volume {
	var all []*volume
	for _, v := range c.volumes {
		if v.used {
			all = append(all, v)
		}
	}
	slices.SortFunc(all, func(a, b *volume) int { return strings.Compare(a.name, b.name) })
	return all
}

// top notes what stands beside the services.
func (c *converter) top() {
	for _, p := range c.root.pairs {
		if p.key == "networks" {
			c.topNetworks(p)
			continue
		}
		if e, ok := find(topElements, p.key); ok && e.instead != "" {
			c.note(p.line, p.key, "%s", e.instead)
		} else if !ok && !strings.HasPrefix(p.key, "x-") {
			c.note(p.line, p.key, "lantern knows no such element: take it out, or write what it means")
		}
	}
}

// topNetworks tells of networks of the file: services of one stack share one anyway.
func (c *converter) topNetworks(p pair) {
	own := 0
	for _, q := range p.at.pairs {
		if external(q.at) {
			if name := c.volumeName(q.key); !slices.Contains(c.in.Networks, name) {
				fmt.Fprintf(&c.lab, "\n[network.%s]  # %s: networks; somebody else makes it\nexisting = true\nengine-name = %s\n", name, q.line,
					declare.Quote(networkName(q)))
			}
			continue
		}
		if own++; own > 1 {
			c.note(q.line, "networks."+q.key, "services of a stack share one network here; a second one is a network of the lab")
		}
		for _, r := range q.at.pairs {
			if r.key == "internal" && r.at.text == "true" {
				c.note(r.line, "networks."+q.key+".internal", "the own network of a stack reaches the world; a network of the lab can be internal")
			} else if r.key != "driver" && r.key != "name" && r.key != "attachable" && !strings.HasPrefix(r.key, "x-") {
				c.note(r.line, "networks."+q.key+"."+r.key, "has no counterpart for the own network of a stack")
			}
		}
	}
}

func external(n *node) bool {
	e := n.get("external")
	return e != nil && (e.text == "true" || e.kind == table)
}

func networkName(p pair) string {
	if n := p.at.get("name"); n != nil {
		return n.text
	}
	return p.key
}

// quoted writes a text of the file as a value of ours: what is meant as itself stays itself.
func quoted(s string) string { return declare.Quote(escaped(s)) }

// Escaped returns a text of somebody else as it is written into our files: what looks like a reference is none.
func Escaped(s string) string { return strings.ReplaceAll(s, "${", "${$}{") }

// escaped returns a text in which nothing is taken for a reference but what is one.
func escaped(s string) string {
	parts := strings.Split(Escaped(s), unknownMark)
	for i := 1; i < len(parts); i += 2 {
		parts[i] = "${shell." + parts[i] + "}"
	}
	return strings.Join(parts, "")
}

// text returns a text; that of a list is its items with blanks between.
func text(n *node) string {
	if n.kind == list {
		var all []string
		for _, item := range n.items {
			all = append(all, item.text)
		}
		return strings.Join(all, " ")
	}
	return n.text
}

// inTable returns the line of a table of texts, given as a table or as a list of NAME=value.
func inTable(key string, n *node, line place, there string) []string {
	var items []string
	for _, p := range entries(n) {
		items = append(items, declare.KeyName(p.key)+" = "+quoted(p.at.text))
	}
	if items == nil {
		return nil
	}
	return []string{fmt.Sprintf("%s = { %s }  # %s: %s", key, strings.Join(items, ", "), line, there)}
}

// entries returns the pairs of a table, or those of a list of NAME=value.
func entries(n *node) []pair {
	if n.kind == table {
		return n.pairs
	}
	var all []pair
	for _, item := range n.items {
		name, value, has := strings.Cut(item.text, "=")
		at := &node{kind: scalar, line: item.line, text: value}
		if !has {
			at = &node{line: item.line}
		}
		all = append(all, pair{name, item.line, at})
	}
	return all
}

// texts returns a text, or the texts of a list.
func texts(n *node) []*node {
	switch n.kind {
	case scalar:
		return []*node{n}
	case list:
		return n.items
	}
	return nil
}

// service is one that is written.
type service struct {
	there, name, at string
	line            place
	own             bool // it is on the stack's own network
	from            *node
	lines           []string
	after           []item
	mounts, ports   []item
	aliases         []string
	secrets         []string // lines of its environment file
	envFiles        []string
}

// add adds a line, with where it comes from.
func (s *service) add(line place, element, format string, args ...any) {
	s.lines = append(s.lines, fmt.Sprintf(format, args...)+fmt.Sprintf("  # %s: %s", line, element))
}

// write writes the table of a service.
func (s *service) write(w *strings.Builder) {
	fmt.Fprintf(w, "\n[service.%s]  # %s\n", s.name, s.line)
	for _, l := range s.lines {
		w.WriteString(strings.ReplaceAll(l, "\n", " ") + "\n")
	}
	list := func(key string, items []item) {
		switch len(items) {
		case 0:
		case 1:
			fmt.Fprintf(w, "%s = [%s]  # %s\n", key, items[0].value, items[0].from)
		default:
			fmt.Fprintf(w, "%s = [\n", key)
			for _, i := range items {
				fmt.Fprintf(w, "  %s,  # %s\n", i.value, i.from)
			}
			w.WriteString("]\n")
		}
	}
	list("ports", s.ports)
	list("mounts", s.mounts)
	list("after", s.after)
	if len(s.aliases) > 0 {
		var all []string
		for _, a := range s.aliases {
			all = append(all, declare.Quote(a))
		}
		fmt.Fprintf(w, "aliases = [%s]\n", strings.Join(all, ", "))
	}
	if len(s.envFiles) > 0 {
		var all []string
		for _, f := range s.envFiles {
			all = append(all, declare.Quote(f))
		}
		fmt.Fprintf(w, "env-files = [%s]\n", strings.Join(all, ", "))
	}
}

// item is one of a list, with where it comes from.
type item struct{ value, from string }

func newItem(value string, line place, element string) item {
	return item{quoted(value), fmt.Sprintf("%s: %s", line, element)}
}

// below returns a path of the file's folder, and whether it stays in it.
func below(p string) (string, bool) {
	clean := path.Clean(p)
	return clean, clean != ".." && !strings.HasPrefix(clean, "../") && !path.IsAbs(clean)
}
