package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/interchange"
)

func (s *session) aboutCommand() *cli.Command {
	var all bool
	return &cli.Command{
		Name: "about", Usage: "explain a rule or a key", ArgsUsage: "[RULE|KEY|keys|rules]",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:        "all",
			Usage:       "print the whole reference of keys or of rules",
			Destination: &all,
		}},
		Action: func(_ context.Context, c *cli.Command) error {
			name := c.Args().First()
			if all {
				return s.aboutAll(name)
			}
			if name == "" {
				render.Topics(s.Out, s.paint(s.Out))
				return nil
			}
			return s.about(name)
		},
	}
}

// aboutAll prints a whole reference.
func (s *session) aboutAll(of string) error {
	if s.format != "markdown" && s.format != "text" {
		return usage("--format is markdown here, not %s", s.format)
	}
	switch of {
	case "rules":
		render.Rules(s.Out, check.All())
	case "", "keys":
		render.Reference(s.Out, declare.LabDocs(), declare.StackDocs(), declare.CardDocs())
	case "import":
		render.ImportReference(s.Out, interchange.Elements())
	default:
		return usage("--all prints keys, rules or import, not %s", of)
	}
	return nil
}

// about explains a rule, a key, or a word from elsewhere.
func (s *session) about(name string) error {
	if r, ok := check.Named(name); ok {
		render.AboutRule(s.Out, s.paint(s.Out), r)
		return nil
	}
	switch name {
	case "keys":
		render.KeyNames(s.Out, s.paint(s.Out), declare.LabDocs(), declare.StackDocs())
		return nil
	case "cards":
		render.CardKeys(s.Out, s.paint(s.Out), declare.CardDocs())
		return nil
	case "rules":
		render.RuleNames(s.Out, s.paint(s.Out), check.All())
		return nil
	}
	docs := slices.Concat(declare.LabDocs(), declare.StackDocs(), declare.CardDocs())
	keys := named(docs, name)
	if len(keys) == 0 {
		var known bool
		if keys, known = s.aboutElsewhere(docs, name); !known {
			return unknownWord(name)
		}
	}
	for i, k := range keys {
		if i > 0 {
			fmt.Fprintln(s.Out)
		}
		render.AboutKey(s.Out, s.paint(s.Out), k)
	}
	return nil
}

// aboutElsewhere says what a word from elsewhere is here, and returns the keys that it stands for.
func (s *session) aboutElsewhere(docs []declare.KeyDoc, name string) (keys []declare.KeyDoc, known bool) {
	tables, words := declare.AnyElsewhere(name)
	for i, w := range words {
		switch {
		case w.Key == "":
			fmt.Fprintf(s.Out, "%s has no key %s: %s\n", tables[i], name, w.Text)
			continue
		case w.Text != "":
			fmt.Fprintf(s.Out, "what is %s elsewhere is %s here, in %s: %s\n", name, w.Key, tables[i], w.Text)
		default:
			fmt.Fprintf(s.Out, "what is %s elsewhere is %s here, in %s\n", name, w.Key, tables[i])
		}
		keys = append(keys, slices.DeleteFunc(named(docs, w.Key), func(k declare.KeyDoc) bool {
			return k.Table != map[string]string{"a service": "[service.NAME]"}[tables[i]] && k.Table != tables[i]
		})...)
	}
	if len(keys) > 0 {
		fmt.Fprintln(s.Out)
	}
	return keys, len(words) > 0
}

// named returns the keys of that name, in whatever table.
func named(keys []declare.KeyDoc, name string) []declare.KeyDoc {
	var found []declare.KeyDoc
	for _, k := range keys {
		if k.Name == name {
			found = append(found, k)
		}
		for _, inner := range named(k.Keys, name) {
			// [let] stands in both files with the same keys.
			if !slices.ContainsFunc(found, func(f declare.KeyDoc) bool { return f.Table == inner.Table }) {
				found = append(found, inner)
			}
		}
	}
	return found
}

func unknownWord(name string) error {
	words := slices.Concat(ruleNames(), keyNames())
	return usage("%s", declare.Unknown("there is no rule and no key "+name, name, words, ""))
}

func (s *session) schemaCommand() *cli.Command {
	return &cli.Command{
		Name: "schema", Usage: "print JSON Schemas of the files and of every JSON output",
		ArgsUsage: "lab|stack|card|json",
		Action: func(_ context.Context, c *cli.Command) error {
			switch strings.ToLower(c.Args().First()) {
			case "lab":
				return render.JSON(s.Out, declare.Schema(declare.LabFile, declare.LabDocs()))
			case "stack":
				return render.JSON(s.Out, declare.Schema(declare.StackFile, declare.StackDocs()))
			case "card":
				return render.JSON(s.Out, declare.Schema("card.toml", declare.CardDocs()))
			case "json":
				return render.Schemas(s.Out)
			}
			return usage("lantern schema prints the schema of lab, of stack, of card or of json")
		},
	}
}
