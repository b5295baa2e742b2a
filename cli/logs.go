package cli

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/engine"
)

func (s *session) logsCommand() *cli.Command {
	var follow, raw bool
	var since, until, grep, times string
	var last, around int
	return &cli.Command{
		Name: "logs", Usage: "show what services wrote, in the order of time", ArgsUsage: "[STACK[/SERVICE]]...",
		Description: "Lines of standard error are marked with !. Control characters are " +
			"made visible. A following " +
			"goes on when a container is replaced; Ctrl-C ends it.",
		Flags: []cli.Flag{
			&cli.BoolFlag{
				Name:        "follow",
				Aliases:     []string{"f"},
				Usage:       "go on with what comes",
				Destination: &follow,
			},
			&cli.StringFlag{
				Name:        "since",
				Usage:       "only from `TIME` on: 10m, 2h, 3d, 12:04, 2026-11-28, 2026-11-28T12:04:07",
				Destination: &since,
			},
			&cli.StringFlag{Name: "until", Usage: "only up to `TIME`", Destination: &until},
			&cli.IntFlag{Name: "last", Usage: "only the last `N` lines of each service", Destination: &last},
			&cli.StringFlag{
				Name:        "grep",
				Usage:       "only lines that match the regular expression `RE`",
				Destination: &grep,
			},
			&cli.IntFlag{Name: "context", Usage: "with --grep: also `N` lines around each", Destination: &around},
			&cli.StringFlag{
				Name:        "times",
				Usage:       "`STYLE` short or full: with date and microseconds (default: short)",
				Value:       "short",
				Destination: &times,
			},
			&cli.BoolFlag{Name: "raw", Usage: "the texts alone, with their control characters", Destination: &raw},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			now := time.Now()
			request := app.LogRequest{
				Named:  named,
				OnHost: s.host,
				Range:  engine.LogRange{Last: last, Follow: follow},
			}
			if request.Range.Since, err = momentOf(since, now); err != nil {
				return usage("--since: %s", err)
			}
			if request.Range.Until, err = momentOf(until, now); err != nil {
				return usage("--until: %s", err)
			}
			out := &render.Logs{
				W:       s.Out,
				Paint:   s.paint(s.Out),
				Raw:     raw,
				Hide:    s.hide,
				Context: around,
				Full:    times == "full",
			}
			switch {
			case last < 0:
				return usage("--last: %d is no number of lines", last)
			case around < 0 || around > 0 && grep == "":
				return usage("--context takes a number of lines, and belongs to --grep")
			case times != "short" && times != "full":
				return usage("--times is short or full, not %s", times)
			case grep != "":
				if out.Grep, err = regexp.Compile(grep); err != nil {
					return usage("--grep: %s", err)
				}
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			out.JSON = asJSON
			if raw {
				out.W = s.rawOut()
			}
			expect(out, w, named, s.host)
			request.Line = out.Line
			request.Notice = func(text string) {
				if !s.quiet {
					fmt.Fprintln(s.Err, s.paint(s.Err).Faint("  "+text))
				}
			}
			err = w.Logs(ctx, request)
			if follow && ctx.Err() != nil {
				return nil // Ctrl-C is how a following ends
			}
			return err
		},
	}
}

// rawOut is the output without anything that makes text from outside harmless; secrets stay hidden.
func (s *session) rawOut() io.Writer {
	return &redactor{s.Out.(*redactor).Writer.(*render.Outlet).Inner(), &s.hides}
}

// expect tells the printer which names may come, so that it knows how much of them is needed.
func expect(out *render.Logs, w *app.Workspace, named app.Targets, host string) {
	var stacks, hosts []string
	type service struct{ host, stack, name string }
	var all []service
	for _, st := range w.Stacks {
		if st.Host == nil || host != "" && st.Host.Name != host {
			continue
		}
		for _, v := range st.Containers() {
			if named.Has(st.Name, v.Name) {
				all = append(all, service{st.Host.Name, st.Name, v.Name})
				stacks, hosts = append(stacks, st.Name), append(hosts, st.Host.Name)
			}
		}
	}
	slices.Sort(stacks)
	slices.Sort(hosts)
	out.Stacks = len(slices.Compact(stacks)) != 1
	out.Hosts = len(slices.Compact(hosts)) > 1
	for _, v := range all {
		out.Expect(v.host, v.stack, v.name)
	}
}

// momentOf reads a time as people write it: a duration before now, a time of the day, which lies before now, or
// a date. "" is no time.
func momentOf(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if d, err := time.ParseDuration(days + "h"); err == nil && d >= 0 {
			return now.Add(-24 * d), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			today := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.Local)
			if today.After(now) {
				today = today.AddDate(0, 0, -1)
			}
			return today, nil
		}
	}
	for _, layout := range []string{time.DateOnly, "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02T15:04:05",
		time.DateTime, time.RFC3339Nano} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf(
		"%q is no time: write 10m, 2h, 3d, 12:04, 2026-11-28 or 2026-11-28T12:04:07", text)
}
