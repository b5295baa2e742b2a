package helper

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/folders"
)

// Helper is one that runs.
type Helper struct {
	conn    net.Conn
	http    http.Client
	release func()   // lets go of the connection
	version string   // that it has to be of
	tops    []string // what it sees lies in them
}

var _ folders.Worker = (*Helper)(nil)

// What a helper may do beyond somebody without any rights (capabilities(7)).
var (
	reading = []string{"DAC_READ_SEARCH"}
	writing = []string{"DAC_READ_SEARCH", "DAC_OVERRIDE", "CHOWN", "FOWNER", "FSETID", "SETFCAP"}
)

// Start starts a helper that sees the folders at the top of some paths, and may change what lies in others. The program is
// given to the engine where it has not got it.
func Start(ctx context.Context, e *engine.Engine, version, platform string, sees, changes []string) (*Helper, error) {
	image, err := loaded(ctx, e, platform)
	if err != nil {
		return nil, err
	}
	a := engine.Attached{
		Name: "lantern-helper-" + strings.ToLower(rand.Text()[:8]), Image: image, Command: []string{programPath, Argument},
		Labels: map[string]string{label: version}, Capabilities: reading,
	}
	if len(changes) > 0 {
		a.Writable, a.Capabilities = outermost(changes), writing
	}
	all := tops(sees)
	a.ReadOnly = slices.DeleteFunc(slices.Clone(all), func(top string) bool {
		if slices.Contains(a.Writable, top) {
			return true
		}
		_, err := e.Conn.Files.Stat(top)
		return errors.Is(err, fs.ErrNotExist) // and nothing below it is there
	})
	conn, err := e.Attach(ctx, a)
	if err != nil {
		return nil, err
	}
	h := over(conn, version)
	h.tops = all
	return h, nil
}

// Beside starts a helper that sees nothing, in the network of a container.
func Beside(ctx context.Context, e *engine.Engine, version, platform, container string) (*Helper, error) {
	image, err := loaded(ctx, e, platform)
	if err != nil {
		return nil, err
	}
	conn, err := e.Attach(ctx, engine.Attached{
		Name: "lantern-helper-" + strings.ToLower(rand.Text()[:8]), Image: image, Command: []string{programPath, Argument},
		Labels: map[string]string{label: version}, NetworkOf: container,
	})
	if err != nil {
		return nil, err
	}
	return over(conn, version), nil
}

// Dial makes a connection to an address as the helper reaches it.
func (h *Helper) Dial(ctx context.Context, address string) (net.Conn, error) {
	body, in := io.Pipe()
	a, err := post(ctx, h, askDial, address, body)
	if err != nil {
		in.Close()
		return nil, err
	}
	if err := behind(a.Header.Get(errorTrailer)); err != nil {
		in.Close()
		a.Body.Close()
		return nil, err
	}
	return &tunnel{stdio: stdio{Reader: a.Body, Writer: in, ended: make(chan struct{})}, answer: a.Body, in: in}, nil
}

// tunnel is a connection through a helper.
type tunnel struct {
	stdio
	answer io.Closer
	in     io.Closer
}

func (t *tunnel) Close() error { return errors.Join(t.in.Close(), t.answer.Close()) }

// over asks a helper by a connection.
func over(conn net.Conn, version string) *Helper {
	var protocols http.Protocols
	protocols.SetUnencryptedHTTP2(true)
	var once sync.Once
	transport := &http.Transport{
		Protocols: &protocols,
		DialContext: func(context.Context, string, string) (c net.Conn, err error) {
			err = errors.New("the helper has ended")
			once.Do(func() { c, err = conn, nil })
			return c, err
		},
	}
	return &Helper{conn: conn, http: http.Client{Transport: transport}, release: transport.CloseIdleConnections, version: version}
}

// Close ends the helper, and removes it.
func (h *Helper) Close() error {
	h.release()
	return h.conn.Close()
}

// outermost leaves out what lies in others of them.
func outermost(paths []string) []string {
	var all []string
	for _, p := range slices.Sorted(slices.Values(paths)) {
		if !slices.ContainsFunc(all, func(o string) bool { return declare.Below(p, o) }) {
			all = append(all, p)
		}
	}
	return all
}

// tops are the folders right below / that paths lie in, so that all folders on the way to them are seen as they are. Those
// that every container has of its own are left out.
func tops(paths []string) []string {
	var all []string
	for _, p := range paths {
		if !path.IsAbs(p) {
			continue // where something is that has no place yet
		}
		first, _, _ := strings.Cut(strings.TrimPrefix(path.Clean(p), "/"), "/")
		top := "/" + first
		if !slices.Contains([]string{"/", "/proc", "/sys", "/dev"}, top) && !slices.Contains(all, top) {
			all = append(all, top)
		}
	}
	slices.Sort(all)
	return all
}

func post(ctx context.Context, h *Helper, what string, question any, body io.Reader) (*http.Response, error) {
	if body == nil {
		text, err := json.Marshal(question)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://helper"+what, body)
	if err != nil {
		return nil, err
	}
	if what == askUnpack || what == askDial {
		text, err := json.Marshal(question)
		if err != nil {
			return nil, err
		}
		r.Header.Set(questionHeader, string(text))
	}
	a, err := h.http.Do(r)
	if err != nil {
		return nil, fmt.Errorf("the helper does not answer: %w", err)
	}
	if there := a.Header.Get(versionHeader); there != h.version {
		a.Body.Close()
		return nil, fmt.Errorf("the helper is of lantern %q, and this is %q", there, h.version)
	}
	if a.StatusCode != http.StatusOK {
		defer a.Body.Close()
		text, _ := io.ReadAll(io.LimitReader(a.Body, 300))
		return nil, fmt.Errorf("the helper does not understand: %s", text)
	}
	return a, nil
}

// mostAnswer is how much of an answer is read, in bytes; a file of the host that is read may be the largest.
const mostAnswer = 64 << 20

func ask[Q, A any](ctx context.Context, h *Helper, what string, question Q) (value A, err error) {
	a, err := post(ctx, h, what, question, nil)
	if err != nil {
		return value, err
	}
	return read[A](a)
}

func read[A any](a *http.Response) (value A, err error) {
	defer a.Body.Close()
	var got answer[A]
	if err := json.NewDecoder(io.LimitReader(a.Body, mostAnswer)).Decode(&got); err != nil {
		return value, fmt.Errorf("the helper does not answer: %w", err)
	}
	return got.Value, got.Err.err()
}

// Carry carries out one step of a preparation.
func (h *Helper) Carry(ctx context.Context, s prepare.Step, write func(folders.Note) error) error {
	body, in := io.Pipe()
	defer in.Close()
	to := json.NewEncoder(in)
	go func() {
		if err := to.Encode(s); err != nil {
			in.CloseWithError(err)
		}
	}()
	a, err := post(ctx, h, askCarry, nil, body)
	if err != nil {
		return err
	}
	defer a.Body.Close()
	for from := json.NewDecoder(a.Body); ; {
		var line step
		if err := from.Decode(&line); err != nil {
			return fmt.Errorf("the helper does not answer: %w", err)
		}
		if line.Done {
			return line.Err.err()
		}
		if line.Note == nil {
			return errors.New("the helper does not say what it does")
		}
		if err := write(*line.Note); err != nil {
			return err
		}
		if err := to.Encode(true); err != nil {
			return err
		}
	}
}

// Undo brings back what was before a change.
func (h *Helper) Undo(ctx context.Context, n folders.Note) error {
	_, err := ask[folders.Note, struct{}](ctx, h, askUndo, n)
	return err
}

// There reports for each path whether something is there.
func (h *Helper) There(ctx context.Context, paths []string) ([]bool, error) {
	there, err := ask[[]string, []bool](ctx, h, askThere, paths)
	if err == nil && len(there) != len(paths) {
		err = errors.New("the helper answers to something else")
	}
	return there, err
}

// Make makes folders, and those above them that are missing.
func (h *Helper) Make(ctx context.Context, list []folders.Folder) error {
	_, err := ask[[]folders.Folder, struct{}](ctx, h, askMake, list)
	return err
}

// Pack adds all that is at a place to a backup.
func (h *Helper) Pack(ctx context.Context, to *backup.Writer, n int, place string) error {
	a, err := post(ctx, h, askPack, packQuestion{place, to.Skip}, nil)
	if err != nil {
		return err
	}
	defer a.Body.Close()
	err = to.Packed(ctx, n, a.Body)
	io.Copy(io.Discard, io.LimitReader(a.Body, mostAnswer)) // the trailer stands behind it
	return errors.Join(behind(a.Trailer.Get(errorTrailer)), err)
}

// Unpack makes roots of a backup anew.
func (h *Helper) Unpack(ctx context.Context, from *backup.Reader, u *backup.Unpacking, places map[int]string) error {
	body, to := io.Pipe()
	poured := make(chan error, 1)
	go func() {
		err := from.Pour(ctx, to, func(n int) bool { return places[n] != "" })
		to.CloseWithError(err)
		poured <- err
	}()
	a, err := post(ctx, h, askUnpack, unpackQuestion{len(from.About.Roots), places, u.Special}, body)
	var notes []string
	if err == nil {
		notes, err = read[[]string](a)
	}
	body.CloseWithError(io.ErrClosedPipe) // it may not have been read to its end
	u.Notes = append(u.Notes, notes...)
	if lost := <-poured; lost != nil && !errors.Is(lost, io.ErrClosedPipe) {
		return lost
	}
	return err
}

// Begin makes ready for something to be made beside places.
func (h *Helper) Begin(ctx context.Context, places []folders.Wanted) ([]*folders.Swap, error) {
	return ask[[]folders.Wanted, []*folders.Swap](ctx, h, askBegin, places)
}

// Exchange exchanges all of them, or none.
func (h *Helper) Exchange(ctx context.Context, swaps []*folders.Swap) error {
	now, err := ask[[]*folders.Swap, []*folders.Swap](ctx, h, askExchange, swaps)
	for i := range min(len(now), len(swaps)) {
		*swaps[i] = *now[i]
	}
	return err
}

// Remove removes what a restore has made or kept.
func (h *Helper) Remove(ctx context.Context, paths []string) error {
	_, err := ask[[]string, struct{}](ctx, h, askRemove, paths)
	return err
}

// Look returns what stands at paths, their parents and where links lead, as root sees it, with access control lists. What
// the helper does not see is left out.
func (h *Helper) Look(ctx context.Context, paths []string) ([]survey.Path, error) {
	seen, err := ask[[]string, []survey.Path](ctx, h, askLook, paths)
	return slices.DeleteFunc(seen, func(p survey.Path) bool {
		return !slices.ContainsFunc(h.tops, func(top string) bool { return declare.Below(p.Path, top) })
	}), err
}
