package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/demo"
	"proudlantern.example/lantern/labdir"
)

func (s *session) demoCommand() *cli.Command {
	var dir string
	var stay bool
	return &cli.Command{
		Name: "demo", Usage: "guided tour on a sample lab; needs no engine",
		Description: "Writes the lab Skerry Light, finds its five mistakes, fixes and deploys it. No " +
			"network, no engine, no questions.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "dir",
				Usage:       "put the lab into `DIR` (default: a new temporary folder)",
				Destination: &dir,
			},
			&cli.BoolFlag{
				Name: "stay",
				Usage: "keep the stand-in engines running for your own tries; with the folder of an " +
					"earlier demo: only that",
				Destination: &stay,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if dir == "" {
				made, err := os.MkdirTemp("", "skerry-light-")
				if err != nil {
					return usage("no folder could be made: %s", labdir.InWords(err))
				}
				dir = made
			}
			whole, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			t := &demoRun{session: s, dir: whole, paint: s.paint(s.Out)}
			_, err = os.Stat(filepath.Join(whole, "lab.toml"))
			earlier := err == nil
			if earlier && !stay {
				return usage("%s holds a lab already; --stay runs the stand-in engines for it", whole)
			}
			if !earlier {
				if err := demo.Write(whole); err != nil {
					return usage("the lab could not be written: %s", err)
				}
			}
			end, err := demo.Engines(whole)
			if err != nil {
				return usage("the stand-in engines could not start: %s", err)
			}
			defer end()
			if !earlier {
				if err := t.tell(ctx); err != nil {
					return err
				}
			}
			return t.farewell(ctx, stay)
		},
	}
}

// demoRun tells the demo: each step is a command line as a person would type it.
type demoRun struct {
	*session
	dir   string
	paint render.Paint
	err   error

	chaptersSoFar int
}

func (s *demoRun) tell(ctx context.Context) error {
	s.printLine(
		"Skerry Light: volunteers keep an old lighthouse, with two machines, four stacks and nine services.")
	s.printLine("Its lab is in %s. The engines of both machines are stand-ins: nothing really runs,", s.dir)
	s.printLine("but ports are listened on and pages answer.")

	s.chapter("Facts of the machine in the lamp room")
	s.run(ctx, exitDone, "survey", "lamp-room")

	s.chapter("The check finds five mistakes before anything is changed")
	s.run(ctx, exitFindings, "check")

	s.chapter("All of them have a safe fix: nobody has to know the new password")
	s.run(ctx, exitDone, "check", "--fix")

	s.chapter("What a deploy would do")
	s.run(ctx, exitDone, "compare")

	s.chapter("Deploy: pull, start in order, test each service")
	s.run(ctx, exitDone, "deploy", "--yes")

	s.chapter("How the services are, and whether the links answer")
	s.run(ctx, exitDone, "status")
	s.openLinks(ctx)

	s.chapter("Test everything, also the connections between services")
	s.run(ctx, exitDone, "prove")

	s.chapter("What services wrote, in the order of time")
	s.run(ctx, exitDone, "logs", "tide-log", "lamp-journal")

	s.chapter("A command inside a service")
	s.run(ctx, exitDone, "shell", "tide-log/desk", "--", "desk", "tides", "today")

	s.chapter("A newer version never becomes ready: the old one is restored")
	s.run(ctx, exitPutBack, "update", "tide-log", "--write", "minor", "--deploy", "--yes")
	s.edit("tide-log/stack.toml", "tide-desk:2.4", "tide-desk:2.3")
	s.run(ctx, exitDone, "status", "tide-log")

	s.chapter("Past deploys")
	s.run(ctx, exitDone, "logbook")

	s.chapter("What images and their cards say, before they are declared")
	s.run(ctx, exitDone, "image", "registry.skerry.example/tide-desk:2.3", "registry.skerry.example/queue:1.8")

	s.chapter("A new stack, drafted from that: its services find each other, its password is made up")
	s.run(ctx, exitDone, "draft", "registry.skerry.example/tide-desk:2.3", "registry.skerry.example/store:4.2",
		"registry.skerry.example/queue:1.8", "--stack", "harbour", "--host", "lamp-room", "--dry-run")

	s.chapter("A YAML file from elsewhere becomes a stack: three things in it need a look, and are told")
	s.run(ctx, exitDone, "import", filepath.Join(s.dir, "harbour-log.yaml"), "--stack", "harbour-log", "--host", "boathouse", "--dry-run")

	s.chapter("Domains in place of ports: a gate in front, with certificates of the lab's own authority")
	s.openSites()
	s.run(ctx, exitDone, "deploy", "--yes")
	s.run(ctx, exitDone, "sites")

	s.chapter("Remove a stack that is not needed any more")
	s.run(ctx, exitDone, "retire", "notice-board", "--yes")
	return s.err
}

func (s *demoRun) printLine(format string, args ...any) {
	if s.err == nil {
		fmt.Fprintf(s.Out, format+"\n", args...)
	}
}

// chapters is how many there are.
const chapters = 16

func (s *demoRun) chapter(title string) {
	s.chaptersSoFar++
	s.printLine("\n%s", s.paint.Head(fmt.Sprintf("%d of %d  %s", s.chaptersSoFar, chapters, title)))
}

// run carries out a command line. It ends the story when the command does not end as the story says.
func (s *demoRun) run(ctx context.Context, code int, args ...string) {
	if s.err != nil {
		return
	}
	s.printLine("%s\n", s.paint.Head("$ lantern "+strings.Join(args, " ")))
	options := []string{"--lab", s.dir}
	if s.noColor {
		options = append(options, "--no-color")
	}
	streams := s.Streams
	streams.Signals = nil // the story itself listens, and ends with all its commands
	if got := Run(ctx, append(options, args...), streams, s.version); got != code {
		s.err = &exit{
			code:    exitNeedsManual,
			message: fmt.Sprintf("the story should go on with exit code %d here, and this was %d", code, got),
		}
	}
	if code != exitDone {
		s.printLine("%s", s.paint.Faint(fmt.Sprintf("(exit code %d)", code)))
	}
}

// edit changes a file as a person would with an editor.
func (s *demoRun) edit(file, old, with string) {
	if s.err != nil {
		return
	}
	path := filepath.Join(s.dir, filepath.FromSlash(file))
	text, err := os.ReadFile(path)
	if err == nil && !strings.Contains(string(text), old) {
		err = fmt.Errorf("%s is not in it", old)
	}
	if err == nil {
		err = labdir.WriteIn(s.dir, file, string(text), strings.Replace(string(text), old, with, 1), 0o600)
	}
	if err != nil {
		s.err = &exit{code: exitNeedsManual, message: file + ": " + err.Error()}
		return
	}
	shown := with
	if name, value, ok := strings.Cut(with, "="); ok && strings.HasSuffix(file, ".env") {
		shown = name + "=" + strings.Repeat("·", len(value))
	}
	if shown = strings.TrimSpace(shown); strings.Contains(shown, "\n") {
		shown = "\n    " + strings.ReplaceAll(shown, "\n", "\n    ")
	}
	s.printLine("%s %s now says %s\n", s.paint.Faint("(edited)"), file, shown)
}

// openSites declares the gate of the lamp room and two sites, in the place of published ports.
func (s *demoRun) openSites() {
	if s.err != nil {
		return
	}
	distance, err := demo.Distance(s.dir)
	if err != nil {
		s.err = &exit{code: exitNeedsManual, message: err.Error()}
		return
	}
	s.edit("lab.toml", "[default]\n", fmt.Sprintf("[gate.lamp-room]\nhttp = \"%d\"\nhttps = \"%d\"\ncertificates = \"own\"\n\n[default]\n",
		8780+distance, 8781+distance))
	s.edit("tide-log/stack.toml", s.portsOf("tide-log/stack.toml", "-> 80\""),
		fmt.Sprintf("ports = [\"%d -> 8711/udp\"]\nsites = [\"tides.skerry.localhost -> 80\"]", 8711+distance))
	s.edit("lamp-journal/stack.toml", s.portsOf("lamp-journal/stack.toml", "-> 8090"), `sites = ["journal.skerry.localhost -> 8090"]`)
}

// portsOf returns the line of a file that publishes a port, as it is now: check --fix may have moved it.
func (s *demoRun) portsOf(file, port string) string {
	text, _ := labdir.ReadIn(s.dir, file) // without it the edit says what is wrong
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "ports = ") && strings.Contains(line, port) {
			return strings.TrimSuffix(line, "\n")
		}
	}
	return "ports = … " + port
}

// openLinks asks for each page as a browser would.
func (s *demoRun) openLinks(ctx context.Context) {
	if s.err != nil {
		return
	}
	w, err := app.Open(s.dir, app.Caller{})
	if err != nil {
		s.err = err
		return
	}
	s.printLine("")
	for _, st := range w.Stacks {
		for _, v := range st.Services {
			for _, link := range v.Links() {
				s.printLine("  %s  %s", s.paint.Link(link), firstLine(ctx, link))
			}
		}
	}
}

func firstLine(ctx context.Context, link string) string {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, link, nil)
	if err != nil {
		return err.Error()
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return err.Error()
	}
	defer answer.Body.Close()
	line, _ := bufio.NewReader(answer.Body).ReadString('\n')
	return strings.TrimSpace(line)
}

// farewell says where the lab is and what to try next.
func (s *demoRun) farewell(ctx context.Context, stay bool) error {
	s.printLine("")
	if stay {
		s.printLine("The stand-in engines of %s run until Ctrl-C. From another terminal:", s.dir)
		s.printLine("  cd %s\n  lantern status\n  lantern logs --follow\n  lantern deploy", s.dir)
		<-ctx.Done()
		return nil
	}
	s.printLine("The lab stays in %s. To try things yourself:", s.dir)
	s.printLine(
		"  lantern demo --dir %s --stay   runs its stand-in engines again; then, from another terminal:", s.dir)
	s.printLine("  cd %s && lantern check          after breaking something in its files", s.dir)
	s.printLine("  cd %s && lantern deploy", s.dir)
	return nil
}
