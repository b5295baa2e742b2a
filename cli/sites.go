package cli

import (
	"bytes"
	"context"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/sites"
	"proudlantern.example/lantern/labdir"
)

func (s *session) sitesCommand() *cli.Command {
	var visits, trust bool
	var since, output string
	return &cli.Command{
		Name: "sites", Usage: "list the lab's sites: whether they answer, their certificates, and who visits them",
		ArgsUsage:   "[SITE]",
		Description: "A site is a domain, and perhaps a path, that leads to a service through the gate of its host.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "visits", Usage: "tell what the access log knows of visitors, of one SITE or of all", Destination: &visits},
			&cli.StringFlag{Name: "since", Usage: "with --visits: only from `WHEN` on, such as 2h, or 2026-10-03 18:00", Destination: &since},
			&cli.BoolFlag{Name: "trust", Usage: "show the certificate of the lab's own authority, and how devices are brought to trust it", Destination: &trust},
			&cli.StringFlag{
				Name: "output", Aliases: []string{"o"}, Destination: &output,
				Usage: "with --visits: draw a picture into `FILE`, which ends in .svg or .png; with --trust: write the certificate into it",
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			site := strings.ToLower(strings.TrimSuffix(c.Args().First(), "/"))
			kind := strings.ToLower(filepath.Ext(output))
			switch {
			case visits && trust:
				return usage("--visits and --trust are two questions: ask them one after the other")
			case since != "" && !visits:
				return usage("--since goes with --visits")
			case site != "" && !visits:
				return usage("a SITE goes with --visits")
			case output != "" && !visits && !trust:
				return usage("--output goes with --visits or --trust")
			case output != "" && visits && kind != ".svg" && kind != ".png":
				return usage("--output: %s ends neither in .svg nor in .png", output)
			}
			from, err := momentOf(since, time.Now())
			if err != nil {
				return usage("--since: %s", err)
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			switch {
			case trust:
				return s.trust(ctx, w, asJSON, output)
			case visits:
				return s.visits(ctx, w, asJSON, site, from, output, kind)
			}
			done := s.busy("looking at the sites")
			all, away, err := w.Sites(ctx, s.host)
			done()
			if err != nil {
				return err
			}
			if asJSON {
				if err := render.JSON(s.Out, render.NewSiteList(all, unreachedHosts(away))); err != nil {
					return err
				}
			} else if len(all) > 0 || len(away) == 0 {
				render.Sites(s.Out, s.paint(s.Out), all, time.Now())
			}
			return s.missing(away)
		},
	}
}

// visits shows what access logs tell.
func (s *session) visits(ctx context.Context, w *app.Workspace, asJSON bool, site string, since time.Time, output, kind string) error {
	done := s.busy("reading the access log")
	all, away, err := w.Visits(ctx, site, since)
	done()
	if err != nil {
		return err
	}
	if output != "" {
		if err := s.drawVisits(w.Name, all, output, kind); err != nil {
			return err
		}
	}
	switch {
	case asJSON:
		if err := render.JSON(s.Out, render.NewVisitList(all, unreachedHosts(away))); err != nil {
			return err
		}
	case output == "":
		render.Visits(s.Out, s.paint(s.Out), all)
	}
	return s.missing(away)
}

// drawVisits writes a picture of visits into a file.
func (s *session) drawVisits(lab string, all []sites.Visits, file, kind string) error {
	d, err := render.DrawVisits(lab, all)
	if err != nil {
		return err
	}
	var picture bytes.Buffer
	if kind == ".svg" {
		render.MapSVG(&picture, d, "Visits of "+lab)
	} else if err := render.MapPNG(&picture, d); err != nil {
		return err
	}
	return s.writeOut(file, picture.String())
}

// trust shows the certificate of the lab's own authority.
func (s *session) trust(ctx context.Context, w *app.Workspace, asJSON bool, output string) error {
	all, away, err := w.Authorities(ctx, s.host)
	if err != nil {
		return err
	}
	if output != "" {
		var text strings.Builder
		for _, a := range all {
			text.WriteString(a.PEM)
		}
		if err := s.writeOut(output, text.String()); err != nil {
			return err
		}
	}
	switch {
	case asJSON:
		if err := render.JSON(s.Out, render.NewAuthorityList(all)); err != nil {
			return err
		}
	case output == "" && len(all) > 0:
		render.Trust(s.Out, s.paint(s.Out), w.Name, all)
	}
	return s.missing(away)
}

// writeOut writes a file that somebody has asked for.
func (s *session) writeOut(file, text string) error {
	if err := labdir.WriteAny(file, text, 0o644); err != nil {
		return usage("%s cannot be written: %s", file, labdir.InWords(err))
	}
	s.say("written: %s", file)
	return nil
}

func (s *session) passwordCommand() *cli.Command {
	var from string
	return &cli.Command{
		Name: "password", Usage: "add somebody to a file of those who may sign in, or change a password",
		ArgsUsage:   "FILE NAME",
		Description: "FILE is the one that users of [sign-in.NAME] in lab.toml names. The next deploy makes it known to the gate.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "read the password out of `FILE`, without a line break at its end, and do not ask", Destination: &from},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return usage("password takes the file and the name: lantern password keepers.users NAME")
			}
			w, err := s.open()
			if err != nil {
				return err
			}
			file, name := c.Args().Get(0), c.Args().Get(1)
			password, err := s.newPassword(ctx, name, from)
			if err != nil {
				return err
			}
			was, err := w.SetPassword(file, name, password)
			if err != nil {
				return err
			}
			if was {
				s.say("changed the password of %s in %s; lantern deploy makes it known", name, file)
			} else {
				s.say("added %s to %s; lantern deploy makes it known", name, file)
			}
			return nil
		},
	}
}

// newPassword reads a password out of a file, or asks for it twice.
func (s *session) newPassword(ctx context.Context, name, from string) (string, error) {
	if from != "" {
		text, err := labdir.ReadIn(filepath.Dir(from), filepath.Base(from))
		if err != nil {
			return "", usage("%s cannot be read: %s", from, labdir.InWords(err))
		}
		if text = strings.TrimRight(text, "\r\n"); text == "" {
			return "", usage("%s holds no password", from)
		}
		s.hides.learn(text)
		return text, nil
	}
	if !isTerminal(s.In) {
		return "", usage("a password is asked for on a terminal; --from FILE reads it out of a file")
	}
	q := questioner{s}
	first, err := q.Secret(ctx, "Password of "+name)
	if err != nil {
		return "", err
	}
	if first == "" {
		return "", usage("nothing was typed; nothing was changed")
	}
	again, err := q.Secret(ctx, "The same once more")
	if err != nil {
		return "", err
	}
	if first != again {
		return "", usage("these are two different passwords; nothing was changed")
	}
	return first, nil
}
