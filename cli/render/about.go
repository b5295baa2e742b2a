package render

import (
	"fmt"
	"io"
	"strings"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
)

// AboutRule writes what a rule finds, why that matters, and an example of the mistake and the same mended.
func AboutRule(w io.Writer, p Paint, r check.Rule) {
	fmt.Fprintf(w, "%s  %s  %s\n", p.Head(r.Name), p.Severity(r.Severity), p.Faint("needs "+needs(r.Needs)))
	fmt.Fprintf(w, "  %s\n\n%s\n", r.Title, wrapped(r.Text, 100))
	for _, part := range []struct{ head, text string }{{p.Bad("wrong"), r.Mistake}, {p.Good("right"), r.Mended}} {
		fmt.Fprintf(w, "\n  %s\n", part.head)
		for line := range strings.Lines(part.text) {
			fmt.Fprintf(w, "    %s\n", strings.TrimRight(line, "\n"))
		}
	}
	if r.Mends {
		fmt.Fprintf(w, "\n  %s\n", p.Faint("check --fix can fix it"))
	}
}

// wrapped breaks a text into indented lines of at most width letters.
func wrapped(text string, width int) string {
	var lines []string
	line := " "
	for _, word := range strings.Fields(text) {
		if len(line)+1+len(word) > width {
			lines, line = append(lines, line), " "
		}
		line += " " + word
	}
	return strings.Join(append(lines, line), "\n")
}

func needs(n check.Needs) string {
	switch n {
	case check.Files:
		return "the files alone"
	case check.Host:
		return "the host's survey"
	case check.Machine:
		return "the machine that holds the lab"
	}
	return "what the image declares"
}

// AboutKey writes what a key means and an example.
func AboutKey(w io.Writer, p Paint, k declare.KeyDoc) {
	fmt.Fprintf(w, "%s  %s  %s\n", p.Head(k.Name), p.Faint("in "+k.Table), k.Takes)
	fmt.Fprintf(w, "  %s\n", k.Doc)
	if k.Words != nil {
		fmt.Fprintf(w, "  one of %s\n", strings.Join(k.Words, ", "))
	}
	fmt.Fprintf(w, "\n    %s\n", k.Example)
	if len(k.Keys) > 0 {
		fmt.Fprintln(w, "\n  its keys")
	}
	for _, inner := range k.Keys {
		fmt.Fprintf(w, "    %-18s %s\n", inner.Name, inner.Doc)
	}
}

// KeyNames lists the keys of both files, a line each.
func KeyNames(w io.Writer, p Paint, lab, stack []declare.KeyDoc) {
	keyNames(w, p, "lab.toml", lab)
	keyNames(w, p, "stack.toml", stack)
	fmt.Fprintln(w, p.Faint("lantern about KEY says more of each; lantern about cards lists those of cards"))
}

// CardKeys lists the keys of a card, a line each.
func CardKeys(w io.Writer, p Paint, card []declare.KeyDoc) {
	fmt.Fprintln(w, "A card says of an image what the image itself does not say. It is a file in the lab's folder cards,")
	fmt.Fprintln(w, "or stands beside the image in its registry. lantern image --card NAME begins one.")
	fmt.Fprintln(w)
	keyNames(w, p, "cards/NAME.toml", card)
	fmt.Fprintln(w, p.Faint("lantern about KEY says more of each"))
}

func keyNames(w io.Writer, p Paint, title string, keys []declare.KeyDoc) {
	fmt.Fprintln(w, p.Head(title))
	for _, k := range keys {
		fmt.Fprintf(w, "  %-20s %s\n", k.Name, k.Doc)
	}
	fmt.Fprintln(w)
	for _, k := range keys {
		if len(k.Keys) > 0 && (k.Name != "let" || title == "lab.toml") {
			keyNames(w, p, k.Keys[0].Table, k.Keys)
		}
	}
}

// RuleNames lists the rules of the check, a line each.
func RuleNames(w io.Writer, p Paint, rules []check.Rule) {
	for _, r := range rules {
		fmt.Fprintf(w,
			"  %-24s %s  %s\n", r.Name,
			p.Severity(r.Severity)+strings.Repeat(" ", len(check.Warning)-len(r.Severity)), r.Title)
	}
	fmt.Fprintln(w, "\n"+p.Faint("lantern about RULE says more of each"))
}

// Reference writes all keys of the files as Markdown.
func Reference(w io.Writer, lab, stack, card []declare.KeyDoc) {
	fmt.Fprint(w,
		"# The files of a lab\n\nPrinted by `lantern about --all --format markdown`. All files are TOML "+
			"1.0. A key that is not here is an error. `lantern schema lab`, `lantern schema stack` and "+
			"`lantern schema card` give the same to editors.\n")
	fmt.Fprint(w, "\n## lab.toml\n\n")
	keyTable(w, lab)
	fmt.Fprint(w, "\n## STACK/stack.toml\n\n")
	keyTable(w, stack)
	fmt.Fprint(w, "\n## cards/NAME.toml\n\nA card says of an image what the image itself does not say. `lantern image "+
		"--card NAME` begins one.\n\n")
	keyTable(w, card)
	fmt.Fprint(w, grammars)
}

// Rules writes all rules as Markdown: a table, then each with its texts.
func Rules(w io.Writer, rules []check.Rule) {
	cell := strings.NewReplacer("|", `\|`, "\n", " ⏎ ")
	fmt.Fprint(w,
		"# The rules of the check\n\nPrinted by `lantern about --all rules`. `[check]` of lab.toml gives a "+
			"rule another severity, `accept` accepts a finding, with a reason.\n\n"+
			"| rule | severity | finds | needs | fix |\n| --- | --- | --- | --- | --- |\n")
	for _, r := range rules {
		mends := ""
		if r.Mends {
			mends = "✓"
		}
		fmt.Fprintf(w, "| [`%s`](#%s) | %s | %s | %s | %s |\n", r.Name, r.Name, r.Severity,
			cell.Replace(r.Title), needs(r.Needs), mends)
	}
	for _, r := range rules {
		fmt.Fprintf(w,
			"\n## %s\n%s. %s\n\n```toml\n# wrong\n%s\n# right\n%s\n```\n", r.Name,
			strings.ToUpper(r.Title[:1])+r.Title[1:], r.Text, r.Mistake, r.Mended)
	}
}

// keyTable writes a table of keys, then one for each table inside.
func keyTable(w io.Writer, keys []declare.KeyDoc) {
	cell := strings.NewReplacer("|", `\|`)
	fmt.Fprint(w, "| key | takes | meaning | example |\n| --- | --- | --- | --- |\n")
	for _, k := range keys {
		doc := k.Doc
		if k.Words != nil {
			doc += ": " + strings.Join(k.Words, ", ")
		}
		fmt.Fprintf(w, "| `%s` | %s | %s | `%s` |\n", k.Name, k.Takes, cell.Replace(doc), cell.Replace(k.Example))
	}
	for _, k := range keys {
		if len(k.Keys) > 0 {
			fmt.Fprintf(w, "\n### `%s`\n\n", k.Keys[0].Table)
			keyTable(w, k.Keys)
		}
	}
}

// Topics lists what can be asked about.
func Topics(w io.Writer, p Paint) {
	for _, topic := range [][2]string{
		{"keys", "list all keys of lab.toml and stack.toml"},
		{"cards", "list all keys of cards of images"},
		{"rules", "list all rules of the check"},
		{"KEY", "explain a key, such as ports"},
		{"RULE", "explain a rule, such as port-clash"},
		{"WORD", "say what a word of another format is here, such as environment"},
		{"--all keys", "print the whole reference of keys; --all rules that of rules"},
	} {
		fmt.Fprintf(w, "  %s  %s\n", p.Head(fmt.Sprintf("lantern about %-10s", topic[0])), topic[1])
	}
}
