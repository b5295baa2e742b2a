package engine

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/plan"
)

// Size is how large a terminal is, in letters.
type Size struct{ Width, Height uint }

// Exec is a command that runs inside a container, with input and output of its own.
type Exec struct {
	Command    []string
	User       string // as whom; "" for the container's own user
	WorkingDir string // "" for the container's own
	Env        []string
	Terminal   bool // with a terminal of its own: Err gets nothing then

	In       io.Reader // nil: none
	Out, Err io.Writer
	Sizes    <-chan Size // of the terminal: the first one at once, then each change; nil without a terminal

	left bool // it is left alone when ctx ends
}

// Exec runs a command inside a container that runs, and returns its exit code: 126 or 127 for a program that
// cannot be run, or is not there. When ctx ends, the command is told to end (SIGINT) where that can be done, and
// its streams are closed.
func (e *Engine) Exec(ctx context.Context, id string, x Exec) (code int, err error) {
	o := client.ExecCreateOptions{
		Cmd: x.Command, User: x.User, WorkingDir: x.WorkingDir, Env: x.Env, TTY: x.Terminal,
		AttachStdin: x.In != nil, AttachStdout: true, AttachStderr: !x.Terminal,
	}
	a := client.ExecAttachOptions{TTY: x.Terminal}
	var made client.ExecCreateResult
	var stream client.ExecAttachResult
	err = e.call(ctx, "exec", 0, func(ctx context.Context) (err error) {
		if made, err = e.api.ExecCreate(ctx, id, o); err == nil {
			stream, err = e.api.ExecAttach(ctx, made.ID, a)
		}
		return err
	})
	if err != nil {
		return 0, err
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() {
		if !x.left {
			e.interrupt(context.WithoutCancel(ctx), id, made.ID)
		}
		stream.Close()
	})
	defer stop()
	if x.In != nil {
		go func() {
			io.Copy(stream.Conn, x.In)
			stream.CloseWrite()
		}()
	}
	ended := make(chan struct{})
	defer close(ended)
	if x.Sizes != nil {
		go e.resize(ctx, made.ID, x.Sizes, ended)
	}
	if x.Terminal {
		_, err = io.Copy(x.Out, stream.Reader)
	} else {
		err = apart(stream.Reader, x.Out, x.Err)
	}
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	if err != nil {
		return 0, explain("exec", err)
	}
	return e.exitCode(ctx, made.ID)
}

// resize passes sizes of the terminal on. A command that has just been started may not be there yet, and older
// engines take no size when they start it.
func (e *Engine) resize(ctx context.Context, exec string, sizes <-chan Size, ended <-chan struct{}) {
	for {
		select {
		case <-ended:
			return
		case <-ctx.Done():
			return
		case s := <-sizes:
			for range 20 {
				err := e.call(ctx, "exec", 0, func(ctx context.Context) error {
					_, err := e.api.ExecResize(ctx, exec, client.ExecResizeOptions{Height: s.Height, Width: s.Width})
					return err
				})
				if err == nil || ctx.Err() != nil {
					break
				}
				time.Sleep(50 * time.Millisecond)
			}
		}
	}
}

// exitCode waits until a command has ended whose output has.
func (e *Engine) exitCode(ctx context.Context, exec string) (int, error) {
	for ctx.Err() == nil {
		var done client.ExecInspectResult
		err := e.call(ctx, "exec", 0, func(ctx context.Context) (err error) {
			done, err = e.api.ExecInspect(ctx, exec, client.ExecInspectOptions{})
			return err
		})
		if err != nil || !done.Running {
			return done.ExitCode, err
		}
		time.Sleep(20 * time.Millisecond)
	}
	return 0, ctx.Err()
}

// interrupt tells a command to end. Engines have no call for that: its number inside is asked of the host, where
// its files can be read, and a shell of the container sends the signal.
func (e *Engine) interrupt(ctx context.Context, id, exec string) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if e.Conn.Files == nil {
		return
	}
	made, err := e.api.ExecInspect(ctx, exec, client.ExecInspectOptions{})
	if err != nil || !made.Running || made.PID <= 0 {
		return
	}
	status, err := e.Conn.Files.Read("/proc/"+strconv.Itoa(made.PID)+"/status", 1<<20)
	if err != nil {
		return
	}
	for line := range strings.Lines(string(status)) {
		if numbers, ok := strings.CutPrefix(line, "NSpid:"); ok {
			all := strings.Fields(numbers)
			e.Run(ctx, id, []string{"sh", "-c", "kill -INT " + all[len(all)-1]})
		}
	}
}

// apart writes what a command says to its two streams, which engines send in frames (see [unframed]).
func apart(from io.Reader, out, errs io.Writer) error {
	for {
		var head [8]byte
		if _, err := io.ReadFull(from, head[:]); err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return nil
			}
			return err
		}
		to := out
		switch {
		case head[0] > 3:
			return errors.New("the engine sends an output that has not the form of one")
		case head[0] == stderrStream:
			to = errs
		}
		if _, err := io.CopyN(to, from, int64(binary.BigEndian.Uint32(head[4:]))); err != nil {
			return err
		}
	}
}

// shells are the programs that a person may work in, the best first.
var shells = []string{"bash", "ash", "sh"}

// Shell returns the best shell that a container has; "" for none.
func (e *Engine) Shell(ctx context.Context, id string) (string, error) {
	for _, name := range shells {
		for _, folder := range []string{"/bin", "/usr/bin", "/usr/local/bin"} {
			place := path.Join(folder, name)
			stat, err := e.statPath(ctx, id, place)
			if err != nil {
				return "", err
			}
			if stat != nil && !stat.Mode.IsDir() {
				return place, nil
			}
		}
	}
	return "", nil
}

// helperLives is how long a helper lives at most, should nobody be left who removes it.
const helperLives = 12 * time.Hour

// Helper starts a container of another image beside one that runs: in its network, and among its processes, whose
// files it may read below /proc/1/root. It has to be removed; it also ends by itself after a while, and goes.
func (e *Engine) Helper(ctx context.Context, name, image, beside string, labels map[string]string) (string, error) {
	o, err := e.neverStarted(ctx, name, image, labels)
	if err != nil {
		return "", err
	}
	o.Config.Entrypoint = []string{"sh", "-c", "sleep " + strconv.Itoa(int(helperLives.Seconds()))}
	o.Config.User = "0"
	o.HostConfig.PidMode = container.PidMode("container:" + beside)
	o.HostConfig.NetworkMode = container.NetworkMode("container:" + beside)
	o.HostConfig.CapAdd = []string{"SYS_PTRACE"} // without it the files of processes of other users stay closed
	o.HostConfig.AutoRemove = true
	id, err := e.create(ctx, o, o.Config.Labels[plan.LabelMade])
	if err != nil {
		return "", err
	}
	if err := e.Start(ctx, id); err != nil {
		return "", errors.Join(err, e.Remove(context.WithoutCancel(ctx), id))
	}
	return id, nil
}
