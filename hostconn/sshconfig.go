package hostconn

import (
	"cmp"
	"context"
	"errors"
	"fmt"
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
	"golang.org/x/crypto/ssh/agent"
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
	alias            string   // the name that its key is looked up by
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
	h.alias = cmp.Or(get("HostKeyAlias"), h.host)
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

// connect enters the machine, from the one before it or from here (nil).
func (h hop) connect(ctx context.Context, before *ssh.Client) (*ssh.Client, error) {
	address := net.JoinHostPort(h.host, h.port)
	var conn net.Conn
	var err error
	if before == nil {
		if conn, err = dial(ctx, "tcp", address); err != nil {
			because, do := whyNoHost(err, h.host, h.port, "sshd")
			return nil, fault(err, do, "%s", because)
		}
	} else if conn, err = before.DialContext(ctx, "tcp", address); err != nil {
		return nil, fault(err, "", "%s cannot be reached from the machine before it (ProxyJump): %s", h.host, err)
	}
	keys, locked := h.signers()
	config := &ssh.ClientConfig{
		User: h.user, Auth: []ssh.AuthMethod{ssh.PublicKeys(keys...)}, Timeout: connects,
	}
	check, err := knownhosts.New(h.known...)
	if err != nil {
		conn.Close()
		return nil, fault(err, "correct that line", "the host keys that are known cannot be read: %s", err)
	}
	var rejected error
	config.HostKeyCallback = func(_ string, remote net.Addr, key ssh.PublicKey) error {
		rejected = h.judge(check(net.JoinHostPort(h.alias, h.port), remote, key), key)
		return rejected
	}
	config.HostKeyAlgorithms = knownAlgorithms(check, h)
	// Whoever listens there may say nothing at all.
	timer := time.AfterFunc(2*connects, func() { conn.Close() })
	defer timer.Stop()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	c, channels, requests, err := ssh.NewClientConn(conn, address, config)
	if err != nil {
		conn.Close()
		return nil, h.whyNotIn(err, rejected, keys, locked)
	}
	return ssh.NewClient(c, channels, requests), nil
}

// signers returns the keys that are tried: those of the agent, and files; and the files that want a passphrase.
func (h hop) signers() (keys []ssh.Signer, locked []string) {
	if h.agent != "" {
		if conn, err := net.DialTimeout("unix", h.agent, connects); err == nil {
			if all, err := agent.NewClient(conn).Signers(); err == nil {
				keys = all // it is asked again for each signature, over this connection
			}
		}
	}
	for _, path := range h.keys {
		text, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		key, err := ssh.ParsePrivateKey(text)
		var missing *ssh.PassphraseMissingError
		switch {
		case errors.As(err, &missing):
			inAgent := missing.PublicKey != nil && slices.ContainsFunc(keys, func(k ssh.Signer) bool {
				return string(k.PublicKey().Marshal()) == string(missing.PublicKey.Marshal())
			})
			if !inAgent {
				locked = append(locked, path)
			}
		case err == nil:
			keys = append(keys, key)
		}
	}
	return keys, locked
}

// knownAlgorithms returns the kinds of the keys that are known of a machine, so that it is asked for one of them; nil
// where none is known.
func knownAlgorithms(check ssh.HostKeyCallback, h hop) []string {
	none, err := ssh.NewPublicKey(noKey)
	if err != nil {
		return nil
	}
	var wanted *knownhosts.KeyError
	if err := check(net.JoinHostPort(h.alias, h.port), &net.TCPAddr{IP: net.IPv4zero}, none); !errors.As(err, &wanted) {
		return nil
	}
	var all []string
	for _, k := range wanted.Want {
		kind := k.Key.Type()
		if kind == ssh.KeyAlgoRSA {
			all = append(all, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		}
		all = append(all, kind)
	}
	return all
}

// judge words what is wrong with the key of a machine; nil where nothing is.
func (h hop) judge(err error, key ssh.PublicKey) error {
	var revoked *knownhosts.RevokedError
	var wrong *knownhosts.KeyError
	print := ssh.FingerprintSHA256(key)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &revoked):
		return fault(err, "ask whoever looks after the machine", "%s shows a key that is revoked in %s:%d (%s)", h.host, revoked.Revoked.Filename,
			revoked.Revoked.Line, print)
	case errors.As(err, &wrong) && len(wrong.Want) > 0:
		w := wrong.Want[0]
		return fault(err, "if the machine was set up anew, take that line out, and connect once with ssh; otherwise somebody else answers there: "+
			"ask whoever looks after the machine",
			"%s shows another key than it did: %s; %s:%d knows %s", h.host, print, w.Filename, w.Line, ssh.FingerprintSHA256(w.Key))
	case errors.As(err, &wrong):
		return fault(err, fmt.Sprintf("if %s is its fingerprint, connect once with ssh, which remembers it: ssh %s", print, h.target()),
			"nobody has said yet that the key of %s is right: %s", h.host, print)
	}
	return fault(err, "", "the key of %s: %s", h.host, err)
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
func (h hop) whyNotIn(err, rejected error, keys []ssh.Signer, locked []string) error {
	var known *sshFault
	if errors.As(rejected, &known) {
		return known
	}
	text := err.Error()
	switch {
	case strings.Contains(text, "unable to authenticate"):
		do := "add the public key to ~/.ssh/authorized_keys of " + h.user + " there (ssh-copy-id)"
		if len(locked) > 0 {
			return fault(err, "ssh-add "+locked[0], "%s does not let %s in: the key %s has a passphrase, and no agent holds it", h.host, h.user, locked[0])
		}
		if len(keys) == 0 {
			return fault(err, "make one with ssh-keygen, and "+do, "%s does not let %s in: there is no key to show", h.host, h.user)
		}
		return fault(err, do, "%s does not let %s in with %s", h.host, h.user, declare.Counted(len(keys), "key"))
	case strings.Contains(text, "no common algorithm"):
		return fault(err, "", "%s and lantern have no way of encrypting in common: %s", h.host, text)
	case errors.Is(err, net.ErrClosed), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE),
		strings.Contains(text, "connection reset"), strings.Contains(text, "broken pipe"), strings.Contains(text, "EOF"), strings.Contains(text, "use of closed"):
		return fault(err, "", "something listens on port %s of %s, but it does not answer as SSH does", h.port, h.host)
	}
	return fault(err, "", "%s: %s", h.host, text)
}
