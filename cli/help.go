package cli

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
)

// groups are the commands in the order of the work.
var groups = []struct {
	title    string
	commands []string
}{
	{"first steps", []string{"demo", "begin", "image", "draft", "import", "adopt"}},
	{"before a deploy", []string{"survey", "check", "prepare", "compare"}},
	{"deploy", []string{"deploy", "prove"}},
	{"day by day", []string{"status", "logs", "shell", "start", "stop", "restart", "update", "map", "sites", "ports", "mounts",
		"env"}},
	{"back and away", []string{"backup", "restore", "logbook", "revert", "retire", "sweep"}},
	{"files and words", []string{"tidy", "password", "export", "about", "schema"}},
	{"this program", []string{"help", "version", "completion", "manual"}},
}

// help writes what --help shows of the program, or of one command.
func (s *session) help(w io.Writer, c *cli.Command) {
	p := s.paint(w)
	line := func(width int, name, text string) {
		for i, row := range p.Lines(text, width+4) {
			if i > 0 {
				name = ""
			}
			fmt.Fprintf(w, "  %s  %s\n", p.Head(fmt.Sprintf("%-*s", width, name)), row)
		}
	}
	if c.Root() != c {
		s.helpOf(w, p, c, line)
		return
	}
	fmt.Fprintf(w, "%s\n\n%s\n\nusage: lantern [OPTIONS] COMMAND\n", c.Usage, c.Description)
	for _, g := range groups {
		fmt.Fprintf(w, "\n%s\n", g.title)
		for _, name := range g.commands {
			line(10, name, c.Command(name).Usage)
		}
	}
	fmt.Fprint(w, "\noptions of every command\n")
	options(c.Flags, line)
	fmt.Fprint(w, "\nlantern COMMAND --help shows more; lantern about explains rules and keys.\n")
}

// helpOf writes the help of one command.
func (s *session) helpOf(w io.Writer, p render.Paint, c *cli.Command, line func(int, string, string)) {
	arguments := ""
	if len(own(c.Flags)) > 0 {
		arguments = " [OPTIONS]"
	}
	if c.ArgsUsage != "" {
		arguments += " " + c.ArgsUsage
	}
	for _, row := range p.Lines(p.Head("lantern "+c.Name)+": "+c.Usage, 0) {
		fmt.Fprintln(w, row)
	}
	fmt.Fprintf(w, "\nusage: lantern %s%s\n", c.Name, arguments)
	if c.Description != "" {
		fmt.Fprintf(w, "\n%s\n", strings.Join(p.Lines(c.Description, 0), "\n"))
	}
	if words := alternatives[c.Name]; words != "" {
		fmt.Fprintf(w, "\nother word: lantern %s\n", words)
	}
	if list := own(c.Flags); len(list) > 0 {
		fmt.Fprint(w, "\noptions\n")
		options(list, line)
	}
	fmt.Fprint(w, "\noptions of every command\n")
	options(c.Root().Flags, line)
}

// own returns flags without that for help, which every command has.
func own(flags []cli.Flag) []cli.Flag {
	var all []cli.Flag
	for _, f := range flags {
		if f.Names()[0] != "help" {
			all = append(all, f)
		}
	}
	return all
}

// valueName matches the name of an option's value in its text.
var valueName = regexp.MustCompile("`([^`]+)`")

// options writes options, a line each.
func options(flags []cli.Flag, line func(int, string, string)) {
	var names, texts []string
	width := 0
	for _, f := range flags {
		name, text := "--"+f.Names()[0], ""
		if short := f.Names(); len(short) > 1 {
			name = "-" + short[1] + ", " + name
		}
		if d, ok := f.(cli.DocGenerationFlag); ok {
			text = d.GetUsage()
			if m := valueName.FindStringSubmatch(text); m != nil {
				name += " " + m[1]
				text = strings.ReplaceAll(strings.TrimPrefix(text, m[0]+" "), "`", "")
			}
		}
		names, texts = append(names, name), append(texts, text)
		width = max(width, len(name))
	}
	for i := range names {
		line(width, names[i], texts[i])
	}
}

// alternatives are words that some know a command by, and that work, too.
var alternatives = map[string]string{
	"prove":   "test",
	"about":   "explain",
	"logbook": "history",
	"revert":  "rollback",
	"retire":  "remove",
}

func (s *session) helpCommand() *cli.Command {
	return &cli.Command{Name: "help", Usage: "show all commands, or the options of one",
		ArgsUsage: "[COMMAND]", Action: func(_ context.Context, c *cli.Command) error {
			name := c.Args().First()
			switch {
			case name == "":
				s.help(s.Out, c.Root())
			case c.Root().Command(name) == nil:
				return s.noCommand(c, name)
			default:
				s.help(s.Out, c.Root().Command(name))
			}
			return nil
		}}
}
