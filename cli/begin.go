package cli

import (
	"context"
	"errors"
	"os"
	"os/user"
	"strings"

	"charm.land/huh/v2"
	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/draft"
)

func (s *session) beginCommand() *cli.Command {
	var given draft.Lab
	var yes, dryRun bool
	return &cli.Command{
		Name: "begin", Usage: "make a new lab: look at this machine, ask, write lab.toml", ArgsUsage: "[DIR]",
		Description: "On a terminal it asks, with an answer to each question that suits this machine. Elsewhere, " +
			"and with --yes, it takes these answers and the options. Nothing is written over.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the lab's `NAME`", Destination: &given.Name},
			&cli.StringFlag{Name: "host-name", Usage: "the `NAME` of its host", Destination: &given.Host},
			&cli.StringFlag{Name: "engine", Usage: "the `ADDRESS` of its engine", Destination: &given.Engine},
			&cli.StringFlag{Name: "address", Usage: "the `ADDRESS` by which browsers reach it", Destination: &given.Address},
			&cli.StringFlag{Name: "timezone", Usage: "the `ZONE` of its services", Destination: &given.Timezone},
			&cli.StringFlag{Name: "owner", Usage: "the `ACCOUNT` whose data it is", Destination: &given.Owner},
			&cli.StringFlag{Name: "data", Usage: "the `FOLDER` below which data lies", Destination: &given.Data},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the files, and write nothing", Destination: &dryRun},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			asJSON, err := s.json()
			if err != nil {
				return err
			}
			dir := c.Args().First()
			if dir == "" {
				dir = "."
			}
			machine, _ := os.Hostname()
			machine, _, _ = strings.Cut(machine, ".")
			done := s.busy("looking at this machine")
			b, err := app.Begin(ctx, dir, given.Engine, machine, person())
			done()
			if err != nil {
				return err
			}
			if b.Unreached != nil {
				s.warn("%s; lab.toml names none. Where its socket is elsewhere, begin with --engine unix:///PATH, or write"+
					" engine = \"unix:///PATH\" below [host.%s]", b.Unreached, b.Lab.Host)
			}
			b.Take(given)
			if isTerminal(s.In) && isTerminal(s.Err) && !yes && !dryRun && !asJSON {
				if err := s.askForLab(ctx, b, given); err != nil {
					return err
				}
			}
			if option, why := b.Lab.Wrong(); option != "" {
				return usage("--%s: %s", option, why)
			}
			return s.beginLab(b, asJSON, dryRun)
		},
	}
}

// person returns the account of whoever is at work, behind sudo, too.
func person() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return ""
}

// askForLab asks for what the options have not said.
func (s *session) askForLab(ctx context.Context, b *app.Beginning, given draft.Lab) error {
	l := &b.Lab
	var fields []huh.Field
	ask := func(title, why, given string, value *string, check func(string) error) {
		if given == "" {
			fields = append(fields, huh.NewInput().Title(title).Description(render.Harmless(why)).Value(value).
				Validate(check))
		}
	}
	whatever := func(string) error { return nil }
	sound := func(set func(*draft.Lab, string)) func(string) error {
		return func(text string) error {
			try := *l
			set(&try, text)
			if _, why := try.Wrong(); why != "" {
				return errors.New(why)
			}
			return nil
		}
	}
	ask("What is the lab called?", "Containers are labelled with it.", given.Name, &l.Name,
		sound(func(l *draft.Lab, text string) { l.Name = text }))
	ask("What is this machine called?", "A short name for its host in the lab.", given.Host, &l.Host,
		sound(func(l *draft.Lab, text string) { l.Host = text }))
	ask("How do browsers reach it?", "A name or an address in your network. Links are made with it.", given.Address,
		&l.Address, whatever)
	ask("In which zone are the services?", "Such as Atlantic/Faroe.", given.Timezone, &l.Timezone, whatever)
	if given.Owner == "" && len(b.Choices.Owners) > 0 {
		owner := huh.NewSelect[string]().Title("Whose data is it?").Value(&l.Owner).
			Description("Services work on it with the ids of this account.")
		var options []huh.Option[string]
		for _, c := range b.Choices.Owners {
			options = append(options, huh.NewOption(render.Harmless(c.Value+"  "+c.Why), c.Value))
		}
		fields = append(fields, owner.Options(append(options, huh.NewOption("none of them", ""))...))
	}
	why := "Stacks call it ${folder.data}."
	for _, c := range b.Choices.Data {
		if c.Why != "" {
			why += " " + c.Value + ": " + c.Why + "."
		}
	}
	ask("Below which folder does the data lie?", why, given.Data, &l.Data,
		sound(func(l *draft.Lab, text string) { l.Data = text }))
	if fields == nil {
		return nil
	}
	err := huh.NewForm(huh.NewGroup(fields...)).WithInput(s.In).WithOutput(terminal(s.Err)).
		WithTheme(s.paint(s.Err).Direct(colours(s.Err)).Form()).RunWithContext(ctx)
	if err != nil {
		return &exit{code: exitInterrupted, message: "interrupted; nothing was written"}
	}
	return nil
}

// beginLab shows what is written, writes it, and says what comes next.
func (s *session) beginLab(b *app.Beginning, asJSON, dryRun bool) error {
	files := b.Files()
	if !dryRun {
		if err := b.Write(); err != nil {
			return err
		}
	}
	if asJSON {
		return render.JSON(s.Out, render.NewBegun(files, !dryRun))
	}
	render.NewFiles(s.Out, s.paint(s.Out), files)
	if dryRun {
		return nil
	}
	s.say("written in %s", b.Dir)
	if b.KeptIgnoring {
		s.say(".gitignore stays as it is; *.env and .lantern/ belong into it")
	}
	if b.Strangers > 0 {
		s.say("%s run there already; they are left alone", declare.Counted(b.Strangers, "container"))
	}
	s.say("next: lantern image NAME shows an image; lantern draft NAME --stack STACK writes a stack of it")
	return nil
}
