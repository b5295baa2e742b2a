package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
)

func (s *session) clusterCommand() *cli.Command {
	var form, yes bool
	var leave, drain, undrain string
	return &cli.Command{
		Name: "cluster", Usage: "list the hosts of a cluster, and what runs where; form it, or take a host out",
		ArgsUsage: "[CLUSTER]",
		Description: "A cluster is hosts whose engines work as one, by their own cluster mode: [cluster.NAME] in lab.toml says which. " +
			"What lets a host join is never shown and never written anywhere.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "form", Usage: "bring its hosts together; what is in it already stays as it is", Destination: &form},
			&cli.StringFlag{Name: "leave", Usage: "take `HOST` out of it; what runs there moves to others", Destination: &leave},
			&cli.StringFlag{Name: "drain", Usage: "let nothing run on `HOST`; what runs there moves to others", Destination: &drain},
			&cli.StringFlag{Name: "fill", Usage: "let things run on `HOST` again", Destination: &undrain},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if c.Args().Len() > 1 {
				return usage("name one cluster")
			}
			name := c.Args().First()
			switch {
			case form:
				err = s.formCluster(ctx, w, name, yes)
			case leave != "":
				if err = s.confirm(ctx, fmt.Sprintf("Take %s out of the cluster?", leave), yes); err == nil {
					if err = w.LeaveCluster(ctx, name, leave); err == nil {
						s.say("%s is not in the cluster any more", leave)
					}
				}
			case drain != "":
				if err = s.confirm(ctx, fmt.Sprintf("Move everything away from %s?", drain), yes); err == nil {
					if err = w.DrainHost(ctx, name, drain, true); err == nil {
						s.say("nothing runs on %s any more, once its copies have moved", drain)
					}
				}
			case undrain != "":
				if err = w.DrainHost(ctx, name, undrain, false); err == nil {
					s.say("%s takes copies again; what runs elsewhere stays there until its next deploy", undrain)
				}
			default:
				return s.showCluster(ctx, w, name, asJSON)
			}
			return err
		},
	}
}

func (s *session) formCluster(ctx context.Context, w *app.Workspace, name string, yes bool) error {
	state, err := w.ClusterState(ctx, name)
	if err != nil {
		return err
	}
	missing := 0
	for _, n := range state.Nodes {
		if n.State == app.NodeOutside {
			missing++
			s.say("  %-16s is to join as a %s", n.Host, n.Wanted)
		}
	}
	if missing == 0 {
		s.say("the cluster %s is formed", state.Name)
		return nil
	}
	if err := s.confirm(ctx, fmt.Sprintf("Form the cluster %s?", state.Name), yes); err != nil {
		return err
	}
	if err := w.FormCluster(ctx, state.Name, func(host, what string) { s.say("  %-16s %s", host, what) }); err != nil {
		return err
	}
	s.say("the cluster %s is formed", state.Name)
	return nil
}

func (s *session) showCluster(ctx context.Context, w *app.Workspace, name string, asJSON bool) error {
	state, err := w.ClusterState(ctx, name)
	if err != nil {
		return err
	}
	if asJSON {
		err = render.JSON(s.Out, render.NewClusterList(state))
	} else {
		render.Cluster(s.Out, s.paint(s.Out), state)
	}
	if err == nil && slices.ContainsFunc(state.Nodes, func(n app.ClusterNode) bool { return n.State != app.NodeReady && n.State != app.NodeDrained }) {
		err = &exit{code: exitFindings}
	}
	return err
}
