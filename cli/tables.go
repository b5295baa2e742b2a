package cli

import (
	"context"
	"path"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

func (s *session) portsCommand() *cli.Command {
	var free int
	var in string
	var router, offline bool
	return &cli.Command{
		Name: "ports", Usage: "list used and free ports",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "free", Usage: "list `N` free ports only", Destination: &free},
			&cli.StringFlag{
				Name:        "range",
				Usage:       "only ports in `RANGE`, such as 8710-8790",
				Value:       "1-65535",
				Destination: &in,
			},
			&cli.BoolFlag{
				Name:        "router",
				Usage:       "list what a router has to forward for access from outside",
				Destination: &router,
			},
			&cli.BoolFlag{Name: "offline", Usage: "read the files only; ask no host", Destination: &offline},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := declare.ParseListen(in)
			if err != nil {
				return usage("--range: %s", err)
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if !offline {
				w = w.Survey(ctx, s.host)
			}
			var uses []lab.PortUse
			var open []render.FreePorts
			for _, h := range w.HostsOf(s.host) {
				if free > 0 {
					// Below, programs of the system itself have their ports.
					from := declare.Range{First: max(p.Host.First, 1024), Last: p.Host.Last}
					open = append(open, render.FreePorts{
						Host:  h.Name,
						Ports: append([]int{}, w.FreePorts(h, from, free)...),
					})
					continue
				}
				uses = append(uses, portsIn(w, h, p.Host, router)...)
			}
			switch {
			case asJSON && free > 0:
				return render.JSON(s.Out, render.NewFrees(open))
			case asJSON:
				return render.JSON(s.Out, render.NewPortUses(uses))
			case free > 0:
				render.Free(s.Out, s.paint(s.Out), open)
			case router:
				render.Router(s.Out, s.paint(s.Out), w.Lab, uses)
			default:
				render.Ports(s.Out, s.paint(s.Out), uses)
			}
			return nil
		},
	}
}

// portsIn returns the uses of a host's ports in a range; with outside only those that are open to other machines.
func portsIn(w *app.Workspace, h *lab.Host, in declare.Range, outside bool) []lab.PortUse {
	return slices.DeleteFunc(w.Ports(h), func(u lab.PortUse) bool {
		local := u.Kind != lab.PortDeclared || u.Address == "localhost" || strings.HasPrefix(u.Address, "127.") ||
			u.Address == "::1"
		return u.Port < in.First || u.Port > in.Last || outside && local
	})
}

func (s *session) mountsCommand() *cli.Command {
	var offline bool
	return &cli.Command{
		Name: "mounts", Usage: "list which service uses which folder, and as whom", ArgsUsage: "[PATH]",
		Description: "With PATH only what lies there, above it or below it.",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:        "offline",
			Usage:       "read the files only; ask no host",
			Destination: &offline,
		}},
		Action: func(ctx context.Context, c *cli.Command) error {
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			wanted := c.Args().First()
			if wanted != "" && !path.IsAbs(wanted) {
				return usage("PATH is one of a host, and starts with /: %s", wanted)
			}
			wanted = path.Clean(wanted)
			if !offline {
				w = w.SurveyClosely(ctx, s.host)
			}
			uses := slices.DeleteFunc(w.Mounts(), func(u lab.MountUse) bool {
				elsewhere := s.host != "" && u.Host != s.host
				return elsewhere ||
					wanted != "." && !declare.Below(u.Source, wanted) && !declare.Below(wanted, u.Source)
			})
			if asJSON {
				return render.JSON(s.Out, render.NewMountUses(uses))
			}
			render.Mounts(s.Out, s.paint(s.Out), uses)
			return nil
		},
	}
}
