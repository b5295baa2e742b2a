package app

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"proudlantern.example/lantern/core/merge"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
)

// LogRequest says which logs are read, and who takes them.
type LogRequest struct {
	Named  Targets
	OnHost string
	Range  engine.LogRange
	Line   func(merge.Line) error // an error ends it
	Notice func(text string)      // what happens to the services meanwhile
}

// logReader reads the logs of services in the order of their times.
type logReader struct {
	LogRequest
	lab   *Workspace
	hosts map[string]*deploy.Deployer
	known map[string]*logged // by host and id of the container
	met   map[string]bool    // services, by host and name

	lines  chan merge.Line
	ended  chan *logged
	reader sync.WaitGroup
}

// logged is a container whose log is read.
type logged struct {
	host   string
	c      engine.State
	last   time.Time // of the last line that was read
	active bool      // it is being followed

	// same are the lines that had that time, by their hashes, and how often each came. Some engines give times to the
	// second, and lose a line now and then when a container starts again: to count lines would not be enough.
	same map[uint64]int
}

// hashing makes the hashes of lines.
var hashing = maphash.MakeSeed()

func (c *logged) name() string {
	return c.c.Labels[plan.LabelStack] + "/" + c.c.Labels[plan.LabelService]
}

// lookEvery is how often new containers are looked for while logs are followed, beside whenever the engine tells of
// one.
const lookEvery = 2 * time.Second

// How lines of several services that come at the same time are brought into order: held for longer than it takes
// to find a new container.
const (
	holdLines = 800 * time.Millisecond
	mostHeld  = 20_000
)

// Logs reads the history of what is named, all in the order of time, and then what comes, until ctx ends, if the
// range says so.
func (w *Workspace) Logs(ctx context.Context, request LogRequest) error {
	l := &logReader{
		LogRequest: request, lab: w, hosts: map[string]*deploy.Deployer{},
		known: map[string]*logged{}, met: map[string]bool{},
	}
	defer func() {
		for _, d := range l.hosts {
			d.Engine.Close()
		}
	}()
	if err := l.find(ctx); err != nil {
		return err
	}
	if err := l.history(ctx); err != nil || !l.Range.Follow {
		return err
	}
	return l.follow(ctx)
}

// find connects to the hosts and finds the containers.
func (l *logReader) find(ctx context.Context) error {
	for _, name := range l.Named.stacks() {
		if st := l.lab.Stack(name); st != nil && st.Host != nil && l.OnHost != "" && st.Host.Name != l.OnHost {
			return usage("%s is on %s, not on %s", name, st.Host.Name, l.OnHost)
		}
	}
	for _, h := range l.lab.HostsOf(l.OnHost) {
		needed := len(l.Named) == 0 || slices.ContainsFunc(l.Named.stacks(), func(name string) bool {
			st := l.lab.Stack(name)
			return st == nil || st.Host == nil || st.Host == h
		})
		if !needed {
			continue
		}
		d, err := l.lab.deployer(ctx, h, nil)
		if err != nil {
			return err
		}
		l.hosts[h.Name] = d
		containers, err := d.Engine.Containers(ctx, l.lab.Name, "")
		if err != nil {
			return unreachable(h.Name, err)
		}
		for _, c := range containers {
			if l.wants(c.Labels[plan.LabelStack], c.Labels[plan.LabelService]) {
				one := &logged{host: h.Name, c: c}
				l.known[h.Name+" "+c.ID], l.met[h.Name+" "+one.name()] = one, true
			}
		}
	}
	for _, t := range l.Named {
		found := false
		for _, c := range l.known {
			found = found || (Targets{t}).Has(c.c.Labels[plan.LabelStack], c.c.Labels[plan.LabelService])
		}
		if found {
			continue
		}
		if _, err := l.lab.StacksOf(Targets{t}, l.OnHost); err != nil {
			return err
		}
		if !l.Range.Follow {
			return &Error{Kind: Stopped, Message: t.String() + " is not deployed: it has no log",
				Do: "lantern deploy " + t.String()}
		}
		l.Notice(t.String() + " is not deployed yet; waiting for it")
	}
	return nil
}

// wants reports whether a container is one of a service that is named.
func (l *logReader) wants(stack, service string) bool {
	return service != "" && l.Named.Has(stack, service)
}

// line makes a line of a container's log one of its service.
func (c *logged) line(l engine.LogLine) merge.Line {
	text := l.Text
	if l.Cut {
		text += " …"
	}
	return merge.Line{
		Time: l.Time, Host: c.host, Stack: c.c.Labels[plan.LabelStack], Service: c.c.Labels[plan.LabelService],
		Stderr: l.Stderr, Text: text,
	}
}

// took remembers how far a log was read.
func (c *logged) took(l engine.LogLine) {
	if !l.Time.Equal(c.last) || c.same == nil {
		c.last, c.same = l.Time, map[uint64]int{}
	}
	c.same[maphash.String(hashing, l.Text)]++
}

// history reads what there is. Each log is read as fast as its lines are taken.
func (l *logReader) history(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	r := l.Range
	r.Follow = false
	var sources []iter.Seq[merge.Line]
	var mu sync.Mutex
	var lost error
	for _, c := range l.inOrder() {
		lines := make(chan merge.Line, 64)
		go func() {
			defer close(lines)
			err := l.hosts[c.host].Engine.Logs(ctx, c.c.ID, r, func(one engine.LogLine) error {
				c.took(one)
				select {
				case lines <- c.line(one):
					return nil
				case <-ctx.Done():
					return ctx.Err()
				}
			})
			// else it has just been removed
			if err != nil && !errors.Is(err, engine.ErrNotFound) && ctx.Err() == nil {
				mu.Lock()
				defer mu.Unlock()
				lost = unreachable(c.host, fmt.Errorf("the log of %s: %w", c.name(), err))
			}
		}()
		sources = append(sources, func(yield func(merge.Line) bool) {
			for line := range lines {
				if !yield(line) {
					return
				}
			}
		})
	}
	for line := range merge.Sorted(sources) {
		if err := l.Line(line); err != nil {
			return err
		}
	}
	mu.Lock()
	defer mu.Unlock()
	return lost
}

func (l *logReader) inOrder() []*logged {
	var all []*logged
	for _, c := range l.known {
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b *logged) int { return a.c.Started.Compare(b.c.Started) })
	return all
}

// follow reads what comes, also of containers that come.
func (l *logReader) follow(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	l.lines, l.ended = make(chan merge.Line, 256), make(chan *logged)
	defer func() {
		stop()
		go func() { // what is still being read must not wait
			for range l.lines {
			}
		}()
		l.reader.Wait()
		close(l.lines)
	}()
	for _, c := range l.known {
		if c.c.Running {
			l.read(ctx, c)
		}
	}
	held := merge.Live{Hold: holdLines, Most: mostHeld}
	tick := time.NewTicker(holdLines / 8)
	defer tick.Stop()
	news := make(chan struct{}, 1)
	l.listen(ctx, news)
	var unanswered time.Time
	for {
		select {
		case <-ctx.Done():
			return l.flush(&held)
		case line := <-l.lines:
			held.Add(line, time.Now())
		case c := <-l.ended:
			c.active = false
			poke(news) // it may run again already
			continue
		case <-tick.C:
		case <-news:
			err := l.look(ctx)
			switch {
			case err == nil || ctx.Err() != nil:
				unanswered = time.Time{}
			case unanswered.IsZero():
				unanswered = time.Now()
				l.Notice(err.Error() + "; waiting for it")
			case time.Since(unanswered) > engineReturns:
				return err
			}
			continue
		}
		if l.single() {
			held.Hold = 0
		} else {
			held.Hold = holdLines
		}
		for line, ok := held.Take(time.Now()); ok; line, ok = held.Take(time.Now()) {
			if err := l.Line(line); err != nil {
				return err
			}
		}
	}
}

// listen pokes news whenever the engines tell of a change, and now and then.
func (l *logReader) listen(ctx context.Context, news chan struct{}) {
	for _, d := range l.hosts {
		l.reader.Go(func() {
			for {
				d.Engine.Events(ctx, l.lab.Name, func() { poke(news) }, func(_, _ string) { poke(news) })
				if !every(ctx, lookEvery) { // the engine is gone for now
					return
				}
			}
		})
	}
	l.reader.Go(func() {
		for every(ctx, lookEvery) {
			poke(news)
		}
	})
}

// poke says that something is to be done, once.
func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// single reports whether one log alone is read: then there is nothing to bring into order.
func (l *logReader) single() bool {
	n := 0
	for _, c := range l.known {
		if c.active {
			n++
		}
	}
	return n <= 1
}

func (l *logReader) flush(held *merge.Live) error {
	for line, ok := held.Flush(); ok; line, ok = held.Flush() {
		if err := l.Line(line); err != nil {
			return err
		}
	}
	return nil
}

// read follows the log of a container from where it was read to.
func (l *logReader) read(ctx context.Context, c *logged) {
	c.active = true
	e := l.hosts[c.host].Engine
	l.reader.Go(func() {
		r := engine.LogRange{Since: c.last, Until: l.Range.Until, Follow: true}
		if r.Since.IsZero() {
			r.Since = l.Range.Since
		}
		again, from := maps.Clone(c.same), c.last // lines of that time that were read before
		e.Logs(ctx, c.c.ID, r, func(one engine.LogLine) error {
			if one.Time.Equal(from) {
				if hash := maphash.String(hashing, one.Text); again[hash] > 0 {
					again[hash]--
					return nil
				}
			}
			c.took(one)
			select {
			case l.lines <- c.line(one):
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}) // how it ended shows in the next look
		select {
		case l.ended <- c:
		case <-ctx.Done():
		}
	})
}

// look finds containers that have come, or run again.
func (l *logReader) look(ctx context.Context) error {
	for host, d := range l.hosts {
		list, err := d.Engine.Survey(ctx)
		if err != nil {
			return unreachable(host, err)
		}
		for _, s := range list {
			if s.Lab != l.lab.Name || !l.wants(s.Stack, s.Service) {
				continue
			}
			key := host + " " + s.ID
			c := l.known[key]
			switch {
			case c == nil && s.State != "created":
				state, err := d.Engine.Own(ctx, l.lab.Name, s.ID)
				if err != nil {
					continue // gone again, or not of this lab
				}
				c = &logged{host: host, c: state}
				l.Notice(l.arrived(c))
				l.known[key] = c
				l.read(ctx, c)
			case c != nil && !c.active && (s.State == "running" || s.State == "restarting"):
				l.read(ctx, c)
			}
		}
		for key, c := range l.known { // one that is gone, and read to its end
			if c.host == host && !c.active &&
				!slices.ContainsFunc(list, func(s survey.Container) bool { return s.ID == c.c.ID }) {
				delete(l.known, key)
			}
		}
	}
	return nil
}

// arrived says what a new container is.
func (l *logReader) arrived(c *logged) string {
	if l.met[c.host+" "+c.name()] {
		return c.name() + " has a new container; following it"
	}
	l.met[c.host+" "+c.name()] = true
	return "following " + c.name() + ", too"
}
