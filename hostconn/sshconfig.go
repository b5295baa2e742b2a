package hostconn

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/kevinburke/ssh_config"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"proudlantern.example/lantern/core/declare"
)

// hop is a machine on the way, and how it is entered, as the person's own configuration says (ssh_config(5)).
type hop struct {
	name             string // as it is written
	host, port, user string
	keys             []string // files
	agent            string   // its socket; "" for none
	known            []string // files of host keys
	learns           string   // the file that a new one is written to; "" for none
	hashes           bool     // with its name made unreadable
	alias            string   // HOST:PORT that its key is looked up by
}

const mostHops = 8

// hopsTo returns the machines that lead to an address, the last one is its own.
func hopsTo(at declare.EngineAddress) ([]hop, error) {
	configs, err := sshConfigs()
	if err != nil {
		return nil, err
	}
	var hops []hop
	add := func(name, user, port string) (jumps string, err error) {
		h, jumps, err := hopOf(configs, name, user, port)
		hops = append([]hop{h}, hops...)
		return jumps, err
	}
	jumps, err := add(at.Host, at.User, at.Port)
	for err == nil && jumps != "" && jumps != "none" {
		if len(hops) > mostHops {
			return nil, fmt.Errorf("ProxyJump of %s leads over more than %d machines", at.Host, mostHops)
		}
		all := strings.Split(jumps, ",")
		for _, j := range slices.Backward(all) {
			j = strings.TrimPrefix(strings.TrimSpace(j), "ssh://")
			address, wrong := declare.ParseEngineAddress("ssh://" + j)
			if wrong != nil {
				return nil, fmt.Errorf("ProxyJump of %s: %q is no machine", at.Host, j)
			}
			if jumps, err = add(address.Host, address.User, address.Port); err != nil {
				return nil, err
			}
		}
	}
	return hops, err
}

// sshConfigs reads the person's own configuration, and that of the machine.
func sshConfigs() ([]*ssh_config.Config, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil, err
	}
	var all []*ssh_config.Config
	for _, path := range []string{filepath.Join(home, ".ssh/config"), "/etc/ssh/ssh_config"} {
		f, err := os.Open(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", path, err)
		}
		c, err := ssh_config.Decode(f)
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("%s cannot be understood: %w", path, err)
		}
		all = append(all, c)
	}
	return all, nil
}

// hopOf works out how a machine is entered, and over which others.
func hopOf(configs []*ssh_config.Config, name, account, port string) (h hop, jumps string, err error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return h, "", err
	}
	all := func(key string) []string {
		for _, c := range configs {
			if values, err := c.GetAll(name, key); err == nil && len(values) > 0 {
				return values
			}
		}
		return nil
	}
	get := func(key string) string {
		if values := all(key); len(values) > 0 {
			return values[0]
		}
		return ""
	}
	own := ""
	if u, err := user.Current(); err == nil {
		own = u.Username
	}
	h = hop{
		name: name, host: strings.ReplaceAll(cmp.Or(get("HostName"), name), "%h", name), port: cmp.Or(port, get("Port"), "22"),
		user: cmp.Or(account, get("User"), own), agent: os.Getenv("SSH_AUTH_SOCK"),
	}
	h.alias = net.JoinHostPort(h.host, h.port)
	if alias := get("HostKeyAlias"); alias != "" {
		h.alias = net.JoinHostPort(alias, "22") // an alias stands there without a port, whatever it is
	}
	expand := strings.NewReplacer("%d", home, "%h", h.host, "%p", h.port, "%r", h.user, "%u", own, "%%", "%")
	file := func(path string) string {
		if rest, ok := strings.CutPrefix(path, "~/"); ok {
			path = filepath.Join(home, rest)
		}
		return expand.Replace(strings.Trim(path, `"`))
	}
	for _, k := range all("IdentityFile") {
		h.keys = append(h.keys, file(k))
	}
	if len(h.keys) == 0 {
		for _, k := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			h.keys = append(h.keys, filepath.Join(home, ".ssh", k))
		}
	}
	switch a := get("IdentityAgent"); {
	case strings.EqualFold(get("IdentitiesOnly"), "yes"), a == "none":
		h.agent = ""
	case a != "" && a != "SSH_AUTH_SOCK":
		h.agent = file(a)
	}
	known := strings.Fields(get("UserKnownHostsFile"))
	if len(known) == 0 {
		known = []string{"~/.ssh/known_hosts", "~/.ssh/known_hosts2"}
	}
	h.learns, h.hashes = file(known[0]), strings.EqualFold(get("HashKnownHosts"), "yes")
	if strings.EqualFold(known[0], "none") || known[0] == os.DevNull {
		h.learns = ""
	}
	for _, k := range append(known, "/etc/ssh/ssh_known_hosts") {
		if path := file(k); readable(path) {
			h.known = append(h.known, path)
		}
	}
	return h, get("ProxyJump"), nil
}

func readable(path string) bool {
	f, err := os.Open(path)
	if err == nil {
		f.Close()
	}
	return err == nil
}

// entering is one try to enter a machine.
type entering struct {
	hop    hop
	ctx    context.Context
	person Person // nil: nobody can be asked

	timer   *time.Timer // ends a connection on which nothing is said; it rests while a person is asked
	closers []io.Closer

	keys   int      // that were shown
	locked []string // files of keys that stay locked
	wrong  string   // one whose passphrase was wrong
	asked  bool     // the machine has asked the person for something
}

func (e *entering) pause() { e.timer.Stop() }

func (e *entering) goOn() { e.timer.Reset(2 * connects) }

// connect enters the machine, from the one before it or from here (nil). An sshd at which many come at once drops some of
// them before it has said anything (sshd_config(5), MaxStartups): then it is tried once more.
func (h hop) connect(ctx context.Context, before *ssh.Client) (*ssh.Client, error) {
	client, err := h.enter(ctx, before)
	var dropped *noSSH
	if errors.As(err, &dropped) && dropped.at < dropsWithin {
		select {
		case <-time.After(dropsWithin):
			return h.enter(ctx, before)
		case <-ctx.Done():
		}
	}
	return client, err
}

// dropsWithin is how soon an sshd drops those that are too many, and how long it is left alone then.
const dropsWithin = time.Second

// noSSH is a connection that was closed before anything was said that is SSH.
type noSSH struct {
	error
	at time.Duration // after it was made
}

func (e *noSSH) Unwrap() error { return e.error }

func (h hop) enter(ctx context.Context, before *ssh.Client) (*ssh.Client, error) {
	began := time.Now()
	address := net.JoinHostPort(h.host, h.port)
	var conn net.Conn
	var err error
	if before == nil {
		if conn, err = dial(ctx, "tcp", address); err != nil {
			because, do := whyNoHost(err, h.host, h.port, "sshd")
			return nil, fault(err, do, "%s", because)
		}
	} else {
		limited, cancel := context.WithTimeout(ctx, connects)
		defer cancel()
		if conn, err = before.DialContext(limited, "tcp", address); err != nil {
			return nil, fault(err, "look there whether sshd listens on port "+h.port+", and whether the machine before it forwards (AllowTcpForwarding)",
				"%s cannot be reached from the machine before it (ProxyJump): %s", h.host, err)
		}
	}
	check, err := knownhosts.New(h.known...)
	if err != nil {
		conn.Close()
		return nil, fault(err, "correct that line", "the host keys that are known cannot be read: %s", err)
	}
	// Whoever listens there may say nothing at all.
	e := &entering{hop: h, ctx: ctx, person: personOf(ctx), timer: time.AfterFunc(2*connects, func() { conn.Close() })}
	defer e.timer.Stop()
	var rejected error
	spoke := false
	config := &ssh.ClientConfig{
		User: h.user, Auth: e.methods(), HostKeyAlgorithms: knownAlgorithms(check, h),
		HostKeyCallback: func(_ string, remote net.Addr, key ssh.PublicKey) error {
			spoke = true
			rejected = e.judge(check(h.alias, remote, key), key)
			return rejected
		},
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	c, channels, requests, err := ssh.NewClientConn(conn, address, config)
	for _, c := range e.closers {
		c.Close()
	}
	if err != nil {
		conn.Close()
		if !spoke {
			err = &noSSH{err, time.Since(began)}
		}
		return nil, e.whyNotIn(err, rejected)
	}
	return ssh.NewClient(c, channels, requests), nil
}

// who is the account and the machine, as a person reads them.
func (h hop) who() string {
	if h.port != "22" {
		return h.user + "@" + h.name + ":" + h.port
	}
	return h.user + "@" + h.name
}

// target is the machine as one writes it behind ssh.
func (h hop) target() string {
	to := h.user + "@" + h.name
	if h.port != "22" {
		to = "-p " + h.port + " " + to
	}
	return to
}

// whyNotIn words why a machine does not let us in.
func (e *entering) whyNotIn(err, rejected error) error {
	h, text := e.hop, err.Error()
	if rejected != nil {
		return rejected
	}
	switch {
	case strings.Contains(text, "unable to authenticate"), strings.Contains(text, "unexpected message type 51"),
		strings.Contains(text, "too many authentication failures"): // 51: SSH_MSG_USERAUTH_FAILURE (RFC 4252)
		do := "add the public key to ~/.ssh/authorized_keys of " + h.user + " there (ssh-copy-id)"
		switch {
		case e.wrong != "":
			return fault(err, "ssh-add "+e.wrong+" keeps it open", "%s does not let %s in: that was not the passphrase of the key %s", h.host, h.user, e.wrong)
		case e.asked:
			return fault(err, "", "%s does not let %s in with what was typed", h.host, h.user)
		case len(e.locked) > 0:
			return fault(err, "ssh-add "+e.locked[0], "%s does not let %s in: the key %s has a passphrase, and no agent holds it", h.host, h.user, e.locked[0])
		case e.keys == 0:
			return fault(err, "make one with ssh-keygen, and "+do, "%s does not let %s in: there is no key to show", h.host, h.user)
		}
		return fault(err, do, "%s does not let %s in with %s", h.host, h.user, declare.Counted(e.keys, "key"))
	case strings.Contains(text, "no common algorithm"):
		return fault(err, "", "%s and lantern have no way of encrypting in common: %s", h.host, text)
	case errors.Is(err, net.ErrClosed), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE),
		strings.Contains(text, "connection reset"), strings.Contains(text, "broken pipe"), strings.Contains(text, "EOF"), strings.Contains(text, "use of closed"):
		return fault(err, "correct the port, or look at what listens there", "something listens on port %s of %s, but it does not answer as SSH does", h.port, h.host)
	}
	return fault(err, "", "%s: %s", h.host, text)
}
