package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
)

func (s *session) manualCommand() *cli.Command {
	return &cli.Command{
		Name: "manual", Usage: "print the manual page, for man(1)",
		Description: "lantern manual > lantern.1 writes it into a file; man ./lantern.1 shows that.",
		Action: func(_ context.Context, c *cli.Command) error {
			manual(s.Out, c.Root(), s.version, builtOn())
			return nil
		},
	}
}

// builtOn returns the day of the commit that the program was built from; where that is not in it, the day of its
// file.
func builtOn() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, v := range info.Settings {
			if v.Key == "vcs.time" {
				day, _, _ := strings.Cut(v.Value, "T")
				return day
			}
		}
	}
	file, err := os.Executable()
	if err != nil {
		return ""
	}
	info, err := os.Stat(file)
	if err != nil {
		return ""
	}
	return info.ModTime().UTC().Format(time.DateOnly)
}

// manual writes the manual page of all commands: man(7), from what --help shows.
func manual(w io.Writer, root *cli.Command, version, day string) {
	fmt.Fprintf(w, ".TH LANTERN 1 %q %q \"User commands\"\n", day, "Proud Lantern "+version)
	fmt.Fprintf(w, ".SH NAME\nlantern \\- deploy containers on your home server without surprises\n")
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B lantern\n[OPTIONS] COMMAND\n.SH DESCRIPTION\n%s\n", roff(root.Description))
	fmt.Fprint(w, ".SH COMMANDS\n")
	for _, g := range groups {
		for _, name := range g.commands {
			manualOf(w, root.Command(name))
		}
	}
	fmt.Fprint(w, ".SH OPTIONS OF EVERY COMMAND\n")
	manualOptions(w, root.Flags)
	fmt.Fprint(w, ".SH EXIT STATUS\n")
	for _, e := range exitMeanings {
		fmt.Fprintf(w, ".TP\n.B %d\n%s\n", e.code, roff(e.means))
	}
	fmt.Fprint(w, ".SH FILES\n.TP\n.I lab.toml\nwhat all stacks of a lab share\n.TP\n.I STACK/stack.toml\n"+
		"the services of one stack; lantern about explains each key\n.TP\n.I .lantern/\n"+
		"the logbook of this clone of the lab\n")
}

func manualOf(w io.Writer, c *cli.Command) {
	line := c.Name
	if len(own(c.Flags)) > 0 {
		line += " [OPTIONS]"
	}
	if c.ArgsUsage != "" {
		line += " " + c.ArgsUsage
	}
	fmt.Fprintf(w, ".SS %s\n%s.\n", roff(line), roff(c.Usage))
	if c.Description != "" {
		fmt.Fprintf(w, ".PP\n%s\n", roff(c.Description))
	}
	if word := alternatives[c.Name]; word != "" {
		fmt.Fprintf(w, ".PP\nOther word: lantern %s.\n", word)
	}
	manualOptions(w, own(c.Flags))
}

func manualOptions(w io.Writer, flags []cli.Flag) {
	options(flags, func(_ int, name, text string) {
		fmt.Fprintf(w, ".TP\n.B %s\n%s\n", roff(name), roff(text))
	})
}

// widest is how long a line of the page's source is at most, in bytes.
const widest = 78

// roff writes a text so that nothing in it means anything to man(7), in lines that are no longer than widest
// where it has blanks.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len(line)+1+len(word) > widest {
			lines, line = append(lines, line), ""
		}
		if line == "" && strings.HasPrefix(word, ".") || strings.HasPrefix(word, "'") {
			word = `\&` + word // no request
		}
		line = strings.TrimPrefix(line+" "+word, " ")
	}
	return strings.Join(append(lines, line), "\n")
}
