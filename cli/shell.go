package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/internal/system"
)

func (s *session) shellCommand() *cli.Command {
	var user, dir, from string
	return &cli.Command{
		Name: "shell", Usage: "open a shell inside a service, or run a command there",
		ArgsUsage: "STACK/SERVICE [-- COMMAND...]",
		Description: "The shell is bash, ash or sh, whichever the image has. The exit code " +
			"is that of the command. " +
			"What comes from inside reaches the terminal as it is.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "user",
				Usage:       "as `USER`, an account of the image or UID[:GID]",
				Destination: &user,
			},
			&cli.StringFlag{Name: "working-dir", Usage: "start in the folder `DIR`", Destination: &dir},
			&cli.StringFlag{
				Name: "from",
				Usage: "work in a helper of `IMAGE` beside the service, for images without " +
					"a shell: it shares its " +
					"processes and network, sees its files below /proc/1/root, and is removed at the end",
				Destination: &from,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			words := c.Args().Slice()
			if len(words) == 0 {
				return usage("lantern shell needs STACK/SERVICE")
			}
			named, err := app.ParseTargets(words[:1])
			if err != nil {
				return err
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if asJSON {
				return usage("lantern shell has no JSON: what comes out is what the command says")
			}
			inside, err := w.Inside(ctx, named[0], s.host)
			if err != nil {
				return err
			}
			defer inside.Close()
			if from != "" {
				done := s.busy("pulling " + from)
				err := inside.Fetch(ctx, from)
				done()
				if err != nil {
					return err
				}
				s.say("a helper of %s beside %s; its files are below /proc/1/root", from, named[0])
			}
			x := engine.Exec{Command: words[1:], User: user, WorkingDir: dir}
			restore, err := s.streams(&x)
			if err != nil {
				return err
			}
			defer restore()
			var code int
			if from != "" {
				code, err = inside.RunBeside(ctx, from, x)
			} else {
				code, err = inside.Run(ctx, x)
			}
			restore()
			if err != nil {
				return err
			}
			if code != 0 {
				return &exit{code: code}
			}
			return nil
		},
	}
}

// streams gives a command our input and output: a terminal of its own where we have one, which works by the key
// from then on. Restore puts ours back; it may be called twice.
func (s *session) streams(x *engine.Exec) (restore func(), err error) {
	in, isFile := s.In.(*os.File)
	out := terminal(s.Out)
	x.In, x.Out, x.Err = s.In, bare(s.Out), bare(s.Err)
	if !isFile || !term.IsTerminal(int(in.Fd())) || out == nil {
		return func() {}, nil
	}
	x.Terminal = true
	if name := os.Getenv("TERM"); name != "" {
		x.Env = append(x.Env, "TERM="+name)
	}
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return nil, fmt.Errorf("the terminal: %w", err)
	}
	sizes, changed, ended := make(chan engine.Size, 1), make(chan os.Signal, 1), make(chan struct{})
	x.Sizes = sizes
	system.NotifyResize(changed)
	sizes <- sizeOf(out)
	go func() {
		for {
			select {
			case <-ended:
				return
			case <-changed:
				select {
				case sizes <- sizeOf(out):
				case <-ended:
					return
				}
			}
		}
	}()
	done := false
	return func() {
		if !done {
			done = true
			signal.Stop(changed)
			close(ended)
			term.Restore(int(in.Fd()), before)
		}
	}, nil
}

func sizeOf(out *os.File) engine.Size {
	width, height, err := term.GetSize(int(out.Fd()))
	if err != nil {
		return engine.Size{Width: 80, Height: 24}
	}
	return engine.Size{Width: uint(width), Height: uint(height)}
}
