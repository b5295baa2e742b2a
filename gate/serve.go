package gate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/crypto/acme"

	"proudlantern.example/lantern/core/lab"
)

// Argument makes the program a gate, or what talks with one inside of its container.
const Argument = "as-gate"

// Asked reports whether the program is to be a gate: its image says so.
func Asked(args []string) bool {
	return len(args) > 0 && args[0] == Argument && os.Getenv(Environment) != ""
}

// Environment is set in the image of a gate.
const Environment = "LANTERN_GATE"

// socket is where a gate is told what leads where.
func socket(folder string) string { return filepath.Join(folder, "control") }

// Main is the program of a gate's container: serve by default; ready ends without an error once that answers; talk passes
// standard input and output on to it.
func Main(args []string, in io.Reader, out io.Writer, version string) error {
	switch word := append(args, "", "")[1]; word {
	case "", "serve":
		ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
		defer stop()
		return serve(ctx, lab.GateState, version, out)
	case "ready":
		client := NewClient(dialSocket)
		defer client.Close()
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_, err := client.Report(ctx)
		return err
	case "talk":
		conn, err := dialSocket(context.Background())
		if err != nil {
			return err
		}
		defer conn.Close()
		go func() {
			io.Copy(conn, in)
			conn.(*net.UnixConn).CloseWrite()
		}()
		_, err = io.Copy(out, conn)
		return err
	default:
		return fmt.Errorf("%q is nothing that a gate does", word)
	}
}

func dialSocket(ctx context.Context) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, "unix", socket(lab.GateState))
}

// gatherAt is how much garbage a gate lets come about, in percent of what it holds: less than usual, as it is there all the
// time and mostly has little to do. A limit in bytes would keep it gathering while many are connected.
const gatherAt = 50

func serve(ctx context.Context, folder, version string, log io.Writer) error {
	debug.SetGCPercent(gatherAt)
	signal.Ignore(syscall.SIGPIPE)
	o := Options{Folder: folder, Log: log, Authority: acme.LetsEncryptURL}
	var err error
	for _, l := range []struct {
		into *net.Listener
		port int
	}{{&o.HTTP, lab.GateHTTP}, {&o.HTTPS, lab.GateHTTPS}} {
		if *l.into, err = net.Listen("tcp", ":"+strconv.Itoa(l.port)); err != nil {
			return err
		}
	}
	g, err := New(o)
	if err != nil {
		return err
	}
	os.Remove(socket(folder)) // of the time before
	control, err := net.Listen("unix", socket(folder))
	if err != nil {
		return err
	}
	if err := os.Chmod(socket(folder), 0o600); err != nil {
		return err
	}
	server := &http.Server{Handler: g.Control(version), ReadHeaderTimeout: headersWithin}
	go server.Serve(control)
	defer server.Close()
	g.log.note("info", "the gate is open", "version", version)
	if err := g.Serve(ctx); err != nil && !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
