package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/observe"
)

// Plan writes what a deploy of a stack would do.
func Plan(w io.Writer, p Paint, s plan.Stack, verbose bool) {
	host := ""
	if s.Stack.Host != nil {
		host = " on " + s.Stack.Host.Name
	}
	if s.Unfinished {
		fmt.Fprintf(w,
			"%s%s: %s\n", p.Head(s.Stack.Name), host,
			p.Look(
				"a deploy is at work here, or has died in the middle; the next one "+
					"finishes or undoes what it left"))
	}
	if !s.Changes() {
		fmt.Fprintf(w, "%s%s: up to date\n", p.Head(s.Stack.Name), host)
		for _, reference := range s.Unasked {
			fmt.Fprintf(w,
				"  %s %s: its registry does not say whether it has moved; a deploy fetches it, and "+
					"replaces what runs if it has\n", p.Look("fetch   "), Harmless(reference))
		}
		return
	}
	fmt.Fprintf(w, "%s%s\n", p.Head(s.Stack.Name), host)
	widest := 0
	for _, v := range s.Services {
		widest = max(widest, len(v.Name))
	}
	resources := func(what string, list []plan.Resource) {
		for _, r := range list {
			if r.Action == plan.Keep && !verbose {
				continue
			}
			fmt.Fprintf(w, "  %s %s %s\n", action(p, r.Action), p.Faint(what), r.Name)
			for _, d := range r.Differences {
				fmt.Fprintf(w, "           %-18s %s\n", d.Field, difference(p, d))
			}
		}
	}
	resources("network", s.Networks)
	resources("volume", s.Volumes)
	for _, b := range s.Builds {
		fmt.Fprintf(w, "  %s %s  %s\n", p.Head(fmt.Sprintf("%-8s", "build")), Harmless(b.Image), p.Faint(Harmless(b.Why)))
	}
	for _, d := range s.Sites {
		fmt.Fprintf(w, "  %s %s\n", p.Head(fmt.Sprintf("%-8s", d.Field)), difference(p, d))
	}
	if s.Stack.Gate != nil && slices.ContainsFunc(s.Services, func(v plan.Service) bool { return v.Action == plan.Replace }) {
		fmt.Fprintf(w, "  %s\n", p.Look("the sites behind it do not answer for as long as it takes to start"))
	}
	for _, v := range s.Services {
		if v.Action == plan.Keep && !verbose {
			continue
		}
		line := fmt.Sprintf("  %s %-*s  %s", action(p, v.Action), widest, v.Name, p.Faint(reason(v)))
		fmt.Fprintln(w, strings.TrimRight(line, " "))
		for _, d := range v.Differences {
			fmt.Fprintf(w, "           %-18s %s\n", d.Field, difference(p, d))
		}
	}
}

func action(p Paint, a plan.Action) string {
	text := fmt.Sprintf("%-8s", a)
	switch a {
	case plan.Keep:
		return p.Faint(text)
	}
	return p.Head(text)
}

func reason(v plan.Service) string {
	switch {
	case v.Action == plan.Create:
		return v.Container.Image
	case v.Action == plan.Start:
		return "as declared, but it does not run"
	case v.Action == plan.Remove:
		return "no longer in the file"
	case v.Action == plan.Replace && len(v.Differences) == 0:
		return "declared otherwise than when it was made"
	}
	return ""
}

func difference(p Paint, d plan.Difference) string {
	running, declared := d.Running, d.Declared
	switch {
	case running == "":
		return p.Head(declared) + p.Faint("  (new)")
	case declared == "":
		return running + p.Faint("  (removed)")
	}
	return running + p.Faint(" becomes ") + p.Head(declared)
}

// PlansJSON writes plans for programs.
func PlansJSON(w io.Writer, plans []plan.Stack, unreached []UnreachedHost) error {
	stacks := []comparedStack{}
	for _, s := range plans {
		j := comparedStack{Stack: s.Stack.Name, Host: s.Stack.Host.Name, Services: []comparedService{}}
		for _, v := range s.Services {
			j.Services = append(j.Services, comparedService{v.Name, v.Action, v.Differences})
		}
		for _, b := range s.Builds {
			j.Builds = append(j.Builds, comparedBuild{b.Service.Name, b.Image, b.Why})
		}
		j.Networks, j.Volumes = comparedResources(s.Networks), comparedResources(s.Volumes)
		stacks = append(stacks, j)
	}
	return JSON(w, Compare{first, stacks, unreached})
}

func comparedResources(list []plan.Resource) []comparedResource {
	out := []comparedResource{}
	for _, r := range list {
		out = append(out, comparedResource(r))
	}
	return out
}

// LineReporter writes the events of a deploy, a line a step.
type LineReporter struct {
	w     io.Writer
	paint Paint
	quiet bool
	began time.Time
	pulls map[string]string

	verbose bool // also what steps of recipes say
}

// Verbose lets it tell also what the steps of recipes say.
func (g *LineReporter) Verbose() *LineReporter {
	g.verbose = true
	return g
}

// NewLineReporter returns a Progress that writes to w, or nothing when quiet.
func NewLineReporter(w io.Writer, p Paint, quiet bool) *LineReporter {
	return &LineReporter{w: w, paint: p, quiet: quiet, pulls: map[string]string{}}
}

// Close does nothing: every line is written when it is known.
func (g *LineReporter) Close() {}

// Event writes one event.
func (g *LineReporter) Event(e deploy.Event) {
	if g.quiet {
		return
	}
	e.Detail, e.Line = Harmless(e.Detail), Harmless(e.Line)
	if g.began.IsZero() {
		g.began = e.Time
	}
	text := g.words(e)
	if text == "" {
		return
	}
	who := e.Stack
	if e.Service != "" {
		who += "/" + e.Service
	}
	fmt.Fprintf(g.w,
		"  %s  %-24s %s\n", g.paint.Faint(fmt.Sprintf("%6.1fs", e.Time.Sub(g.began).Seconds())), who, text)
}

// words says what an event means; "" for what is not worth a line.
func (g *LineReporter) words(e deploy.Event) string {
	p := g.paint
	if e.State == deploy.EventFailed {
		return p.Bad(e.Detail)
	}
	done := e.State == deploy.EventDone
	switch e.Step {
	case deploy.StepPull:
		switch e.State {
		case deploy.EventBegun:
			return "pulling " + e.Detail
		case deploy.EventProgress:
			return g.pulling(e)
		}
		return p.Good("pulled")
	case deploy.StepBuild:
		switch {
		case e.State == deploy.EventBegun:
			return "building " + e.Detail
		case done:
			return p.Good("built")
		case e.Line == "":
			return p.Faint(e.Detail)
		case g.verbose:
			return p.Faint("| " + e.Line)
		}
	case deploy.StepCreate:
		if done && e.Detail != "" {
			return "made " + e.Detail
		}
		if done {
			return "new container created"
		}
	case deploy.StepStop:
		if done && e.Detail != "" {
			return e.Detail
		}
		if done {
			return "old version stopped; it is kept until the new one has passed"
		}
	case deploy.StepStart:
		if done {
			return "started"
		}
	case deploy.StepProve:
		if done {
			return p.Good(e.Detail)
		}
		if e.State == deploy.EventProgress && e.Line == "" {
			return p.Look(e.Detail)
		}
	case deploy.StepRemove:
		if e.Detail != "" {
			return p.Faint("removed " + e.Detail)
		}
		return "stopped and removed"
	case deploy.StepPutBack:
		switch {
		case e.State == deploy.EventBegun && e.Detail != "":
			return p.Look(e.Detail + ": rolling back")
		case e.State == deploy.EventBegun:
			return p.Look("rolling back")
		case e.Service != "":
			return p.Good(e.Detail)
		}
		return p.Good("rolled back")
	}
	return ""
}

// pulling says how far a pull is, each quarter once: lines are no place for a bar that moves.
func (g *LineReporter) pulling(e deploy.Event) string {
	if e.Total == 0 {
		return ""
	}
	quarter := fmt.Sprint(e.Bytes * 4 / e.Total)
	if g.pulls[e.Service] == quarter || quarter == "0" || quarter == "4" {
		return ""
	}
	g.pulls[e.Service] = quarter
	return g.paint.Faint(pulled(e))
}

// pulled says how much of an image is there.
func pulled(e deploy.Event) string {
	return fmt.Sprintf("%s of %s, %d of %s",
		units.HumanSize(float64(e.Bytes)), units.HumanSize(float64(e.Total)), e.LayersDone,
		declare.Counted(e.Layers, "layer"))
}

// Failure says how a deploy or a retirement of a stack ended otherwise than wanted.
func Failure(w io.Writer, p Paint, stack string, out deploy.Outcome) {
	fmt.Fprintln(w)
	switch out.Result {
	case deploy.Refused:
		fmt.Fprintf(w, "%s: nothing was changed: %s\n", p.Head(stack), Harmless(out.Holder))
		return
	case deploy.PutBack:
		text := "the deploy failed; old version restored"
		if !ranBefore(out) {
			text = "the deploy failed; nothing ran before; its containers are removed"
		}
		fmt.Fprintf(w, "%s: %s\n", p.Head(stack), p.Bad(text))
	case deploy.NotReady:
		fmt.Fprintf(w, "%s: %s\n", p.Head(stack), p.Bad("not all of it is ready; nothing was put back"))
	case deploy.NeedsManual:
		fmt.Fprintf(w, "%s: %s\n", p.Head(stack), p.Bad("manual action needed"))
	}
	if f := out.Failure; f != nil {
		text := f.Message
		if f.Service != "" {
			text = f.Service + ": " + text
		}
		fmt.Fprintf(w, "  %s  %s\n", p.Faint("why"), Harmless(text))
		if len(f.Log) > 0 {
			fmt.Fprintf(w, "  %s\n", p.Faint("last log lines:"))
			for _, line := range f.Log {
				fmt.Fprintln(w, "      "+Harmless(line))
			}
		}
	}
	if out.Result == deploy.PutBack && out.Plan != nil && writes(*out.Plan) {
		fmt.Fprintf(w, "  %s\n", p.Faint("data written by the new version is not undone"))
	}
	if out.Result == deploy.PutBack {
		for _, v := range out.Stay {
			fmt.Fprintf(w,
				"  %s\n",
				p.Faint("the volume "+Harmless(v)+
					", which it has made, stays with what is in it; lantern retire "+Harmless(stack)+
					" --with-volumes removes it"))
		}
		if out.Plan != nil && ranBefore(out) {
			fmt.Fprintf(w,
				"  %s   %s\n", p.Look("do"),
				"the files still declare the version that failed: fix them, or restore those of the old "+
					"version with lantern revert "+Harmless(stack))
		}
	}
	for _, h := range out.ManualSteps {
		fmt.Fprintf(w, "  %s   %s\n", p.Look("do"), Harmless(h))
	}
}

// ranBefore reports whether anything of the stack ran before a deploy.
func ranBefore(out deploy.Outcome) bool {
	return out.Plan == nil ||
		slices.ContainsFunc(out.Plan.Services, func(s plan.Service) bool { return s.Running != nil })
}

// writes reports whether a service that was replaced may write anywhere that outlives its container.
func writes(s plan.Stack) bool {
	return slices.ContainsFunc(s.Services, func(v plan.Service) bool {
		return v.Action == plan.Replace &&
			slices.ContainsFunc(v.Container.Mounts, func(m plan.Mount) bool {
				return m.Source != "" && !m.ReadOnly
			})
	})
}

// Status writes a table of services.
func Status(w io.Writer, p Paint, services []observe.Status, now time.Time) {
	var rows [][]string
	for _, s := range services {
		state := stateColour(p, s.State)(s.State)
		since := ""
		if !s.Since.IsZero() {
			since = ago(now.Sub(s.Since))
		}
		notes := noteOf(s)
		last := p.Look(notes)
		if notes == "" && s.About != "" {
			last = p.Faint(s.About)
		}
		links := make([]string, len(s.Links))
		for i, l := range s.Links {
			links[i] = p.Link(l)
		}
		rows = append(rows,
			[]string{s.Host, s.Stack + "/" + s.Service, state, since, shortImage(s.Image), strings.Join(links, " "), last})
	}
	if len(rows) == 0 {
		fmt.Fprintln(w, "nothing is declared, and nothing of this lab runs")
		return
	}
	columns(w, p, []string{"host", "service", "state", "for", "image", "page", "note"}, rows)
	if slices.ContainsFunc(services, func(s observe.Status) bool { return s.FirstLogin != "" }) {
		fmt.Fprintln(w)
	}
	for _, s := range services {
		FirstLogin(w, p, s.Stack+"/"+s.Service, s.FirstLogin)
	}
}

// FirstLogin tells how a person gets into a service for the first time, where its card says so.
func FirstLogin(w io.Writer, p Paint, service, text string) {
	if text != "" {
		for n, row := range p.Lines(Harmless(fmt.Sprintf("first login of %s: %s", service, text)), 4) {
			fmt.Fprintln(w, "  "+strings.Repeat(" ", min(n, 1)*2)+row)
		}
	}
}

// noteOf says what is to be said of a service beside its state.
func noteOf(s observe.Status) string {
	notes := s.Detail
	if s.Changed {
		notes += "; changed by hand"
	}
	if s.Outdated && s.Detail == "" {
		notes += "; files changed"
	}
	if s.Restarts > 0 {
		notes += "; " + declare.Counted(s.Restarts, "restart")
	}
	return strings.TrimPrefix(notes, "; ")
}

// shortImage shortens the name of an image for the eye: without registry and path, a digest to its beginning.
func shortImage(image string) string {
	name, digest, pinned := strings.Cut(image, "@")
	name = name[strings.LastIndexByte(name, '/')+1:]
	if _, hex, ok := strings.Cut(digest, ":"); pinned && ok {
		name += "@" + hex[:min(12, len(hex))]
	}
	return name
}

// ago shortens a time for the eye.
func ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh", int(d.Hours()))
	}
	return fmt.Sprintf("%dd", int(d.Hours()/24))
}
