package deploy

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/engine"
)

const (
	// What is waited for is asked for at once, then ever more slowly.
	probeFirst = 20 * time.Millisecond
	probeEvery = 250 * time.Millisecond
	// Whoever waits for longer than a moment is told what for, and the last line of the log.
	tellAfter = time.Second
	tellEvery = time.Second
	// steady is how long a service that declares no ready has to be up without a restart.
	steady = 10 * time.Second
	// lastLines is how much of a failed container's log is shown.
	lastLines = 6
)

// proveReady waits until a service that was just started is ready.
func (d *Deployer) proveReady(ctx context.Context, stack, service, id string, proof plan.Proof, since time.Time) *Failure {
	if !proof.Declared() && proof.PagePort > 0 {
		return nil // its page is the proof, once everything runs
	}
	d.event(stack, service, StepProve, Begun, "")
	within := proof.Within
	if !proof.Declared() {
		within = steady + time.Minute
	}
	waiting, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	seen := watchLog(waiting, d.Engine, id, proof.Log, since)
	pause, most := probeFirst, probeEvery
	if proof.Command != nil || proof.Image {
		most = time.Second // each try is a process
	}
	var first, told time.Time
	var lastLine func() string
	how := "" // what the last try that came to an end has seen
	for {
		if now := time.Now(); now.Sub(since) > tellAfter && now.Sub(told) > tellEvery {
			if told = now; lastLine == nil {
				lastLine = d.follow(waiting, id)
			}
			d.Report(Event{Time: now.UTC(), Host: d.Host, Stack: stack, Service: service, Step: StepProve, State: Progress, Line: lastLine(),
				Detail: fmt.Sprintf("waited for %s of at most %s", now.Sub(since).Round(time.Second), within.Round(time.Second))})
		}
		c, err := d.Engine.Inspect(waiting, id)
		if err != nil && waiting.Err() == nil {
			return d.failed(ctx, stack, service, id, err.Error())
		}
		if err == nil {
			if first.IsZero() {
				first = c.Started
			}
			switch {
			case ended0(c) && (proof.Done || !proof.Declared()):
				d.event(stack, service, StepProve, StepDone, "done")
				return nil // a job that has done its work
			case !c.Running && c.Status == "stopped":
				// Podman's service says so for a moment, before it knows how it ended.
			case !c.Running:
				return d.failed(ctx, stack, service, id, "it "+ended(c))
			case c.Restarts > 0 && c.Started.After(first.Add(time.Second)):
				return d.failed(ctx, stack, service, id, fmt.Sprintf("it ended and was restarted %d times", c.Restarts))
			}
		}
		if proof.Image && err == nil && c.Check == nil {
			return d.failed(ctx, stack, service, id, "ready = { image = true }, and its image declares no check")
		}
		ready := false
		if c.Running {
			var now string
			if ready, now = d.ready(waiting, c, proof, seen, since); ready || now != "" || waiting.Err() == nil {
				how = now
			}
		}
		if ready {
			if proof.Command != nil || proof.Image {
				how = ""
			}
			d.event(stack, service, StepProve, StepDone, fmt.Sprintf("ready after %s%s", time.Since(since).Round(100*time.Millisecond), how))
			return nil
		}
		select {
		case <-waiting.Done():
			if ctx.Err() != nil {
				return &Failure{Service: service, Message: "interrupted while it was waited for"}
			}
			why := notReady(proof)
			if how != "" {
				why += ": " + how
			}
			return d.failed(ctx, stack, service, id, fmt.Sprintf("it was not ready within %s: %s", proof.Within, why))
		case <-time.After(pause):
			pause = min(2*pause, most)
		}
	}
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

// ready tells whether a running container is ready now, and how that was seen.
func (d *Deployer) ready(ctx context.Context, c engine.State, proof plan.Proof, log <-chan struct{}, since time.Time) (bool, string) {
	switch {
	case proof.Log != "":
		select {
		case <-log:
			return true, ""
		default:
			return false, ""
		}
	case proof.Done:
		return false, "" // its end is waited for
	case proof.Command != nil || proof.Image:
		command := secret.Reveal(proof.Command)
		if proof.Image {
			command = c.Check
		}
		code, said, err := d.Engine.Run(ctx, c.ID, command)
		return err == nil && code == 0, said
	case proof.HTTP != "":
		for _, at := range d.dialPlaces(ctx, c, proof.Port) {
			// The first place that answers at all has decided. The others would say the same, later: the way over a published port can take seconds.
			if status, err := get(ctx, d.Engine.Conn.Port, proof.TLS, at, proof.HTTP); err == nil {
				if status < proof.StatusFirst || status > proof.StatusLast {
					return false, fmt.Sprintf("it answers with status %d", status)
				}
				return true, ", at " + at
			}
		}
		return false, ""
	case proof.Port > 0:
		at, ok := d.accepts(ctx, c, proof.Port)
		if !ok {
			return false, ""
		}
		return true, ", at " + at
	}
	return time.Since(since) >= steady, ", up without a restart"
}

// accepts tells whether something accepts connections on a container's port, and where that was seen. A refusal at its own address decides: in
// front of a published port an engine may accept whatever comes.
func (d *Deployer) accepts(ctx context.Context, c engine.State, port int) (at string, ok bool) {
	for _, at := range d.dialPlaces(ctx, c, port) {
		waiting, cancel := context.WithTimeout(ctx, 2*time.Second)
		conn, err := d.Engine.Conn.Port(waiting, at)
		cancel()
		if err == nil {
			conn.Close()
			return at, true
		}
		if errors.Is(err, syscall.ECONNREFUSED) {
			return at, false
		}
	}
	return "", false
}

// dialPlaces returns where a container's port may be reached from here: at its own addresses, then where it is published. One in the host's network is
// reached on loopback; one in another one's network like that one.
func (d *Deployer) dialPlaces(ctx context.Context, c engine.State, port int) []string {
	if id, ok := strings.CutPrefix(c.Container.Shares, "container:"); ok {
		partner, err := d.Engine.Inspect(ctx, id)
		if err != nil {
			return nil
		}
		c = partner
	}
	var places []string
	if c.Container.Mode == "host" {
		places = append(places, net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	}
	for _, a := range c.Addresses {
		places = append(places, net.JoinHostPort(a, strconv.Itoa(port)))
	}
	for _, p := range c.Container.Ports {
		if p.Container == port && p.Protocol == "tcp" && p.Host > 0 {
			address := p.Address
			if address == "" {
				address = "127.0.0.1"
			}
			places = append(places, net.JoinHostPort(address, strconv.Itoa(p.Host)))
		}
	}
	return places
}

// dialer makes connections to a host's ports.
type dialer func(ctx context.Context, address string) (net.Conn, error)

// fromHere dials as whoever runs lantern would.
func fromHere(ctx context.Context, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", address)
}

// get asks for a page and returns its status. Redirections are answers like others, and whether a certificate is valid is not the question.
func get(ctx context.Context, dial dialer, secure bool, at, path string) (int, error) {
	scheme := "http"
	if secure {
		scheme = "https"
	}
	transport := &http.Transport{DialContext: func(ctx context.Context, _, address string) (net.Conn, error) { return dial(ctx, address) }, DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}
	defer transport.CloseIdleConnections()
	c := http.Client{Timeout: 3 * time.Second, Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+at+path, nil)
	if err != nil {
		return 0, err
	}
	answer, err := c.Do(r)
	if err != nil {
		return 0, err
	}
	answer.Body.Close()
	return answer.StatusCode, nil
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
			// A log ends with its container; one that is started again writes on. Engines count since in whole seconds.
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

// notReady says what was waited for.
func notReady(p plan.Proof) string {
	switch {
	case p.Done:
		return "it has not ended without an error"
	case p.Command != nil:
		return fmt.Sprintf("the command %q does not end without an error", p.Command)
	case p.Image:
		return "the check that its image declares does not end without an error"
	case p.Log != "":
		return fmt.Sprintf("no line of its log matches %q", p.Log)
	case p.HTTP != "":
		return fmt.Sprintf("port %d gives no answer to %s with a status of %d to %d", p.Port, p.HTTP, p.StatusFirst, p.StatusLast)
	case p.Port > 0:
		return fmt.Sprintf("nothing accepts connections on its port %d", p.Port)
	}
	return "it was not up for 10 s without a restart"
}

// failed makes a failure of a service that did not become ready, with the end of its log.
func (d *Deployer) failed(ctx context.Context, stack, service, id, message string) *Failure {
	d.event(stack, service, StepProve, Failed, message)
	return d.withLog(ctx, id, &Failure{Service: service, Message: message})
}

func (d *Deployer) withLog(ctx context.Context, id string, f *Failure) *Failure {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	d.Engine.Log(ctx, id, time.Time{}, false, lastLines, func(line string) {
		f.Log = append(f.Log[max(0, len(f.Log)+1-lastLines):], clipped(line)) // also of an engine that does not count
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
	case strings.Contains(f.Message, "no such file or directory"), strings.Contains(f.Message, "source path does not exist"):
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

// ended says in words how a container ended (exit codes as shells and kernels give them: 128 and a signal's number).
func ended(c engine.State) string {
	code := strconv.Itoa(c.ExitCode)
	switch {
	case c.Error != "":
		return "could not start: " + c.Error
	case c.OOMKilled:
		return "was ended by the kernel: it used more memory than it may (exit code " + code + ")"
	case c.ExitCode == 0:
		return "ended by itself, without an error (exit code 0)"
	case c.ExitCode == 126:
		return "ended at once: its command may not be executed (exit code 126)"
	case c.ExitCode == 127:
		return "ended at once: its command is not in the image (exit code 127)"
	case c.ExitCode == 137:
		return "was killed, by somebody or for lack of memory (exit code 137)"
	case c.ExitCode == 143:
		return "was told to end (exit code 143)"
	case c.ExitCode > 128 && c.ExitCode < 160:
		return fmt.Sprintf("was ended by signal %d (exit code %s)", c.ExitCode-128, code)
	}
	return "ended with exit code " + code
}
