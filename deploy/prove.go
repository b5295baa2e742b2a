package deploy

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync/atomic"
	"time"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

const (
	// What is waited for is asked for at once, then ever more slowly.
	probeFirst = 20 * time.Millisecond
	probeEvery = 250 * time.Millisecond
	// A user who waits for longer than a moment is told what for, and the last line of the log.
	tellAfter = time.Second
	tellEvery = time.Second
	// lastLines is how much of a failed container's log is shown.
	lastLines = 6
)

// proving is a service that was just started, and is waited for.
type proving struct {
	*Deployer
	stack, service, id string
	proof              plan.Proof
	since              time.Time
	within             time.Duration

	first time.Time // when the container was started the first time
	up    time.Time // when it was first seen to run: an engine may be slow to start it
	told  time.Time // when a person was told last
	last  func() string
	how   string // what the last try that came to an end has seen
}

// proveReady waits until a service that was just started is ready.
func (d *Deployer) proveReady(ctx context.Context, stack, service, id string, proof plan.Proof,
	since time.Time) *Failure {
	if !proof.Declared() && proof.PagePort > 0 {
		return nil // its page is the proof, once everything runs
	}
	d.event(stack, service, StepProve, EventBegun, "")
	p := &proving{
		Deployer: d,
		stack:    stack,
		service:  service,
		id:       id,
		proof:    proof,
		since:    since,
		within:   proof.Within,
	}
	if !proof.Declared() {
		p.within = observe.Steady + time.Minute
	}
	if proof.HTTP != "" {
		d.Approach(ctx, id, proof.Port)
	}
	defer d.Leave(context.WithoutCancel(ctx), id)
	waiting, cancel := context.WithTimeout(ctx, p.within)
	defer cancel()
	seen := watchLog(waiting, d.Engine, id, proof.Log, since)
	pause, most := probeFirst, probeEvery
	if proof.Command != nil || proof.Image {
		most = time.Second // each try is a process
	}
	for {
		p.tell(waiting)
		if done, f := p.try(ctx, waiting, seen); done || f != nil {
			return f
		}
		select {
		case <-waiting.Done():
			return p.late(ctx)
		case <-time.After(pause):
			pause = min(2*pause, most)
		}
	}
}

// tell says what is waited for, once that takes longer than a moment.
func (p *proving) tell(waiting context.Context) {
	now := time.Now()
	if now.Sub(p.since) <= tellAfter || now.Sub(p.told) <= tellEvery {
		return
	}
	if p.told = now; p.last == nil {
		p.last = p.follow(waiting, p.id)
	}
	p.Report(Event{
		Time: now.UTC(), Host: p.Host, Stack: p.stack, Service: p.service, Step: StepProve,
		State: EventProgress, Line: p.last(),
		Detail: fmt.Sprintf("waited for %s of at most %s",
			now.Sub(p.since).Round(time.Second), p.within.Round(time.Second)),
	})
}

// try looks once whether the service is ready, or cannot become so any more.
func (p *proving) try(ctx, waiting context.Context, seen <-chan struct{}) (done bool, f *Failure) {
	c, err := p.inspect(waiting, p.id)
	switch {
	case err != nil && waiting.Err() != nil:
		return false, nil
	case err != nil:
		return false, p.failed(ctx, p.stack, p.service, p.id, err.Error())
	case p.first.IsZero():
		p.first = c.Started
	}
	switch {
	case observe.CompletedJob(c) && (p.proof.Done || !p.proof.Declared()):
		p.event(p.stack, p.service, StepProve, EventDone, "done")
		return true, nil // a job that has done its work
	case !c.Running && c.Status == "stopped":
		// Podman's service says so for a moment, before it knows how it ended.
	case !c.Running:
		return false, p.failed(ctx, p.stack, p.service, p.id, "it "+observe.HowEnded(c))
	case c.Restarts > 0 && c.Started.After(p.first.Add(time.Second)):
		return false,
			p.failed(ctx, p.stack, p.service, p.id, fmt.Sprintf("it ended and was restarted %d times", c.Restarts))
	}
	if p.proof.Image && c.Check == nil {
		return false,
			p.failed(ctx, p.stack, p.service, p.id, "ready = { image = true }, and its image declares no check")
	}
	if !c.Running || c.Status == "restarting" {
		return false, nil
	}
	if p.up.IsZero() {
		p.up = time.Now()
	}
	since := p.since
	if !p.proof.Declared() {
		since = p.up
	}
	ready, how := p.Ready(waiting, c, p.proof, seen, since)
	if ready && !p.RunsOn(waiting, c) {
		return false, nil // the next try says how it ended
	}
	if onlyUp := !p.proof.Declared() || p.proof.Log != ""; ready && onlyUp && !p.Lives(waiting, c) {
		return false, nil
	}
	if ready || how != "" || waiting.Err() == nil {
		p.how = how
	}
	if ready {
		if p.proof.Command != nil || p.proof.Image {
			p.how = ""
		}
		p.event(p.stack, p.service, StepProve, EventDone,
			fmt.Sprintf("ready after %s%s", time.Since(p.since).Round(100*time.Millisecond), p.how))
	}
	return ready, nil
}

// late is the failure of a service that was not ready in time.
func (p *proving) late(ctx context.Context) *Failure {
	if ctx.Err() != nil {
		return &Failure{Service: p.service, Message: "interrupted while it was waited for"}
	}
	return p.failed(ctx, p.stack, p.service, p.id,
		fmt.Sprintf("it was not ready within %s: %s", p.proof.Within, observe.NotReady(p.proof, p.how)))
}

// follow reads a container's log from its last line on, and returns what tells the last one so far.
func (d *Deployer) follow(ctx context.Context, id string) func() string {
	var last atomic.Value
	last.Store("…")
	go d.Engine.Log(ctx, id, time.Time{}, true, 1, func(line string) {
		if strings.TrimSpace(line) != "" {
			last.Store(clipped(line))
		}
	})
	return func() string { return last.Load().(string) }
}

// watchLog closes the channel when a line of a container's log matches.
func watchLog(ctx context.Context, e *engine.Engine, id, pattern string, since time.Time) <-chan struct{} {
	seen := make(chan struct{})
	re, err := regexp.Compile(pattern)
	if pattern == "" || err != nil {
		return seen
	}
	go func() {
		found := false
		for !found && ctx.Err() == nil {
			reading, stop := context.WithCancel(ctx)
			// A log ends with its container; one that is started again writes on. Engines count since in
			// whole seconds.
			e.Log(reading, id, since.Add(-time.Second), true, 0, func(line string) {
				if !found && re.MatchString(line) {
					found = true
					close(seen)
					stop()
				}
			})
			stop()
			select {
			case <-ctx.Done():
			case <-time.After(probeEvery):
			}
		}
	}()
	return seen
}

// failed makes a failure of a service that did not become ready, with the end of its log.
func (d *Deployer) failed(ctx context.Context, stack, service, id, message string) *Failure {
	d.event(stack, service, StepProve, EventFailed, message)
	return d.withLog(ctx, id, &Failure{Service: service, Message: message})
}

func (d *Deployer) withLog(ctx context.Context, id string, f *Failure) *Failure {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	d.Engine.Log(ctx, id, time.Time{}, false, lastLines, func(line string) {
		// also of an engine that does not count
		f.Log = append(f.Log[max(0, len(f.Log)+1-lastLines):], clipped(line))
	})
	return f
}

// clipped is as much of a line as a person reads.
func clipped(line string) string {
	const most = 500
	if r := []rune(line); len(r) > most {
		return string(r[:most]) + " …"
	}
	return line
}

// explain turns an error of the engine into a failure.
func (d *Deployer) explain(ctx context.Context, service, id string, err error) *Failure {
	f := &Failure{Service: service, Message: err.Error()}
	switch {
	case errors.Is(err, context.Canceled):
		f.Message = "interrupted"
	case errors.Is(err, engine.ErrUnknownOutcome):
	case strings.Contains(f.Message, "no such file or directory"),
		strings.Contains(f.Message, "source path does not exist"):
		f.Message = "something that it mounts, or its command, is not there: " + err.Error()
	case errors.Is(err, engine.ErrPortInUse):
		f.Message = "a host port that it publishes is held by somebody else: " + err.Error()
	case errors.Is(err, engine.ErrNameTaken):
		f.Message = "a container that is not of this lab has its name: " + err.Error()
	}
	if id != "" {
		d.withLog(ctx, id, f)
	}
	return f
}
