package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/labdir"
)

func (s *session) tidyCommand() *cli.Command {
	var check bool
	return &cli.Command{
		Name: "tidy", Usage: "format the files; comments stay", ArgsUsage: "[FILE|-]",
		Description: "Without FILE all files of the lab; with - from standard input to standard output.",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:        "check",
			Usage:       "change nothing; list the files that are not tidy",
			Destination: &check,
		}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().First() == "-" {
				return s.tidyInput(check)
			}
			files := []string{c.Args().First()}
			if files[0] == "" {
				w, err := s.open()
				if err != nil {
					return err
				}
				files = w.TomlFiles()
			}
			return s.tidyFiles(files, check)
		},
	}
}

// tidyInput tidies what comes in on standard input.
func (s *session) tidyInput(check bool) error {
	text, err := io.ReadAll(io.LimitReader(s.In, labdir.MaxFile+1))
	if err != nil {
		return usage("standard input cannot be read: %s", err)
	}
	if len(text) > labdir.MaxFile {
		return usage("standard input is larger than 1 MiB")
	}
	tidy, problems := declare.Tidy(source.NewFile("standard input", string(text)))
	if len(problems) > 0 {
		s.tellProblems(problems)
		return &exit{code: exitFindings}
	}
	if check {
		if tidy != string(text) {
			fmt.Fprintln(s.Out, "standard input")
			return &exit{code: exitFindings}
		}
		return nil
	}
	// A file goes on as it is; only a person at a terminal would see what is in it.
	out := s.Out
	if !isTerminal(out) {
		out = bare(out)
	}
	_, err = io.WriteString(out, tidy)
	return err
}

// tidyFiles tidies files in place. One that cannot be read does not keep the others from it.
func (s *session) tidyFiles(files []string, check bool) error {
	bad, changed := 0, 0
	for _, path := range files {
		shown := path
		if dir, err := os.Getwd(); err == nil {
			if rel, err := filepath.Rel(dir, path); err == nil && filepath.IsLocal(rel) {
				shown = rel
			}
		}
		file, err := app.Tidy(path, shown)
		switch {
		case err != nil:
			s.say("%s cannot be read: %s", shown, labdir.InWords(err))
			bad++
			continue
		case len(file.Problems) > 0:
			s.tellProblems(file.Problems)
			bad++
			continue
		case file.Text == file.Was:
			continue
		}
		changed++
		fmt.Fprintln(s.Out, shown)
		if !check {
			if err := file.Write(); err != nil {
				return err
			}
		}
	}
	switch {
	case bad > 0:
		return &exit{code: exitFindings, message: "not touched: " + declare.Counted(bad, "file")}
	case check && changed > 0:
		return &exit{
			code:    exitFindings,
			message: declare.Counted(changed, "file") + " not tidy; lantern tidy makes them so",
		}
	case changed == 0:
		s.say("all tidy: %s", declare.Counted(len(files), "file"))
	}
	return nil
}

func (s *session) tellProblems(problems []source.Problem) {
	for _, p := range problems {
		s.say("%s  %s", p.At.Place(), p.Message)
	}
}
