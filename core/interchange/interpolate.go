package interchange

import (
	"fmt"
	"strings"
)

// interpolate replaces ${NAME} and its forms with defaults in all texts of a tree, as the specification says
// ("Interpolation"). A name that nothing gives a value stays unknown, and is told.
func (c *converter) interpolate(n *node) error {
	switch n.kind {
	case scalar:
		text, err := c.replaced(n.text, n.line, 0)
		n.text = text
		return err
	case list:
		for _, item := range n.items {
			if err := c.interpolate(item); err != nil {
				return err
			}
		}
	case table:
		for _, p := range n.pairs {
			if err := c.interpolate(p.at); err != nil {
				return err
			}
		}
	}
	return nil
}

// unknownMark stands for a value that is known only where the stack is deployed: NAME between two of them.
const unknownMark = "\x00"

func (c *converter) replaced(text string, line place, depth int) (string, error) {
	if depth > 8 {
		return "", &refused{line, "defaults inside of defaults, too deep to be meant"}
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		if text[i] != '$' {
			b.WriteByte(text[i])
			i++
			continue
		}
		rest := text[i+1:]
		switch {
		case strings.HasPrefix(rest, "$"):
			b.WriteByte('$')
			i += 2
		case strings.HasPrefix(rest, "{"):
			end := closing(rest)
			if end < 0 {
				return "", &refused{line, "the closing } of ${ is missing"}
			}
			value, err := c.value(rest[1:end], line, depth)
			if err != nil {
				return "", err
			}
			b.WriteString(value)
			i += 1 + end + 1
		default:
			n := nameLength(rest)
			if n == 0 {
				return "", &refused{line, "a $ that is meant as itself is written $$"}
			}
			value, err := c.value(rest[:n], line, depth)
			if err != nil {
				return "", err
			}
			b.WriteString(value)
			i += 1 + n
		}
		if b.Len() > mostBytes {
			return "", &refused{line, "this text becomes larger than any that a person writes"}
		}
	}
	return b.String(), nil
}

// closing returns where the brace that text begins with is closed.
func closing(text string) int {
	open := 0
	for i, c := range text {
		switch c {
		case '{':
			open++
		case '}':
			if open--; open == 0 {
				return i
			}
		}
	}
	return -1
}

// nameLength returns how long the name of a variable at the beginning is.
func nameLength(text string) int {
	n := 0
	for n < len(text) && (text[n] == '_' || text[n] >= 'a' && text[n] <= 'z' || text[n] >= 'A' && text[n] <= 'Z' ||
		n > 0 && text[n] >= '0' && text[n] <= '9') {
		n++
	}
	return n
}

// value returns what NAME, NAME:-default, NAME-default, NAME:?why, NAME?why, NAME:+other or NAME+other stands for.
func (c *converter) value(inner string, line place, depth int) (string, error) {
	n := nameLength(inner)
	name, rest := inner[:n], inner[n:]
	if n == 0 {
		return "", &refused{line, fmt.Sprintf("${%s} names no variable", inner)}
	}
	value, known := c.in.Env[name]
	form, word := "", ""
	for _, f := range []string{":-", ":?", ":+", "-", "?", "+"} {
		if strings.HasPrefix(rest, f) {
			form, word = f, rest[len(f):]
			break
		}
	}
	filled := known && (value != "" || !strings.HasPrefix(form, ":"))
	switch {
	case form == "" && rest != "":
		return "", &refused{line, fmt.Sprintf("${%s} has a form that the specification does not know", inner)}
	case strings.HasSuffix(form, "+"):
		if !filled {
			return "", nil
		}
		return c.replaced(word, line, depth+1)
	case filled:
		return value, nil
	case strings.HasSuffix(form, "-"):
		return c.replaced(word, line, depth+1)
	}
	c.unknown(name, line)
	return unknownMark + name + unknownMark, nil
}
