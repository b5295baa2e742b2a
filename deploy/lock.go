package deploy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/internal/system"
)

// Labels of a lock.
const (
	labelWho   = "proudlantern.lock.who"   // account and machine, for the person
	labelBoot  = "proudlantern.lock.boot"  // boot id of the machine
	labelPID   = "proudlantern.lock.pid"   // process there
	labelSpace = "proudlantern.lock.space" // the pid namespace that this number belongs to
	labelBegan = "proudlantern.lock.began" // when that process began, in clock ticks since boot: pids come again
	labelSince = "proudlantern.lock.since"
	labelUntil = "proudlantern.lock.until"
	labelWasUp = "proudlantern.lock.was-up" // services that ran when it was taken
	labelMoves = "proudlantern.lock.moves"  // networks that are made again, as JSON of []move
	// services that are no longer declared, as JSON of []string: nothing takes their place
	labelGoes = "proudlantern.lock.goes"
	// containers of somebody else that it takes the place of, as JSON of []plan.Taking
	labelTakes = "proudlantern.lock.takes"
)

// Self is the process that deploys.
type Self struct {
	Who, Boot, Space, Began string
	PID                     int
}

// NewSelf returns who this process is.
func NewSelf() Self {
	s := Self{Who: "somebody", PID: os.Getpid()}
	if u, err := user.Current(); err == nil {
		s.Who = u.Username
	}
	if machine, err := os.Hostname(); err == nil {
		s.Who += " on " + machine
	}
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	s.Boot = strings.TrimSpace(string(boot))
	s.Space, _ = os.Readlink("/proc/self/ns/pid")
	s.Began = began(s.PID)
	return s
}

// began returns when a process of this machine began (proc_pid_stat(5), field 22), "" when there is none.
func began(pid int) string {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	// The second field, the name in parentheses, may hold blanks itself.
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	if len(fields) < 20 {
		return ""
	}
	return fields[19]
}

// lock is the right to change a stack on a host, held as a container of a name that exists only once.
type lock struct {
	ID    string
	Entry int
	WasUp []string
	Moves []move
	Goes  []string
	Takes []plan.Taking
}

func (l *lock) entry() string { return strconv.Itoa(l.Entry) }

// lock takes the lock of a stack.
func (d *Deployer) lock(ctx context.Context, p plan.Stack) (*lock, Outcome, error) {
	containers, err := d.Containers(ctx, p.Stack.Name)
	if err != nil {
		return nil, Outcome{}, err
	}
	last, err := d.lastEntry(ctx, p.Stack.Name, containers)
	if err != nil {
		return nil, Outcome{}, err
	}
	l := &lock{Entry: max(last, d.options.After) + 1}
	for _, c := range containers {
		if s := c.Labels[plan.LabelService]; s != "" && c.Running {
			l.WasUp = append(l.WasUp, s)
		}
	}
	l.Takes = p.Takings()
	for _, t := range l.Takes {
		if t.Up {
			l.WasUp = append(l.WasUp, t.Service)
		}
	}
	most := time.Minute
	image := ""
	for _, s := range p.Services {
		if s.Service != nil {
			most += s.Service.ReadyWithin + s.Service.StopWithin
			image = s.Container.Image
			continue
		}
		l.Goes = append(l.Goes, s.Name)
		if image == "" {
			image = s.Running.ImageID
		}
	}
	if l.Moves, err = d.moves(ctx, p); err != nil {
		return nil, Outcome{}, err
	}
	held, err := d.takeLock(ctx, p.Stack.Name, image, most, l)
	return l, held, err
}

func (d *Deployer) takeLock(ctx context.Context, stack, image string, most time.Duration,
	l *lock) (Outcome, error) {
	labels := map[string]string{
		plan.LabelEntry: l.entry(),
		labelWasUp:      strings.Join(l.WasUp, " "),
		labelMoves:      movesLabel(l.Moves),
		labelGoes:       namesLabel(l.Goes),
		labelTakes:      takesLabel(l.Takes),
	}
	id, err := d.createPlaceholder(ctx, stack, plan.SuffixLock, image, most, labels)
	if errors.Is(err, engine.ErrNameTaken) {
		c, err := d.Engine.Inspect(ctx, d.markName(stack, plan.SuffixLock))
		if err != nil {
			return Outcome{Result: Refused, Holder: "another deploy, which has just ended; try again"}, nil
		}
		return Outcome{Result: Refused, Holder: d.holder(c)}, nil
	}
	if l.ID = id; err == nil {
		d.holds(true)
	}
	return Outcome{}, err
}

// createPlaceholder makes a container that says by its name that this process is at work, and by its labels
// which one that is.
func (d *Deployer) createPlaceholder(ctx context.Context, stack, suffix, image string, most time.Duration,
	more map[string]string) (id string, err error) {
	return d.Engine.CreatePlaceholder(ctx, d.markName(stack, suffix), image, d.placeholderLabels(stack, most, more))
}

func (d *Deployer) placeholderLabels(stack string, most time.Duration, more map[string]string) map[string]string {
	now := time.Now().UTC()
	labels := map[string]string{
		plan.LabelLab: d.Lab, plan.LabelStack: stack, labelWho: d.Self.Who, labelBoot: d.Self.Boot,
		labelPID: strconv.Itoa(d.Self.PID), labelSpace: d.Self.Space, labelBegan: d.Self.Began,
		labelSince: now.Format(time.RFC3339), labelUntil: now.Add(most).Format(time.RFC3339),
	}
	maps.Copy(labels, more)
	return labels
}

// markName returns the name of one of the marks of a stack, by its suffix.
func (d *Deployer) markName(stack, suffix string) string {
	return lab.EngineName(d.Lab, stack) + suffix
}

// holder says who holds a lock.
func (d *Deployer) holder(c engine.State) string {
	if c.Labels[plan.LabelLab] != d.Lab {
		return fmt.Sprintf("a container %s that is not of this lab has the name of the lock", c.Name)
	}
	since := c.Labels[labelSince]
	if t, err := time.Parse(time.RFC3339, since); err == nil {
		since = t.Local().Format("15:04:05")
	}
	return fmt.Sprintf("%s (pid %s) is changing this stack since %s", c.Labels[labelWho], c.Labels[labelPID], since)
}

// alive reports whether the holder of a lock is still at work: by its process where that can be seen from here,
// else by its time, if that is waited for.
func (d *Deployer) alive(c engine.State) bool {
	pid, err := strconv.Atoi(c.Labels[labelPID])
	if c.Labels[labelBoot] == d.Self.Boot && c.Labels[labelSpace] == d.Self.Space && d.Self.Boot != "" &&
		d.Self.Space != "" && err == nil && pid > 0 {
		if system.IsGone(pid) {
			return false
		}
		// Of a process that the system hides (proc(5), hidepid) it is not known whether it is that one.
		if since := began(pid); since != "" && c.Labels[labelBegan] != "" {
			return since == c.Labels[labelBegan]
		}
	}
	until, err := time.Parse(time.RFC3339, c.Labels[labelUntil])
	return err == nil && time.Now().Before(until) && !d.options.TakeOver
}

// recover finishes or undoes what a deploy has left behind that is no longer alive. The outcome is Refused
// when one is. Containers are those of the stack; after a recovery they are those that are there then. Nil
// asks for them first.
func (d *Deployer) recover(ctx context.Context, stack string, containers *[]engine.State) (Outcome, error) {
	var err error
	if containers == nil {
		containers = new([]engine.State)
		if *containers, err = d.Containers(ctx, stack); err != nil {
			return Outcome{}, err
		}
	}
	if !slices.ContainsFunc(*containers, observe.IsTransitional) {
		return Outcome{}, nil
	}
	for _, c := range *containers {
		if observe.IsLock(c) && d.alive(c) {
			return Outcome{Result: Refused, Holder: d.holder(c)}, nil
		}
	}
	// Two that find the same leftovers must not both clear them away.
	undo, err := d.createPlaceholder(ctx, stack, plan.SuffixUndo, (*containers)[0].ImageID, 10*time.Minute, nil)
	if errors.Is(err, engine.ErrNameTaken) {
		other, err := d.Engine.Inspect(ctx, d.markName(stack, plan.SuffixUndo))
		if err == nil && (other.Labels[plan.LabelLab] != d.Lab || d.alive(other)) {
			return Outcome{Result: Refused, Holder: d.holder(other)}, nil
		}
		if err == nil {
			err = d.remove(ctx, other.ID)
		}
		if err != nil && !errors.Is(err, engine.ErrNotFound) {
			return Outcome{}, err
		}
		if *containers, err = d.Containers(ctx, stack); err != nil {
			return Outcome{}, err
		}
		return d.recover(ctx, stack, containers)
	}
	if err != nil {
		return Outcome{}, err
	}
	out, err := d.resolveLeftovers(ctx, stack)
	lost := d.remove(ctx, undo)
	if err == nil && out.Result == "" {
		if err = lost; err == nil {
			*containers, err = d.Containers(ctx, stack)
		}
	}
	return out, err
}

// Leftover reports whether a deploy of the stack died in the middle, and says whose it was and what is to be
// done with what it left.
func (d *Deployer) Leftover(ctx context.Context, stack string) (what string, err error) {
	containers, err := d.Containers(ctx, stack)
	if err != nil || !slices.ContainsFunc(containers, observe.IsTransitional) {
		return "", err
	}
	what = "something between two names is left of a deploy; undoing it brings back what ran before"
	for _, c := range containers {
		switch {
		case !observe.IsLock(c):
		case d.alive(c):
			return "", nil
		case c.Name == d.markName(stack, plan.SuffixProven):
			what = "a deploy by " + c.Labels[labelWho] +
				" died after everything was proven; what is left to do is to clear away what ran before"
		default:
			what = "a deploy by " + c.Labels[labelWho] +
				" died in the middle; undoing it brings back what ran before"
		}
	}
	return what, nil
}

// Recover finishes or undoes what a deploy that died has left. The outcome is Done, Refused when somebody is
// at work, or NeedsAHand.
func (d *Deployer) Recover(ctx context.Context, stack string) (Outcome, error) {
	out, err := d.recover(ctx, stack, nil)
	if err == nil && out.Result == "" {
		out.Result = Done
	}
	return out, err
}

// resolveLeftovers does the work of recover, with the mark that only one has.
func (d *Deployer) resolveLeftovers(ctx context.Context, stack string) (Outcome, error) {
	containers, err := d.Containers(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	for _, c := range containers {
		if c.Name == d.markName(stack, plan.SuffixFolders) {
			if err := d.remove(ctx, c.ID); err != nil {
				return Outcome{}, err
			}
		}
		if !observe.IsLock(c) {
			continue
		}
		if d.alive(c) {
			return Outcome{Result: Refused, Holder: d.holder(c)}, nil // somebody was faster
		}
		d := d.taking(readTakes(c.Labels[labelTakes]))
		if c.Name == d.markName(stack, plan.SuffixProven) && missing(stack, containers) == "" {
			if out := d.commit(ctx, stack); out.Result != Done {
				return out, nil
			}
			if err := d.startProven(ctx, stack); err != nil {
				return Outcome{}, err
			}
			continue
		}
		d.event(stack, "", StepPutBack, EventBegun, "a deploy by "+c.Labels[labelWho]+" died in the middle")
		l := &lock{
			ID:    c.ID,
			Entry: entryOf(c),
			WasUp: strings.Fields(c.Labels[labelWasUp]),
			Moves: readMoves(c.Labels[labelMoves]),
		}
		if out := d.putBack(ctx, stack, l); out.Result != PutBack {
			return out, nil
		}
	}
	return d.restoreUnlocked(ctx, stack)
}

func namesLabel(names []string) string {
	text, err := json.Marshal(append([]string{}, names...))
	if err != nil {
		panic("deploy: names without JSON: " + err.Error()) // they are texts
	}
	return string(text)
}

// missing returns the service whose new container is not there although its old one has stepped aside; ""
// when each has its successor, so that the old ones may go. A lock can bear the name of what is proven while
// it is being undone: the engine may have carried out late what was given up on.
func missing(stack string, containers []engine.State) string {
	var proven *engine.State
	there := map[string]bool{}
	for i, c := range containers {
		if observe.IsLock(c) && strings.HasSuffix(c.Name, plan.SuffixProven) {
			proven = &containers[i]
		}
		there[c.Name] = true
	}
	if proven == nil {
		return ""
	}
	text, said := proven.Labels[labelGoes]
	var goes []string
	said = said && json.Unmarshal([]byte(text), &goes) == nil
	for _, c := range containers {
		service := c.Labels[plan.LabelService]
		if said && strings.HasSuffix(c.Name, plan.SuffixPrevious) && !there[lab.ContainerName(c.Labels[plan.LabelLab], stack, service)] &&
			!slices.Contains(goes, service) {
			return service
		}
	}
	return ""
}

// restoreUnlocked undoes what stands between two names although no lock is left (somebody removed it by hand).
func (d *Deployer) restoreUnlocked(ctx context.Context, stack string) (Outcome, error) {
	containers, err := d.Containers(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	l := &lock{}
	between := map[string]bool{}
	for _, c := range containers {
		s := c.Labels[plan.LabelService]
		if strings.HasSuffix(c.Name, plan.SuffixPrevious) {
			between[s] = true
		}
		if c.Running || between[s] {
			l.WasUp = append(l.WasUp, s)
		}
	}
	for _, c := range containers {
		s := c.Labels[plan.LabelService]
		if between[s] && !strings.HasSuffix(c.Name, plan.SuffixPrevious) ||
			s != "" && strings.HasSuffix(c.Name, plan.SuffixNext) {
			l.Entry = max(l.Entry, entryOf(c))
		}
	}
	if l.Entry == 0 && len(between) == 0 {
		return Outcome{}, nil
	}
	if l.Entry == 0 {
		l.Entry = -1 // nothing new is there, only what has to get its name back
	}
	if out := d.putBack(ctx, stack, l); out.Result != PutBack {
		return out, nil
	}
	return Outcome{}, nil
}
