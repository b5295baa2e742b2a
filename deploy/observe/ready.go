package observe

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/engine"
)

// Steady is how long a service that declares no ready has to be up without a restart.
const Steady = 10 * time.Second

// CompletedJob reports whether a container is a job that has done its work: ended without an error, and not to
// be started again.
func CompletedJob(c engine.State) bool {
	policy := c.Labels[plan.LabelRestart]
	return !c.Running && c.Status == "exited" && c.ExitCode == 0 &&
		(policy == "no" || strings.HasPrefix(policy, "on-failure"))
}

// Ready reports whether a running container is ready now, and how that was seen.
func (o *Observer) Ready(ctx context.Context, c engine.State, proof plan.Proof, log <-chan struct{},
	since time.Time) (bool, string) {
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
		code, said, err := o.Engine.Run(ctx, c.ID, command)
		return err == nil && code == 0, said
	case proof.HTTP != "":
		a := o.Ask(ctx, c, proof.TLS, proof.Port, proof.HTTP)
		switch {
		case a.Unasked:
			return a.Listens, a.How
		case a.Status == 0:
			return false, ""
		case a.Status < proof.StatusFirst || a.Status > proof.StatusLast:
			return false, fmt.Sprintf("returned %d", a.Status)
		}
		return true, ", at " + a.At
	case proof.Port > 0:
		at, ok := o.accepts(ctx, c, proof.Port)
		if !ok {
			return false, ""
		}
		return true, ", at " + at
	}
	return time.Since(since) >= Steady, ", up without a restart"
}

// NotReady says what was waited for, and what was seen instead, if that is known.
func NotReady(p plan.Proof, seen string) string {
	if p.HTTP != "" && p.Log == "" && p.Command == nil && !p.Image && !p.Done {
		return fmt.Sprintf("port %d %s %s; expected %d-%d",
			p.Port, p.HTTP, cmp.Or(seen, "gave no answer"), p.StatusFirst, p.StatusLast)
	}
	what := "it was not up for 10 s without a restart"
	switch {
	case p.Done:
		what = "it has not ended without an error"
	case p.Command != nil:
		what = fmt.Sprintf("the command %q does not end without an error", p.Command)
	case p.Image:
		what = "the check that its image declares does not end without an error"
	case p.Log != "":
		what = fmt.Sprintf("no line of its log matches %q", p.Log)
	case p.Port > 0:
		what = fmt.Sprintf("nothing accepts connections on its port %d", p.Port)
	}
	if seen != "" {
		what += ": " + seen
	}
	return what
}

// HowEnded says in words how a container ended (exit codes as shells and kernels give them: 128 and a
// signal's number).
func HowEnded(c engine.State) string {
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
