// Package cli is the command line: each command reads, calls and renders, and decides nothing itself.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/charmbracelet/colorprofile"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
)

// Streams are where a run reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer

	Signals <-chan os.Signal // the first interrupts, the second kills; nil: none come
	Kill    func(code int)   // ends the process at once
}

// Exit codes.
const (
	exitDone        = 0
	exitFindings    = 1
	exitUsage       = 2
	exitUnreachable = 3
	exitPutBack     = 4
	exitNeedsManual = 5
	exitInterrupted = 130
)

// exitMeanings say what the codes mean, for the manual page.
var exitMeanings = []struct {
	code  int
	means string
}{
	{exitDone, "done; for check: no errors"},
	{exitFindings,
		"not done, and nothing was changed: findings, a no to the question, somebody else is deploying; " +
			"for status, prove and compare --fail-if-different: something is not as it should be"},
	{exitUsage, "wrong command line"},
	{exitUnreachable, "the engine or its machine cannot be reached"},
	{exitPutBack, "the deploy failed, and the old version is restored"},
	{exitNeedsManual, "manual action needed; the message says which"},
	{exitInterrupted, "interrupted, and the old version is restored"},
}

// codes are the exit codes of errors of the use cases.
var codes = map[app.Kind]int{
	app.Usage: exitUsage, app.Unreachable: exitUnreachable, app.Stopped: exitFindings,
	app.PutBack: exitPutBack, app.Manual: exitNeedsManual, app.Interrupted: exitInterrupted,
}

// exit ends a run with a code; message may be empty when everything is said.
type exit struct {
	code    int
	message string
	because string // why, where that is known apart
	do      string // what helps; may be empty
	err     error  // Go's words, for --verbose
}

func (e *exit) Error() string {
	text := e.message
	if e.because != "" {
		text += ": " + e.because
	}
	if e.do != "" {
		text += "\n  what helps: " + strings.ReplaceAll(e.do, "\n", "\n    ")
	}
	return text
}

func usage(format string, args ...any) error {
	return &exit{code: exitUsage, message: fmt.Sprintf(format, args...)}
}

// session is what all commands of a run share.
type session struct {
	Streams
	version string
	globals
	hides   hider         // secrets of all that was read so far
	held    atomic.Int32  // stacks that are being changed
	answers *bufio.Reader // of In
}

// globals are the options that every command has.
type globals struct {
	lab, host, format string
	quiet, verbose    bool
	valueFiles        []string
	noColor           bool
	noHelpers         bool
}

// Run carries out a command line (without the program's name) and returns the exit code.
func Run(ctx context.Context, args []string, streams Streams, version string) int {
	ctx, interrupt := context.WithCancel(ctx)
	defer interrupt()
	s := &session{Streams: streams, version: version, answers: bufio.NewReader(streams.In)}
	s.Out = render.NewOutlet(&pipe{bare(streams.Out), interrupt}, func() bool { return s.format != "text" },
		colours(streams.Out))
	s.Err = render.NewOutlet(&pipe{bare(streams.Err), interrupt}, func() bool { return false },
		colours(streams.Err))
	s.Out, s.Err = &redactor{s.Out, &s.hides}, &redactor{s.Err, &s.hides}
	go s.listen(interrupt)
	root := s.command()
	err := root.Run(s.withQuestions(ctx), append([]string{"lantern"}, args...))
	if err == nil {
		return exitDone
	}
	known := exitOf(err)
	if known.message != "" {
		if s.format == "json" {
			render.JSON(s.Out, render.NewFailed(known.message, known.because, known.do, known.code))
		}
		s.tell("lantern: " + known.Error())
	}
	if s.verbose && known.err != nil {
		fmt.Fprintln(s.Err, "lantern: system error:", known.err)
	}
	return known.code
}

// exitOf returns how an error ends the run. An error without words of ours is one of the command line.
func exitOf(err error) *exit {
	var known *exit
	var trouble *app.Error
	switch {
	case errors.As(err, &known):
		return known
	case errors.As(err, &trouble):
		return &exit{
			code:    codes[trouble.Kind],
			message: trouble.Message,
			because: trouble.Because,
			do:      trouble.Do,
			err:     trouble.Err,
		}
	}
	return &exit{code: exitUsage, message: err.Error()}
}

// listen waits for signals. After the first one a deploy puts back; a second one does not wait for that.
func (s *session) listen(interrupt func()) {
	if s.Signals == nil {
		return
	}
	<-s.Signals
	interrupt()
	<-s.Signals
	if s.held.Load() > 0 {
		fmt.Fprintln(s.Err,
			"lantern: stopped in the middle; the next deploy, or retire, of this stack brings back what ran before")
	}
	s.Kill(exitInterrupted)
}

// hold counts the stacks that are being changed.
func (s *session) hold(held bool) {
	if held {
		s.held.Add(1)
	} else {
		s.held.Add(-1)
	}
}

// globalFlags are the options of every command.
func (s *session) globalFlags(version *bool) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:        "lab",
			Usage:       "`DIR` folder of the lab (default: the nearest one with lab.toml)",
			Sources:     cli.EnvVars("LANTERN_LAB"),
			Destination: &s.lab,
		},
		&cli.StringFlag{Name: "host", Usage: "`NAME` only this host of the lab", Destination: &s.host},
		&cli.StringFlag{
			Name:        "format",
			Usage:       "`FORMAT` text or json; check also has sarif (default: text)",
			Value:       "text",
			Destination: &s.format,
		},
		&cli.BoolFlag{
			Name:        "quiet",
			Aliases:     []string{"q"},
			Usage:       "show results and errors only",
			Destination: &s.quiet,
		},
		&cli.BoolFlag{Name: "verbose", Aliases: []string{"v"}, Usage: "show details", Destination: &s.verbose},
		&cli.BoolFlag{Name: "no-color", Usage: "no colours; NO_COLOR does the same", Destination: &s.noColor},
		&cli.BoolFlag{Name: "version", Usage: "show the version", Destination: version, Local: true},
		&cli.BoolFlag{
			Name:        "no-credential-helpers",
			Usage:       "run no helper programs for registry logins",
			Sources:     cli.EnvVars("LANTERN_NO_CREDENTIAL_HELPERS"),
			Destination: &s.noHelpers,
		},
	}
}

// pipe is a stream that interrupts the run when its reader is gone, and takes what is still written
// without an error.
type pipe struct {
	io.Writer
	interrupt func()
}

func (o *pipe) Write(p []byte) (int, error) {
	n, err := o.Writer.Write(p)
	if errors.Is(err, syscall.EPIPE) {
		o.interrupt()
		return len(p), nil
	}
	return n, err
}

// Inner returns what it writes to.
func (o *pipe) Inner() io.Writer { return o.Writer }

// bare returns the stream behind everything that was put before it.
func bare(stream io.Writer) io.Writer {
	for {
		outer, ok := stream.(interface{ Inner() io.Writer })
		if !ok {
			return stream
		}
		stream = outer.Inner()
	}
}

func (s *session) command() *cli.Command {
	version := false
	root := &cli.Command{
		Name:  "lantern",
		Usage: "Proud Lantern deploys containers on your home server without surprises.",
		Description: "A lab is a folder with lab.toml and, for each stack, a folder with stack.toml.\n" +
			"New here? lantern demo is a guided tour on a sample lab, without an engine.",
		Writer: s.Out, ErrWriter: s.Err,
		HideHelpCommand: true, // ours says when there is no such command
		HideVersion:     true,
		ExitErrHandler:  func(context.Context, *cli.Command, error) {}, // Run words them and picks the code
		CommandNotFound: func(context.Context, *cli.Command, string) {},
		Flags:           s.globalFlags(&version),
		Commands: []*cli.Command{
			s.demoCommand(), s.beginCommand(), s.imageCommand(), s.draftCommand(), s.importCommand(), s.adoptCommand(), s.backupCommand(), s.restoreCommand(), s.exportCommand(), s.surveyCommand(), s.checkCommand(), s.prepareCommand(),
			s.compareCommand(), s.deployCommand(),
			s.proveCommand(), s.statusCommand(), s.logsCommand(), s.shellCommand(), s.updateCommand(),
			s.logbookCommand(),
			s.revertCommand(),
			s.retireCommand(),
			s.sweepCommand(), s.startCommand(), s.stopCommand(), s.restartCommand(), s.portsCommand(),
			s.mountsCommand(), s.mapCommand(), s.sitesCommand(), s.passwordCommand(), s.envCommand(), s.tidyCommand(),
			s.aboutCommand(), s.schemaCommand(), s.completionCommand(), s.completeCommand(),
			s.manualCommand(), s.versionCommand(), s.helpCommand(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if name := c.Args().First(); name != "" {
				return s.noCommand(c, name)
			}
			if version {
				fmt.Fprintln(s.Out, "lantern "+s.version)
				return nil
			}
			s.help(s.Out, c)
			return nil
		},
	}
	root.OnUsageError = wrongOption
	cli.HelpPrinter = func(w io.Writer, _ string, of any) {
		if c, ok := of.(*cli.Command); ok {
			s.help(w, c)
		}
	}
	for _, c := range root.Commands {
		c.OnUsageError = wrongOption
		c.Before = argumentsOf(c)
		if word := alternatives[c.Name]; word != "" {
			c.Aliases = append(c.Aliases, word)
		}
		for _, f := range c.Flags {
			if yes, ok := f.(*cli.BoolFlag); ok && yes.Name == "yes" {
				yes.Aliases = []string{"y"}
			}
		}
	}
	return root
}

// argumentsOf refuses more arguments than a command has names for in its ArgsUsage; an ellipsis takes any
// number.
func argumentsOf(c *cli.Command) cli.BeforeFunc {
	most := len(strings.Fields(c.ArgsUsage))
	return func(ctx context.Context, c *cli.Command) (context.Context, error) {
		if strings.Contains(c.ArgsUsage, "...") {
			return ctx, nil
		}
		if c.Args().Len() > most {
			takes := "no argument"
			if most > 0 {
				takes = c.ArgsUsage
			}
			return ctx, usage("%s is one argument too many: lantern %s takes %s", c.Args().Get(most), c.Name, takes)
		}
		return ctx, nil
	}
}

// elsewhere is what people call a command who come from other programs.
var elsewhere = map[string]string{
	"up": "deploy", "apply": "deploy", "install": "deploy", "run": "deploy",
	"upgrade": "update", "outdated": "update", "down": "retire", "delete": "retire", "uninstall": "retire",
	"destroy": "retire", "rm": "retire",
	"ps": "status", "ls": "status", "list": "status", "validate": "check", "lint": "check", "config": "check",
	"verify": "check", "diff": "compare", "plan": "compare", "preview": "compare", "log": "logs", "tail": "logs",
	"undo": "revert", "restore": "revert", "prune": "sweep", "clean": "sweep", "cleanup": "sweep",
	"fmt": "tidy", "format": "tidy", "health": "prove", "scan": "survey", "facts": "survey",
	"init": "begin", "new": "begin", "create": "draft", "search": "image", "inspect": "image", "exec": "shell", "enter": "shell", "attach": "shell", "top": "status", "volumes": "mounts",
	"environment": "env", "vars": "env",
}

// noCommand answers a command that there is not: with the nearest one, or with ours for a word from elsewhere.
func (s *session) noCommand(c *cli.Command, name string) error {
	if ours := elsewhere[strings.ToLower(name)]; ours != "" {
		return usage("there is no command %s; lantern %s does that", name, ours)
	}
	var names []string
	for _, one := range c.Root().Commands {
		names = append(names, one.Name)
	}
	return usage("%s", declare.Unknown("there is no command "+name, name, names, " (lantern --help lists them)"))
}

// wrongOption words an option that does not exist or lacks its value.
func wrongOption(_ context.Context, c *cli.Command, err error, _ bool) error {
	name := c.Name
	if name != "lantern" {
		name = "lantern " + name
	}
	return usage("%s (%s --help lists the options)",
		strings.Replace(err.Error(), "flag provided but not defined: -", "there is no option --", 1), name)
}

func (s *session) versionCommand() *cli.Command {
	return &cli.Command{Name: "version", Usage: "show the version",
		Action: func(context.Context, *cli.Command) error {
			fmt.Fprintln(s.Out, "lantern "+s.version)
			return nil
		}}
}

// json reports whether results are wanted as JSON; an unknown format is an error.
func (s *session) json() (bool, error) {
	switch s.format {
	case "json":
		return true, nil
	case "text":
		return false, nil
	}
	return false, usage("--format is text or json, not %s", s.format)
}

// paint returns the colours for a stream.
func (s *session) paint(w io.Writer) render.Paint {
	p := render.NewPaint(!s.noColor && colours(w) > colorprofile.ASCII)
	if t := terminal(w); t != nil {
		if width, _, err := term.GetSize(int(t.Fd())); err == nil && width > 0 {
			return p.Wide(max(width, 40))
		}
	}
	return p
}

// colours returns which colours a stream shows: none where it is no terminal, where that is a simple one, and
// where NO_COLOR has any value.
func colours(w io.Writer) colorprofile.Profile {
	if !isTerminal(w) || os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb" {
		return colorprofile.NoTTY
	}
	return colorprofile.Detect(terminal(w), os.Environ())
}

func isTerminal(stream any) bool { return terminal(stream) != nil }

// terminal returns the terminal behind a stream; nil when it is none.
func terminal(stream any) *os.File {
	if w, ok := stream.(io.Writer); ok {
		stream = bare(w)
	}
	if f, ok := stream.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return f
	}
	return nil
}

// confirm asks a question on a terminal. Elsewhere nothing is asked: there --yes has to answer.
func (s *session) confirm(ctx context.Context, question string, yes bool) error {
	if yes {
		return nil
	}
	if !isTerminal(s.In) {
		return usage("%s stdin is not a terminal; pass --yes", question)
	}
	answer, err := s.answer(ctx, question+" [y/N]")
	if err != nil {
		return err
	}
	switch strings.ToLower(answer) {
	case "y", "yes":
		return nil
	}
	return &exit{code: exitFindings, message: "nothing was changed"}
}

// answer asks on the terminal, and returns the line that comes back.
func (s *session) answer(ctx context.Context, question string) (string, error) {
	fmt.Fprint(s.Err, question+" ")
	answered := make(chan string, 1)
	go func() {
		answer, _ := s.answers.ReadString('\n')
		answered <- answer
	}()
	select {
	case answer := <-answered:
		return strings.TrimSpace(answer), nil
	case <-ctx.Done():
		fmt.Fprintln(s.Err)
		return "", &exit{code: exitInterrupted, message: "interrupted; nothing was changed"}
	}
}

// say writes a line of progress.
func (s *session) say(format string, args ...any) {
	if !s.quiet {
		s.tell(fmt.Sprintf(format, args...))
	}
}

// tell writes a text for the person. On a terminal its lines break at words, and go on as far in as they began.
func (s *session) tell(text string) {
	p := s.paint(s.Err)
	for line := range strings.SplitSeq(s.hide(text), "\n") {
		words := strings.TrimLeft(line, " ")
		indent := line[:len(line)-len(words)]
		for _, row := range p.Lines(words, len(indent)) {
			fmt.Fprintln(s.Err, indent+row)
		}
	}
}
