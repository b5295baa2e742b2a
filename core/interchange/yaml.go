// Package interchange reads stacks that are written as docs/import.md says, in YAML, and tells of each element of that
// specification what becomes of it.
package interchange

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"proudlantern.example/lantern/core/source"
)

// node is a value of a YAML file with its place. Aliases and merges are carried out.
type node struct {
	kind  kind
	line  place // from 1 on
	text  string
	items []*node // of a list
	pairs []pair  // of a table, in the order of the file
}

type pair struct {
	key  string
	line place
	at   *node
}

// place is a line of a file.
type place struct {
	file string // below the folder; "" for the imported file itself
	line int    // from 1 on
}

func (p place) String() string {
	if p.file == "" {
		return strconv.Itoa(p.line)
	}
	// It stands in comments: a name of a file must not end one.
	return strings.Join(strings.Fields(p.file), " ") + ":" + strconv.Itoa(p.line)
}

type kind int

const (
	nothing kind = iota // null, or left out
	scalar
	list
	table
)

// Bounds of a file: no stack that a person wrote has as much.
const (
	mostNodes = 20_000
	mostDepth = 60
	mostBytes = 1 << 20
)

// refused is a problem that keeps a file from being read.
type refused struct {
	line place
	text string
}

func (r *refused) Error() string { return r.text }

// parse reads a file. Duplicate keys, endless aliases and what is no YAML are refused at their line.
func parse(file, text string) (*node, error) {
	if len(text) > mostBytes {
		return nil, &refused{place{file, 1}, "the file has more than 1 MiB"}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(text), &doc); err != nil {
		return nil, &refused{place{file, lineOf(err)}, "this is no YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	}
	if len(doc.Content) == 0 {
		return nil, &refused{place{file, 1}, "the file is empty"}
	}
	r := &yamlReader{file: file, open: map[*yaml.Node]bool{}}
	return r.node(doc.Content[0], 0)
}

// inLine is how an error of the YAML library names a line.
var inLine = regexp.MustCompile(`line (\d+)`)

// lineOf returns the line that an error of the YAML library names; 1 where it names none.
func lineOf(err error) int {
	if m := inLine.FindStringSubmatch(err.Error()); m != nil {
		n, _ := strconv.Atoi(m[1])
		return max(1, n)
	}
	return 1
}

type yamlReader struct {
	file  string
	nodes int
	open  map[*yaml.Node]bool // that are being read: an alias to one of them has no end
}

func (r *yamlReader) at(n *yaml.Node) place { return place{r.file, n.Line} }

func (r *yamlReader) node(n *yaml.Node, depth int) (*node, error) {
	if r.nodes++; r.nodes > mostNodes || depth > mostDepth {
		return nil, &refused{r.at(n), "with its aliases the file is larger, or deeper, than any that a person writes"}
	}
	if r.open[n] {
		return nil, &refused{r.at(n), "an alias to something that it is part of"}
	}
	r.open[n] = true
	defer delete(r.open, n)
	out := &node{line: r.at(n)}
	switch n.Kind {
	case yaml.AliasNode:
		if n.Alias == nil {
			return nil, &refused{r.at(n), "an alias to nothing"}
		}
		found, err := r.node(n.Alias, depth+1)
		if err != nil {
			return nil, err
		}
		found.line = r.at(n)
		return found, nil
	case yaml.ScalarNode:
		if n.Tag == "!!null" {
			return out, nil
		}
		out.kind, out.text = scalar, n.Value
		return out, nil
	case yaml.SequenceNode:
		out.kind = list
		for _, c := range n.Content {
			item, err := r.node(c, depth+1)
			if err != nil {
				return nil, err
			}
			out.items = append(out.items, item)
		}
		return out, nil
	case yaml.MappingNode:
		out.kind = table
		return out, r.table(n, out, depth)
	}
	return nil, &refused{r.at(n), "this kind of YAML has no meaning here"}
}

// table reads the pairs of a table. What is merged into it (<<) counts less than what stands in it.
func (r *yamlReader) table(n *yaml.Node, out *node, depth int) error {
	var merged []*node
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if key.Kind == yaml.AliasNode {
			key = key.Alias
		}
		if key == nil || key.Kind != yaml.ScalarNode {
			return &refused{r.at(n.Content[i]), "a name has to be a text"}
		}
		at, err := r.node(value, depth+1)
		if err != nil {
			return err
		}
		if key.Value == "<<" {
			if merged = append(merged, at); at.kind == list {
				merged = append(merged[:len(merged)-1], at.items...)
			}
			continue
		}
		if out.get(key.Value) != nil {
			return &refused{r.at(key), fmt.Sprintf("two values for one name: %s is there already", key.Value)}
		}
		out.pairs = append(out.pairs, pair{key.Value, r.at(key), at})
	}
	for _, m := range merged {
		if m.kind != table {
			return &refused{m.line, "only a table can be merged into one"}
		}
		for _, p := range m.pairs {
			if out.get(p.key) == nil {
				out.pairs = append(out.pairs, p)
			}
		}
	}
	return nil
}

// get returns the value of a name; nil where there is none.
func (n *node) get(key string) *node {
	for _, p := range n.pairs {
		if p.key == key {
			return p.at
		}
	}
	return nil
}

// problem makes a refusal a problem of the file.
func (r *refused) problem(f *source.File) source.Problem {
	start := 0
	for i, n := 0, 1; i < len(f.Text) && n < r.line.line; i++ {
		if f.Text[i] == '\n' {
			n, start = n+1, i+1
		}
	}
	end := len(f.Text)
	if i := strings.IndexByte(f.Text[start:], '\n'); i >= 0 {
		end = start + i
	}
	line := f.Text[start:end]
	start += len(line) - len(strings.TrimLeft(line, " \t"))
	return source.Problem{Rule: "import", At: f.Span(start, end), Message: r.text}
}
