package app

import (
	"context"
	"os"
	"sync"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/host"
	"proudlantern.example/lantern/labdir"
)

// Surveyor returns a workspace with what is true of its hosts now.
type Surveyor func(*Workspace) (*Workspace, error)

// Survey looks at the hosts of the lab, or at one, all at once. An engine that does not answer is no error
// here: the survey then holds what is known without it.
func (w *Workspace) Survey(ctx context.Context, only string) *Workspace {
	var mu sync.Mutex
	var wait sync.WaitGroup
	other := *w
	other.Surveys, other.Unreached = map[string]*survey.Survey{}, map[string]error{}
	for _, h := range w.HostsOf(only) {
		wait.Go(func() {
			s, err := host.Survey(ctx, h, w.logins, func(first *survey.Survey) survey.Ask {
				mu.Lock() // resolving marks secrets in the files, which all hosts share
				defer mu.Unlock()
				return w.ask(first)
			})
			mu.Lock()
			defer mu.Unlock()
			other.Surveys[h.Name] = s
			if err != nil {
				other.Unreached[h.Name] = err
			}
		})
	}
	wait.Wait()
	return other.resolved()
}

// SurveyClosely looks at the hosts, and more closely where a check has to know more: see lookCloser.
func (w *Workspace) SurveyClosely(ctx context.Context, only string) *Workspace {
	w = w.Survey(ctx, only)
	return w.lookCloser(ctx, w.undecided)
}

// ask works out what the lab wants to know of a host of which only accounts and zone are known so far.
func (w *Workspace) ask(first *survey.Survey) survey.Ask {
	l := lab.Resolve(w.decl, lab.Input{
		Folder:  w.Dir,
		Shell:   os.LookupEnv,
		Surveys: map[string]*survey.Survey{first.Host: first},
	})
	return l.Ask(l.Host(first.Host))
}

// mostSurvey is the largest survey that is read, in bytes: one of a host with ten thousand containers has
// some ten million.
const mostSurvey = 64 << 20

// WithSurveys takes saved surveys in place of a look at the hosts.
func (w *Workspace) WithSurveys(files []string) (*Workspace, error) {
	other := *w
	other.Surveys = map[string]*survey.Survey{}
	for _, file := range files {
		text, err := labdir.ReadAny(file, mostSurvey)
		if err != nil {
			return nil, usage("the survey %s cannot be read: %s", file, labdir.InWords(err))
		}
		s, err := survey.Parse([]byte(text))
		if err != nil {
			return nil, usage("%s: %s", file, err)
		}
		if w.Host(s.Host) == nil {
			return nil, usage("%s is a survey of %s, and the lab has no such host", file, s.Host)
		}
		other.Surveys[s.Host] = s
	}
	return other.resolved(), nil
}

// AllReached returns what keeps the first host from being reached that a survey could not see wholly; nil
// where all answered.
func (w *Workspace) AllReached() error {
	for _, h := range w.Hosts {
		if err := w.Unreached[h.Name]; err != nil {
			return unreachable(h.Name, err)
		}
	}
	return nil
}
