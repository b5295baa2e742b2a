package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/logbook"
	"proudlantern.example/lantern/engine"
)

func (a *app) revertCommand() *cli.Command {
	var yes, dryRun, withLab, same bool
	return &cli.Command{
		Name: "revert", Usage: "deploy a stack as it was at an entry of the logbook, and write its files back", ArgsUsage: "STACK [ENTRY]",
		Description: "Without ENTRY: the last that succeeded and was different from what runs; after a deploy that was put back, or a retirement, the one that ran last. It is checked, compared, proven and put back like every deploy.\n" +
			"lab.toml and environment files outside the stack's folder belong to other stacks, too, and stay as they are unless --with-lab is given.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{Name: "dry-run", Usage: "only say what would be done", Destination: &dryRun},
			&cli.BoolFlag{Name: "with-lab", Usage: "also bring back lab.toml and shared environment files", Destination: &withLab},
			sameLabFlag(&same),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			name := c.Args().Get(0)
			if name == "" {
				return usage("lantern revert needs the name of a stack")
			}
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			number := c.Args().Get(1)
			if number == "" {
				if number, err = a.entryBefore(o, name); err != nil {
					return err
				}
			}
			e, files, err := a.entry(o, name, number)
			if err != nil {
				return err
			}
			if e.Kind == logbook.Retire || e.Result != deploy.Done {
				return usage("entry %d of %s is no deploy that succeeded: there is nothing to go back to", e.Entry, name)
			}
			t := &turn{app: a, entry: e, instead: map[string]string{}, modes: map[string]fs.FileMode{}}
			for _, f := range files {
				if strings.HasPrefix(f.Path, name+"/") || withLab && !strings.HasPrefix(f.Path, logbook.Before) {
					t.instead[f.Path], t.modes[f.Path] = f.Text, f.Mode
				}
			}
			return t.carryOut(ctx, asJSON, yes, dryRun, same)
		},
	}
}

// entryBefore returns the number of the last deploy that succeeded and left something else running than the last one did. After one that was put back that is the one that runs: only the
// files are something else; after a retirement it is the one that ran last.
func (a *app) entryBefore(o *opened, stack string) (string, error) {
	list, err := o.book().List(stack)
	if err != nil {
		return "", a.noLogbook(err)
	}
	if len(list) == 0 {
		if _, err := o.stacks(stack, ""); err != nil {
			return "", usage("%s, and the logbook of this clone has no deploy of %s", err, stack)
		}
	}
	ended := len(list) > 0 && (list[len(list)-1].Result == deploy.PutBack || list[len(list)-1].Kind == logbook.Retire)
	done := slices.DeleteFunc(slices.Clone(list), func(e logbook.Entry) bool { return e.Result != deploy.Done || e.Kind == logbook.Retire })
	if ended && len(done) > 0 {
		last := done[len(done)-1].Entry
		a.say("entry %d of %s ran last", last, stack)
		return fmt.Sprint(last), nil
	}
	for _, e := range slices.Backward(done) {
		if !maps.Equal(e.Runs(), done[len(done)-1].Runs()) {
			return fmt.Sprint(e.Entry), nil
		}
	}
	return "", usage("the logbook of this clone has no earlier deploy of %s that succeeded and left something else running", stack)
}

// turn is the way back to an entry.
type turn struct {
	*app
	entry   logbook.Entry
	instead map[string]string // texts of then, by path
	modes   map[string]fs.FileMode
}

func (t *turn) carryOut(ctx context.Context, asJSON, yes, dryRun, same bool) error {
	name := t.entry.Stack
	o, err := t.openInstead(t.instead)
	if err != nil {
		return err
	}
	stacks, err := o.stacks(name, t.host)
	if err != nil {
		return err
	}
	nothing, _ := despiteRules(nil)
	if err := t.checkBefore(ctx, o, stacks, nothing); err != nil {
		return err
	}
	if o, err = t.pin(ctx, o); err != nil {
		return err
	}
	st := o.Stack(name)
	run := &deployRun{app: t.app, json: asJSON, lab: o, same: same, entry: logbook.Entry{Kind: logbook.Revert, Of: t.entry.Entry}}
	plans, err := run.plan(ctx, o, []*lab.Stack{st})
	if err != nil {
		return err
	}
	defer run.close()
	t.sayWhatDiffers(plans[0])
	changed := t.changed(o)
	was := map[string]string{}
	for _, path := range changed {
		was[path] = o.textNow(path)
	}
	run.entry.Replaced = slices.DeleteFunc(slices.Clone(changed), func(path string) bool { return o.textNow(path) == "" })
	if !asJSON {
		render.Plan(t.Out, t.paint(t.Out), plans[0].plan, t.verbose)
		for _, path := range changed {
			fmt.Fprintf(t.Out, "  %s %s\n", t.paint(t.Out).Look("write   "), path)
		}
	}
	if dryRun {
		if asJSON {
			return render.PlansJSON(t.Out, plansOf(plans))
		}
		return nil
	}
	if !plans[0].plan.Changes() && len(changed) == 0 {
		t.say("%s runs as it was at entry %d, and its files say so", name, t.entry.Entry)
		return nil
	}
	if err := run.sameLabs(ctx); err != nil {
		return err
	}
	if err := t.confirm(ctx, fmt.Sprintf("Take %s back to entry %d?", name, t.entry.Entry), yes); err != nil {
		return err
	}
	if err := run.proceed(ctx, plans); err != nil {
		return err
	}
	for _, path := range changed {
		if err := putFile(o.dir, path, was[path], t.instead[path], t.modes[path]); err != nil {
			return &exit{code: exitNeedsAHand, message: fmt.Sprintf("%s runs as it was at entry %d, but %s could not be written: %s\n  lantern logbook %s %d --save DIR writes the files elsewhere", name, t.entry.Entry, path, plain(err), name, t.entry.Entry)}
		}
		t.say("%s is as it was", path)
	}
	return nil
}

// pin lets names of images that stand for another image today stand for the one of then, by its digest.
func (t *turn) pin(ctx context.Context, o *opened) (*opened, error) {
	st := o.Stack(t.entry.Stack)
	d, err := t.deployer(ctx, o, st.Host, func(deploy.Event) {})
	if err != nil {
		return nil, err
	}
	defer d.Engine.Close()
	var edits [][]source.Edit
	for _, s := range st.Services {
		i := slices.IndexFunc(t.entry.Services, func(v logbook.Service) bool { return v.Service == s.Name && v.Image == s.Image.Text })
		if i < 0 || t.entry.Services[i].ID == "" || strings.Contains(s.Image.Text, "@") {
			continue
		}
		was := t.entry.Services[i]
		now, err := d.Engine.Image(ctx, s.Image.Text)
		if err != nil && !errors.Is(err, engine.ErrNotFound) {
			return nil, unreachable(st.Host.Name, err)
		}
		switch at := s.Image.Part(0, len(s.Image.Text)); {
		case err == nil && now.ID == was.ID:
		case was.Digest == "" || at.File == nil || at.File.Path != st.Name+"/"+declare.StackFile || at.Text() != s.Image.Text:
			t.warn("%s: %s is not the image any more that it was at entry %d, and nothing tells where that one is", s.FullName(), s.Image.Text, t.entry.Entry)
		default:
			t.say("%s: %s has moved since; the image of then is named by its digest", s.FullName(), s.Image.Text)
			edits = append(edits, []source.Edit{{At: at.File.Span(at.End, at.End), New: "@" + was.Digest}})
		}
	}
	if edits == nil {
		return o, nil
	}
	texts, _ := source.Apply(edits)
	maps.Copy(t.instead, texts)
	pinned, err := t.openInstead(t.instead)
	if err != nil {
		return nil, err
	}
	pinned.surveys, pinned.errs = o.surveys, o.errs
	pinned.resolve()
	return pinned, nil
}

// sayWhatDiffers says which services are not what they were at the entry although their files are: lab.toml says something else today.
func (t *turn) sayWhatDiffers(p stackPlan) {
	for _, s := range p.plan.Services {
		i := slices.IndexFunc(t.entry.Services, func(v logbook.Service) bool { return v.Service == s.Name })
		if i < 0 || s.Service == nil || t.entry.Services[i].Made == "" || strings.Contains(s.Container.Image, "@") {
			continue
		}
		if same, known := s.Container.SameDigest(t.entry.Services[i].Made, t.entry.Stack); known && !same {
			t.warn("%s is not wholly as it was at entry %d: lab.toml, a shared environment file or an account of the host has changed since (--with-lab brings the files back)", s.Service.FullName(), t.entry.Entry)
		}
	}
}

// changed returns the files that say something else today.
func (t *turn) changed(o *opened) []string {
	return slices.DeleteFunc(sortedKeys(t.instead), func(path string) bool { return o.textNow(path) == t.instead[path] })
}
