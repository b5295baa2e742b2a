package hostconn

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/internal/system"
)

// Unreachable tells that no engine answers at an address.
type Unreachable struct {
	Address string
	Because string   // for the person
	Do      string   // may be empty
	Sockets []string // of engines that are elsewhere on this machine, where none is at the address
	Host    bool     // it is the machine itself that cannot be reached, or that does not let us in
	Err     error
}

func (e *Unreachable) Error() string { return "no engine answers at " + e.Address + ": " + e.Because }

func (e *Unreachable) Unwrap() error { return e.Err }

// UsualSocket is where the system's engine listens.
const UsualSocket = "/var/run/docker.sock"

// UsualAddress returns where an engine is by default: DOCKER_HOST, the socket of the system, else the current
// user's own.
func UsualAddress() string {
	if a := os.Getenv("DOCKER_HOST"); a != "" {
		return a
	}
	if _, err := os.Stat(UsualSocket); err != nil {
		if run := os.Getenv("XDG_RUNTIME_DIR"); run != "" {
			for _, own := range []string{run + "/docker.sock", run + "/podman/podman.sock"} {
				if _, err := os.Stat(own); err == nil {
					return "unix://" + own
				}
			}
		}
	}
	return "unix://" + UsualSocket
}

// sockets returns the sockets of engines that are on this machine, at the places where engines put them.
func sockets() []string {
	places := []string{UsualSocket, "/run/podman/podman.sock"}
	if run := os.Getenv("XDG_RUNTIME_DIR"); run != "" {
		places = append(places, run+"/docker.sock", run+"/podman/podman.sock")
	}
	for _, pattern := range []string{"/run/user/*/docker.sock", "/run/user/*/podman/podman.sock"} {
		more, _ := filepath.Glob(pattern)
		places = append(places, more...)
	}
	var found []string
	for _, p := range places {
		if info, err := os.Stat(p); err == nil && info.Mode()&fs.ModeSocket != 0 && !slices.Contains(found, p) {
			found = append(found, p)
		}
	}
	return found
}

// tlsOf reads the files of a connection with certificates; nil where it has none.
func tlsOf(files lab.TLS, host string) (*tls.Config, error) {
	if files.CA == "" {
		return nil, nil
	}
	ca, err := os.ReadFile(files.CA)
	if err != nil {
		return nil, err
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: x509.NewCertPool(), ServerName: host}
	if !c.RootCAs.AppendCertsFromPEM(ca) {
		return nil, fmt.Errorf("%s holds no certificate", files.CA)
	}
	if files.Cert != "" {
		pair, err := tls.LoadX509KeyPair(files.Cert, files.Key)
		if err != nil {
			return nil, err
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}

// trySocket finds out in plain words why a socket cannot be used.
func trySocket(ctx context.Context, socket string) (because, do string, err error) {
	conn, err := dial(ctx, "unix", socket)
	switch {
	case err == nil:
		conn.Close()
		return "", "", nil
	case errors.Is(err, fs.ErrNotExist):
		return "there is no socket " + socket,
			"start the engine, or set engine in lab.toml to where its socket is", err
	case errors.Is(err, fs.ErrPermission):
		if info, statErr := os.Stat(socket); statErr == nil {
			if st, ok := system.FactsOf(info); ok {
				group := fmt.Sprintf("gid %d", st.GID)
				if g, err := user.LookupGroupId(strconv.Itoa(int(st.GID))); err == nil {
					group = g.Name
				}
				return "permission denied; the socket belongs to the group " + group,
					"become a member of " + group + ", or run lantern as root", err
			}
		}
		return "permission denied", "run lantern as somebody who may use " + socket, err
	case errors.Is(err, syscall.ECONNREFUSED):
		return "the socket is there, but nothing listens on it", "start the engine", err
	}
	return err.Error(), "", err
}

// tryHost finds out in plain words why a machine cannot be reached.
func tryHost(ctx context.Context, at declare.EngineAddress) (because, do string, err error) {
	conn, err := dial(ctx, "tcp", net.JoinHostPort(at.Host, at.Port))
	if err == nil {
		conn.Close()
		return "", "", nil
	}
	because, do = whyNoHost(err, at.Host, at.Port, "the engine")
	return because, do, err
}

// whyNoHost says in plain words why a machine cannot be reached; what is to listen there.
func whyNoHost(err error, host, port, what string) (because, do string) {
	var name *net.DNSError
	var late net.Error
	switch {
	case errors.As(err, &name):
		return "the name " + host + " does not resolve", "correct the name, or use the address"
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Sprintf("%s refuses the connection: nothing listens on port %s there", host, port),
			"let " + what + " listen there, or correct the port"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way to " + host + " from here", ""
	case errors.As(err, &late) && late.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return host + " does not answer; it is off, or something in between drops the connection", ""
	}
	return err.Error(), ""
}

// RefusedTLS says in plain words what one side has against the other one's certificate; "" when it is not that.
func RefusedTLS(err error) string {
	if err == nil {
		return ""
	}
	var authority x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	text := err.Error()
	switch {
	case errors.As(err, &authority) || strings.Contains(text, "certificate signed by unknown authority"):
		return "its certificate was not made by tls.ca: it is another machine, or the certificates have changed"
	case errors.As(err, &name) || strings.Contains(text, "certificate is valid for") ||
		strings.Contains(text, "doesn't contain any IP SANs"):
		return "its certificate is for another name or address"
	case errors.As(err, &invalid) || strings.Contains(text, "certificate has expired"):
		return "its certificate has expired, or is not valid yet"
	case strings.Contains(text, "certificate required"):
		return "it asks for a certificate, and lab.toml names none (tls.cert, tls.key)"
	case strings.Contains(text, "bad certificate"), strings.Contains(text, "unknown certificate authority"):
		return "it does not accept the certificate tls.cert"
	}
	return ""
}
