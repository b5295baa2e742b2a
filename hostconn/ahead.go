package hostconn

import (
	"sync"

	"golang.org/x/sync/errgroup"
)

// Ahead remembers what was asked of the files of a host, and can ask much at the same time: on the way to another machine
// each answer takes as long as all of them.
type Ahead struct {
	Files

	mu    sync.Mutex
	asked map[question]func() (any, error)
}

// question is a call and what it was asked.
type question struct {
	call, path string
	most       int64
}

// NewAhead returns files that remember their answers: for one look at a host.
func NewAhead(from Files) *Ahead {
	return &Ahead{Files: from, asked: map[question]func() (any, error){}}
}

// atOnce is how many questions are on their way at the same time.
const atOnce = 64

// Ask asks all of these at the same time, and waits for the answers.
func (a *Ahead) Ask(questions ...func()) {
	var work errgroup.Group
	work.SetLimit(atOnce)
	for _, ask := range questions {
		work.Go(func() error {
			ask()
			return nil
		})
	}
	work.Wait()
}

// once asks a question, or waits for the answer to it that is on its way.
func once[T any](a *Ahead, q question, ask func() (T, error)) (T, error) {
	a.mu.Lock()
	answer := a.asked[q]
	if answer == nil {
		answer = sync.OnceValues(func() (any, error) { return ask() })
		a.asked[q] = answer
	}
	a.mu.Unlock()
	value, err := answer()
	return value.(T), err
}

func (a *Ahead) Stat(path string) (Info, error) {
	return once(a, question{call: "stat", path: path}, func() (Info, error) { return a.Files.Stat(path) })
}

func (a *Ahead) Lstat(path string) (Info, error) {
	return once(a, question{call: "lstat", path: path}, func() (Info, error) { return a.Files.Lstat(path) })
}

func (a *Ahead) Real(path string) (string, error) {
	return once(a, question{call: "real", path: path}, func() (string, error) { return a.Files.Real(path) })
}

func (a *Ahead) Link(path string) (string, error) {
	return once(a, question{call: "link", path: path}, func() (string, error) { return a.Files.Link(path) })
}

func (a *Ahead) Names(path string, most int) ([]string, error) {
	return once(a, question{"names", path, int64(most)}, func() ([]string, error) { return a.Files.Names(path, most) })
}

func (a *Ahead) Read(path string, most int64) ([]byte, error) {
	return once(a, question{"read", path, most}, func() ([]byte, error) { return a.Files.Read(path, most) })
}

func (a *Ahead) Space(path string) (size, free int64, err error) {
	is, err := once(a, question{call: "space", path: path}, func() ([2]int64, error) {
		size, free, err := a.Files.Space(path)
		return [2]int64{size, free}, err
	})
	return is[0], is[1], err
}

// proc is a folder that shows processes, see [Files].
type proc struct {
	folder string
	done   func()
}

func (a *Ahead) Proc() (folder string, done func(), err error) {
	p, err := once(a, question{call: "proc"}, func() (proc, error) {
		folder, done, err := a.Files.Proc()
		return proc{folder, done}, err
	})
	return p.folder, func() {}, err
}

// Close gives back what was remembered.
func (a *Ahead) Close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if answer := a.asked[question{call: "proc"}]; answer != nil {
		if p, err := answer(); err == nil {
			p.(proc).done()
		}
	}
}
