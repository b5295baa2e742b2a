package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/logbook"
	"proudlantern.example/lantern/labdir"
)

func (a *app) logbookCommand() *cli.Command {
	var save string
	return &cli.Command{
		Name: "logbook", Usage: "what was deployed when, by whom, how it ended", ArgsUsage: "[STACK [ENTRY]]",
		Description: "The logbook belongs to this clone of the lab: " + filepath.Join(".lantern", "logbook.db") + ". It holds the files of each deploy, so nobody but its owner may read it.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "save", Usage: "write the files of the entry into `DIR`", Destination: &save}},
		Action: func(_ context.Context, c *cli.Command) error {
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			stack, number := c.Args().Get(0), c.Args().Get(1)
			if number == "" {
				if save != "" {
					return usage("--save wants the number of an entry: lantern logbook STACK ENTRY --save DIR")
				}
				list, err := o.book().List(stack)
				if err != nil {
					return a.noLogbook(err)
				}
				if asJSON {
					return render.JSON(a.Out, render.NewEntries(list))
				}
				render.Logbook(a.Out, a.paint(a.Out), list, stack)
				return nil
			}
			e, files, err := a.entry(o, stack, number)
			if err != nil {
				return err
			}
			if save != "" {
				return a.save(save, files)
			}
			if asJSON {
				return render.JSON(a.Out, render.NewEntries([]logbook.Entry{e}))
			}
			var states []render.FileState
			for _, f := range files {
				states = append(states, render.FileState{Path: f.Path, Same: o.textNow(f.Path) == f.Text})
			}
			render.Entry(a.Out, a.paint(a.Out), e, states)
			return nil
		},
	}
}

// book returns the lab's logbook.
func (o *opened) book() logbook.Book { return logbook.Of(o.dir) }

// noLogbook words a logbook that cannot be used by a command that is about it.
func (a *app) noLogbook(err error) error {
	return &exit{code: exitUsage, message: inWords(err), err: err}
}

// inWords says what is wrong with a logbook.
func inWords(err error) string {
	switch {
	case errors.Is(err, logbook.ErrDamaged):
		return "the logbook (.lantern/logbook.db) is damaged; move it away, and a new one is begun"
	case errors.Is(err, logbook.ErrBusy):
		return "the logbook (.lantern/logbook.db) is held by another process"
	}
	return "the logbook (.lantern/logbook.db) cannot be used: " + plain(err)
}

// entry finds an entry by what was typed.
func (a *app) entry(o *opened, stack, number string) (logbook.Entry, []logbook.File, error) {
	n, err := strconv.Atoi(number)
	if err != nil {
		return logbook.Entry{}, nil, usage("%s is not the number of an entry", number)
	}
	e, files, err := o.book().Find(stack, n)
	if errors.Is(err, logbook.ErrNoEntry) {
		return e, nil, usage("the logbook has no entry %d of %s (lantern logbook %s lists them)", n, stack, stack)
	}
	if err != nil {
		return e, nil, a.noLogbook(err)
	}
	return e, files, nil
}

// save writes files into a folder that must not have them yet.
func (a *app) save(dir string, files []logbook.File) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return usage("%s cannot be made: %s", dir, plain(err))
	}
	for _, f := range files {
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		err := putFile(dir, filepath.FromSlash(f.Path), "", f.Text, 0o600)
		if errors.Is(err, labdir.ErrChanged) {
			return usage("%s is there already; name a folder that is empty", path)
		}
		if err != nil {
			return usage("%s cannot be written: %s", path, plain(err))
		}
		fmt.Fprintln(a.Out, path)
	}
	return nil
}

// files returns the files that a stack is declared by: lab.toml, its own, and environment files.
func (o *opened) files(stack string) []logbook.File {
	var list []logbook.File
	add := func(f *source.File) {
		if f == nil {
			return
		}
		mode := fs.FileMode(0o600)
		if info, err := os.Stat(filepath.Join(o.dir, filepath.FromSlash(f.Path))); err == nil {
			mode = info.Mode().Perm()
		}
		list = append(list, logbook.File{Path: f.Path, Text: f.Text, Mode: mode})
	}
	add(o.decl.File)
	for _, st := range o.decl.Stacks {
		if st.Name == stack {
			add(st.File)
		}
	}
	for _, path := range sortedKeys(o.decl.EnvFiles) {
		// One in another stack's folder is that stack's.
		if folder, _, inside := strings.Cut(path, "/"); !inside || folder == stack || o.Stack(folder) == nil {
			if e := o.decl.EnvFiles[path]; e != nil {
				add(e.File)
			}
		}
	}
	return list
}

// textNow returns the text of a file of the lab as it is read now; "" when it is not there.
func (o *opened) textNow(path string) string {
	root, err := os.OpenRoot(o.dir)
	if err != nil {
		return ""
	}
	defer root.Close()
	text, err := labdir.Read(root, path)
	if err != nil {
		return ""
	}
	return text
}

// lastEntry returns the highest number that the logbook knows for a stack. A logbook that cannot be read keeps nobody from deploying.
func (a *app) lastEntry(o *opened, stack string) int {
	last, err := o.book().Last(stack)
	if err != nil {
		a.warn("%s", inWords(err))
	}
	return last
}

// record writes an entry. What goes wrong with that is said, and changes nothing.
func (a *app) record(ctx context.Context, o *opened, d *deploy.Deployer, e logbook.Entry, out deploy.Outcome) {
	e.Entry, e.Host, e.Who, e.Result, e.Left, e.Seconds = out.Entry, d.Host, d.Self.Who, out.Result, out.Left, time.Since(e.Began).Round(time.Millisecond).Seconds()
	if out.Failure != nil {
		e.Why = a.hide(out.Failure.Error())
	}
	if out.Plan != nil {
		e.Services = servicesOf(context.WithoutCancel(ctx), d, *out.Plan)
	}
	files := o.files(e.Stack)
	for _, path := range e.Replaced {
		files = append(files, logbook.File{Path: logbook.Before + path, Text: o.textNow(path), Mode: 0o600})
	}
	if err := o.book().Add(e, files); err != nil {
		a.warn("this is not in the logbook: %s", inWords(err))
	}
}

// servicesOf says what a deploy did with each service, and which image a name stood for.
func servicesOf(ctx context.Context, d *deploy.Deployer, p plan.Stack) []logbook.Service {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	var list []logbook.Service
	for _, s := range p.Services {
		v := logbook.Service{Service: s.Name, Action: string(s.Action)}
		if s.Service != nil {
			v.Image = s.Container.Image
			if image, err := d.Engine.Image(ctx, v.Image); err == nil {
				v.ID, v.Digest = image.ID, image.Digest
			}
			v.Made = s.Container.Digest(p.Stack.Name)
		}
		list = append(list, v)
	}
	return list
}

// hide takes secrets out of a text.
func (a *app) hide(text string) string { return a.hides.hide(text) }

// warn says what is wrong and keeps nobody from going on.
func (a *app) warn(format string, args ...any) {
	fmt.Fprintln(a.Err, a.paint(a.Err).Look("warning: ")+fmt.Sprintf(format, args...))
}
