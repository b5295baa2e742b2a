// Package helper is lantern's own program on a machine that is reached through its engine only: in a container that sees
// the folders that it needs, and nothing else. It is asked by HTTP/2 over its input and output, as cmd/lantern has it.
package helper

import (
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/host"
	"proudlantern.example/lantern/hostconn"
)

// Argument is the word by which the program becomes a helper. It is no command: it does nothing outside of a helper's
// container.
const Argument = "as-helper"

// inContainer is the variable that tells the program that it is in that container.
const inContainer = "LANTERN_HELPER"

// Asked reports whether the program was started as a helper.
func Asked(args []string) bool {
	return len(args) == 1 && args[0] == Argument && os.Getenv(inContainer) != ""
}

// Serve answers until its input ends.
func Serve(in io.Reader, out io.Writer, version string) error {
	conn := &stdio{Reader: in, Writer: out, ended: make(chan struct{})}
	var protocols http.Protocols
	protocols.SetUnencryptedHTTP2(true)
	s := &http.Server{Handler: handler(version), Protocols: &protocols, ReadHeaderTimeout: time.Minute}
	err := s.Serve(&single{conn: conn})
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// stdio is a connection of the program's input and output.
type stdio struct {
	io.Reader
	io.Writer
	once  sync.Once
	ended chan struct{}
}

func (s *stdio) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p)
	if err != nil {
		s.Close()
	}
	return n, err
}

func (s *stdio) Close() error {
	s.once.Do(func() { close(s.ended) })
	return nil
}

func (s *stdio) LocalAddr() net.Addr              { return &net.UnixAddr{Name: "stdio", Net: "unix"} }
func (s *stdio) RemoteAddr() net.Addr             { return s.LocalAddr() }
func (s *stdio) SetDeadline(time.Time) error      { return nil }
func (s *stdio) SetReadDeadline(time.Time) error  { return nil }
func (s *stdio) SetWriteDeadline(time.Time) error { return nil }

// single is a listener of one connection.
type single struct {
	conn *stdio
	gave bool
}

func (s *single) Accept() (net.Conn, error) {
	if !s.gave {
		s.gave = true
		return s.conn, nil
	}
	<-s.conn.ended
	return nil, io.EOF
}

func (s *single) Close() error   { return nil }
func (s *single) Addr() net.Addr { return s.conn.LocalAddr() }

// The questions. Each is a JSON document with an answer that is one; those of streams have them beside the stream.
const (
	askLook     = "/look"
	askCarry    = "/carry"
	askUndo     = "/undo"
	askThere    = "/there"
	askDial     = "/dial"
	askMake     = "/make"
	askPack     = "/pack"
	askUnpack   = "/unpack"
	askBegin    = "/begin"
	askExchange = "/exchange"
	askRemove   = "/remove"
)

type packQuestion struct {
	Place string   `json:"place"`
	Skip  []string `json:"skip"`
}

type unpackQuestion struct {
	Roots   int            `json:"roots"`
	Places  map[int]string `json:"places"`
	Special bool           `json:"special"`
}

// step is a line of the answer to a step of a preparation: what will be done, or that all is done.
type step struct {
	Note *folders.Note `json:"note,omitempty"`
	Done bool          `json:"done,omitempty"`
	Err  *wireError    `json:"error,omitempty"`
}

// Of questions beside a stream, of errors behind one, and of which program answers.
const (
	questionHeader = "Lantern-Question"
	errorTrailer   = "Lantern-Error"
	versionHeader  = "Lantern-Version"
)

func handler(version string) http.Handler {
	here := folders.Here{}
	mux := http.NewServeMux()
	mux.HandleFunc("POST "+askLook, asked(func(_ *http.Request, paths []string) ([]survey.Path, error) {
		return lookAt(paths), nil
	}))
	mux.HandleFunc("POST "+askUndo, asked(func(r *http.Request, n folders.Note) (struct{}, error) {
		return struct{}{}, here.Undo(r.Context(), n)
	}))
	mux.HandleFunc("POST "+askThere, asked(func(r *http.Request, paths []string) ([]bool, error) { return here.There(r.Context(), paths) }))
	mux.HandleFunc("POST "+askMake, asked(func(r *http.Request, list []folders.Folder) (struct{}, error) {
		return struct{}{}, here.Make(r.Context(), list)
	}))
	mux.HandleFunc("POST "+askBegin, asked(func(r *http.Request, places []folders.Wanted) ([]*folders.Swap, error) {
		return here.Begin(r.Context(), places)
	}))
	mux.HandleFunc("POST "+askExchange, asked(func(r *http.Request, swaps []*folders.Swap) ([]*folders.Swap, error) {
		return swaps, here.Exchange(r.Context(), swaps)
	}))
	mux.HandleFunc("POST "+askRemove, asked(func(r *http.Request, paths []string) (struct{}, error) {
		return struct{}{}, here.Remove(r.Context(), paths)
	}))
	mux.HandleFunc("POST "+askCarry, carry)
	mux.HandleFunc("POST "+askPack, pack)
	mux.HandleFunc("POST "+askUnpack, unpack)
	mux.HandleFunc("POST "+askDial, dial)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(versionHeader, version)
		mux.ServeHTTP(w, r)
	})
}

// answer is what a question gets. With an error there may be a value, too: how far it went.
type answer[A any] struct {
	Value A          `json:"value"`
	Err   *wireError `json:"error,omitempty"`
}

func asked[Q, A any](do func(*http.Request, Q) (A, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var q Q
		if err := json.NewDecoder(r.Body).Decode(&q); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		value, err := do(r, q)
		json.NewEncoder(w).Encode(answer[A]{value, wired(err)})
	}
}

// lookAt looks at paths. A link that leads out of what is seen here leads to something that is not known.
func lookAt(paths []string) []survey.Path {
	seen := host.LookAt(hostconn.Local, paths)
	for i, p := range seen {
		if p.Kind != survey.Missing {
			continue
		}
		if _, err := os.Lstat(p.Path); err == nil {
			seen[i] = survey.Path{Path: p.Path, Kind: survey.Hidden}
		}
	}
	return seen
}

// carry carries out a step. Each note goes out, and what it is about is done once its answer has come.
func carry(w http.ResponseWriter, r *http.Request) {
	in, out := json.NewDecoder(r.Body), json.NewEncoder(w)
	flush := http.NewResponseController(w).Flush
	var s prepare.Step
	if err := in.Decode(&s); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	err := folders.Here{}.Carry(r.Context(), s, func(n folders.Note) error {
		if err := errors.Join(out.Encode(step{Note: &n}), flush()); err != nil {
			return err
		}
		var written bool
		if err := in.Decode(&written); err != nil || !written {
			return errors.Join(errors.New("it was not written down"), err)
		}
		return nil
	})
	out.Encode(step{Done: true, Err: wired(err)})
}

func pack(w http.ResponseWriter, r *http.Request) {
	var q packQuestion
	if err := json.NewDecoder(r.Body).Decode(&q); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	err := backup.PackTo(r.Context(), w, q.Place, q.Skip)
	if text, wrong := json.Marshal(wired(err)); err != nil && wrong == nil {
		w.Header().Set(http.TrailerPrefix+errorTrailer, string(text))
	}
}

func unpack(w http.ResponseWriter, r *http.Request) {
	var q unpackQuestion
	if err := json.Unmarshal([]byte(r.Header.Get(questionHeader)), &q); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	u := &backup.Unpacking{Owners: true, Special: q.Special, Place: func(n int) string { return q.Places[n] }}
	err := backup.UnpackFrom(r.Context(), r.Body, q.Roots, u)
	json.NewEncoder(w).Encode(answer[[]string]{u.Notes, wired(err)})
}

// dials is how long a connection is waited for.
const dials = 10 * time.Second

// dial is a connection to an address: what is sent to it is the body of the question, what comes that of the answer.
func dial(w http.ResponseWriter, r *http.Request) {
	var address string
	if err := json.Unmarshal([]byte(r.Header.Get(questionHeader)), &address); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	conn, err := (&net.Dialer{Timeout: dials}).DialContext(r.Context(), "tcp", address)
	if text, wrong := json.Marshal(wired(err)); err != nil && wrong == nil {
		w.Header().Set(errorTrailer, string(text))
		return
	}
	defer conn.Close()
	flush := http.NewResponseController(w).Flush
	w.WriteHeader(http.StatusOK)
	if flush() != nil {
		return
	}
	go func() {
		io.Copy(conn, r.Body)
		conn.Close()
	}()
	buffer := make([]byte, 32<<10)
	for {
		n, err := conn.Read(buffer)
		if n > 0 {
			if _, lost := w.Write(buffer[:n]); lost != nil || flush() != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}
