package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/deploy"
)

// sameLabFlag is the option of every command that changes what runs: what was deployed under the lab's name from elsewhere is the same lab's.
func sameLabFlag(into *bool) cli.Flag {
	return &cli.BoolFlag{Name: "same-lab", Usage: "what another clone has deployed under this lab's name is of this very lab", Destination: into}
}

// sameLab makes sure that services under the lab's name that this clone has not met are of this lab, and not of another one that has the same name. Only the person
// can know: that is asked once, and --yes is no answer to it.
func (a *app) sameLab(ctx context.Context, o *opened, d *deploy.Deployer, same bool) error {
	known, err := o.book().Met()
	if err != nil {
		a.warn("%s", inWords(err))
	}
	found, err := d.Elsewhere(ctx, known)
	if err != nil {
		return unreachable(d.Host, err)
	}
	if len(found) == 0 {
		return nil
	}
	var services []string
	for _, e := range found {
		services = append(services, e.Services...)
	}
	shown := strings.Join(services[:min(len(services), 5)], ", ")
	if len(services) > 5 {
		shown += fmt.Sprintf(" and %d more", len(services)-5)
	}
	what := fmt.Sprintf("%s runs services of a lab %s that were not deployed from here: %s. They are of this very lab if another clone of its files has deployed them; another lab may have the same name.", d.Host, o.Name, shown)
	if !same {
		if !isTerminal(a.In) {
			return usage("%s\n  --same-lab says that it is the same lab; else give this one another name in lab.toml", what)
		}
		a.say("%s", what)
		if err := a.confirm(ctx, "Is it the same lab?", false); err != nil {
			return &exit{code: exitFindings, message: "nothing was changed; give this lab another name in lab.toml"}
		}
	}
	for _, e := range found {
		if err := o.book().Meet(e.Place); err != nil {
			a.warn("this will be asked again: %s", inWords(err))
		}
	}
	return nil
}
