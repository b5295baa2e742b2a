package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/labdir"
)

func (a *app) tidyCommand() *cli.Command {
	var check bool
	return &cli.Command{
		Name: "tidy", Usage: "one canonical layout of the files; comments stay", ArgsUsage: "[FILE|-]",
		Description: "Without FILE all files of the lab; with - from standard input to standard output.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "check", Usage: "change nothing, name the files that are not tidy", Destination: &check}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().First() == "-" {
				return a.tidyInput(check)
			}
			files := []string{c.Args().First()}
			if files[0] == "" {
				o, err := a.open()
				if err != nil {
					return err
				}
				files = []string{filepath.Join(o.dir, declare.LabFile)}
				for _, st := range o.Stacks {
					files = append(files, filepath.Join(o.dir, st.Name, declare.StackFile))
				}
			}
			return a.tidyFiles(files, check)
		},
	}
}

// tidyInput tidies what comes in on standard input.
func (a *app) tidyInput(check bool) error {
	text, err := io.ReadAll(io.LimitReader(a.In, labdir.MaxFile+1))
	if err != nil {
		return usage("standard input cannot be read: %s", err)
	}
	if len(text) > labdir.MaxFile {
		return usage("standard input is larger than 1 MiB")
	}
	tidy, problems := declare.Tidy(source.NewFile("standard input", string(text)))
	if len(problems) > 0 {
		a.tellProblems(problems)
		return &exit{code: exitFindings}
	}
	if check {
		if tidy != string(text) {
			fmt.Fprintln(a.Out, "standard input")
			return &exit{code: exitFindings}
		}
		return nil
	}
	// A file goes on as it is; only a person at a terminal would see what is in it.
	out := a.Out
	if !isTerminal(out) {
		out = bare(out)
	}
	_, err = io.WriteString(out, tidy)
	return err
}

// tidyFiles tidies files in place. One that cannot be read does not keep the others from it.
func (a *app) tidyFiles(files []string, check bool) error {
	bad, changed := 0, 0
	for _, path := range files {
		shown := path
		if dir, err := os.Getwd(); err == nil {
			if rel, err := filepath.Rel(dir, path); err == nil && filepath.IsLocal(rel) {
				shown = rel
			}
		}
		text, write, err := tidyable(path)
		if err != nil {
			a.say("%s cannot be read: %s", shown, plain(err))
			bad++
			continue
		}
		tidy, problems := declare.Tidy(source.NewFile(shown, text))
		switch {
		case len(problems) > 0:
			a.tellProblems(problems)
			bad++
			continue
		case tidy == text:
			continue
		}
		changed++
		fmt.Fprintln(a.Out, shown)
		if !check {
			if err := write(tidy); err != nil {
				return notWritten(shown, err)
			}
		}
	}
	switch {
	case bad > 0:
		return &exit{code: exitFindings, message: "not touched: " + counted(bad, "file")}
	case check && changed > 0:
		return &exit{code: exitFindings, message: counted(changed, "file") + " not tidy; lantern tidy makes them so"}
	case changed == 0:
		a.say("all tidy: %s", counted(len(files), "file"))
	}
	return nil
}

// tidyable reads a file to tidy, and gives what writes it anew. Links may not lead out of the lab that it is in, nor out of its folder where it is in none.
func tidyable(path string) (text string, write func(string) error, err error) {
	path, err = filepath.Abs(path)
	if err != nil {
		return "", nil, err
	}
	dir := filepath.Dir(path)
	for at := dir; at != filepath.Dir(at); at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, declare.LabFile)); err == nil {
			dir = at
			break
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", nil, err
	}
	defer root.Close()
	inside, err := filepath.Rel(dir, path)
	if err != nil {
		return "", nil, err
	}
	text, err = labdir.Read(root, inside)
	return text, func(tidy string) error { return putFile(dir, inside, text, tidy, 0o600) }, err
}

func (a *app) tellProblems(problems []source.Problem) {
	for _, p := range problems {
		a.say("%s  %s", p.At.Place(), p.Message)
	}
}
