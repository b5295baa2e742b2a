//go:build linux

package enginetest

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"sync"
	"time"
)

// Fault is what goes wrong at a call.
type Fault string

const (
	// None lets every call through.
	None Fault = ""
	// Refuses answers with an error and carries nothing out.
	Refuses Fault = "refuses"
	// Cuts carries the call out, but the connection breaks before the answer.
	Cuts Fault = "cuts"
	// Hangs carries the call out and never answers.
	Hangs Fault = "hangs"
	// Late never answers, and carries the call out some time after the caller has given up.
	Late Fault = "carried out late"
	// Slow answers late.
	Slow Fault = "slow"
	// Dies carries the call out, and then nothing is heard any more: as if the caller had died.
	Dies Fault = "dies"
)

// late is how long a slow call takes, and how long after its end one is carried out that was given up.
const late = 300 * time.Millisecond

// Faults lets calls that change something go wrong, as ordered. It can stand in front of any engine.
type Faults struct {
	// OnCut is called where a connection breaks, after the call was carried out; nil: nothing more happens.
	OnCut func()

	mu      sync.Mutex
	changes int
	at      int
	fault   Fault
	then    int // a death after that many further changes; 0: none
	shut    bool
}

// Order lets the n-th change from now on go wrong, and counts again. With 0 nothing goes wrong any more.
func (f *Faults) Order(n int, fault Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.changes, f.at, f.fault, f.then, f.shut = 0, n, fault, 0, false
}

// OrderTwo lets the n-th change from now on go wrong, and the one that comes later by then be the last that
// anybody hears of.
func (f *Faults) OrderTwo(n int, fault Fault, then int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.changes, f.at, f.fault, f.then, f.shut = 0, n, fault, then, false
}

// Changes returns how many calls that change something came since the last order.
func (f *Faults) Changes() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.changes
}

// judge decides about a call.
func (f *Faults) judge(r *http.Request) Fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.shut {
		return Dies
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return None
	}
	f.changes++
	if f.then > 0 && f.changes == f.at+f.then {
		f.shut = true
		return None
	}
	if f.changes != f.at {
		return None
	}
	if f.fault == Dies {
		f.shut = true
		return None
	}
	return f.fault
}

// Before puts the faults in front of an engine.
func (f *Faults) Before(engine http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch f.judge(r) {
		case Refuses:
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusInternalServerError)
			w.Write([]byte(`{"message":"the lamp is out"}`))
		case Cuts:
			engine.ServeHTTP(&nowhere{http.Header{}}, r)
			f.cut()
			panic(http.ErrAbortHandler)
		case Hangs:
			engine.ServeHTTP(&nowhere{http.Header{}}, r)
			<-r.Context().Done()
			panic(http.ErrAbortHandler)
		case Late:
			body, _ := io.ReadAll(r.Body)
			<-r.Context().Done()
			time.Sleep(late)
			again := r.Clone(context.WithoutCancel(r.Context()))
			again.Body = io.NopCloser(bytes.NewReader(body))
			engine.ServeHTTP(&nowhere{http.Header{}}, again)
			panic(http.ErrAbortHandler)
		case Slow:
			time.Sleep(late)
			engine.ServeHTTP(w, r)
		case Dies:
			f.cut()
			panic(http.ErrAbortHandler)
		default:
			engine.ServeHTTP(w, r)
		}
	})
}

func (f *Faults) cut() {
	if f.OnCut != nil {
		f.OnCut()
	}
}

// nowhere takes an answer that no caller gets.
type nowhere struct{ header http.Header }

func (n *nowhere) Header() http.Header         { return n.header }
func (n *nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (n *nowhere) WriteHeader(int)             {}
