package hostconn

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"
)

// tries is how often a person is asked for the same secret.
const tries = 3

// methods are the ways in that are tried: keys, and where somebody can be asked, what the machine asks for.
func (e *entering) methods() []ssh.AuthMethod {
	all := []ssh.AuthMethod{ssh.PublicKeysCallback(func() ([]ssh.Signer, error) { return e.signers(), nil })}
	if e.person == nil {
		return all
	}
	return append(all,
		ssh.RetryableAuthMethod(ssh.KeyboardInteractive(func(name, instruction string, questions []string, echos []bool) (answers []string, err error) {
			for i, q := range questions {
				e.asked = true
				question := strings.TrimSpace(strings.Join([]string{e.hop.who() + ":", name, instruction, q}, " "))
				answer := ""
				if e.pause(); echos[i] {
					answer, err = e.person.Answer(e.ctx, question)
				} else {
					answer, err = e.person.Secret(e.ctx, question)
				}
				e.goOn()
				if err != nil {
					return nil, err
				}
				answers = append(answers, answer)
			}
			return answers, nil
		}), tries),
		ssh.RetryableAuthMethod(ssh.PasswordCallback(func() (string, error) {
			e.asked = true
			e.pause()
			defer e.goOn()
			return e.person.Secret(e.ctx, "password of "+e.hop.who())
		}), tries))
}

// signers returns the keys that are tried: those of the agent, and those in files. One with a passphrase is opened by a
// person; without one, or without the right passphrase, it is remembered as locked.
func (e *entering) signers() (keys []ssh.Signer) {
	if e.hop.agent != "" {
		if conn, err := net.DialTimeout("unix", e.hop.agent, connects); err == nil {
			e.closers = append(e.closers, conn) // it is asked again for each signature, over this connection
			if all, err := agent.NewClient(conn).Signers(); err == nil {
				keys = all
			}
		}
	}
	for _, path := range e.hop.keys {
		text, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		key, err := ssh.ParsePrivateKey(text)
		var missing *ssh.PassphraseMissingError
		switch {
		case errors.As(err, &missing):
			if missing.PublicKey != nil && slices.ContainsFunc(keys, func(k ssh.Signer) bool {
				return string(k.PublicKey().Marshal()) == string(missing.PublicKey.Marshal())
			}) {
				continue // the agent has it
			}
			if key = e.unlock(path, text); key == nil {
				e.locked = append(e.locked, path)
				continue
			}
			keys = append(keys, key)
		case err == nil:
			keys = append(keys, key)
		}
	}
	e.keys = len(keys)
	return keys
}

// unlock asks a person for the passphrase of a key; nil where it stays locked.
func (e *entering) unlock(path string, text []byte) ssh.Signer {
	if e.person == nil {
		return nil
	}
	e.pause()
	defer e.goOn()
	for range tries {
		passphrase, err := e.person.Secret(e.ctx, "passphrase of the key "+path)
		if err != nil || passphrase == "" {
			return nil
		}
		key, err := ssh.ParsePrivateKeyWithPassphrase(text, []byte(passphrase))
		if err == nil {
			return key
		}
		e.wrong = path
	}
	return nil
}

// certificates are the kinds of certificates that machines show.
var certificates = []string{
	ssh.CertAlgoED25519v01, ssh.CertAlgoECDSA256v01, ssh.CertAlgoECDSA384v01, ssh.CertAlgoECDSA521v01,
	ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01,
}

// knownAlgorithms returns the kinds of the keys that are known of a machine, so that it is asked for one of them; nil
// where none is known.
func knownAlgorithms(check ssh.HostKeyCallback, h hop) []string {
	none, err := ssh.NewPublicKey(noKey)
	if err != nil {
		return nil
	}
	var wanted *knownhosts.KeyError
	if err := check(h.alias, &net.TCPAddr{IP: net.IPv4zero}, none); !errors.As(err, &wanted) {
		return nil
	}
	var all []string
	for _, k := range wanted.Want {
		if isAuthority(k) { // without a certificate its key says who it is, which [entering.judge] tells
			all = append(append(all, certificates...), ssh.SupportedAlgorithms().HostKeys...)
			continue
		}
		kind := k.Key.Type()
		if kind == ssh.KeyAlgoRSA {
			all = append(all, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		}
		all = append(all, kind)
	}
	return all
}

// isAuthority reports whether a known key is that of an authority, which signs those of machines.
func isAuthority(k knownhosts.KnownKey) bool {
	text, err := os.ReadFile(k.Filename)
	if err != nil {
		return false
	}
	lines := strings.Split(string(text), "\n")
	return k.Line >= 1 && k.Line <= len(lines) && strings.HasPrefix(strings.TrimSpace(lines[k.Line-1]), "@cert-authority")
}

// judge words what is wrong with the key of a machine; nil where nothing is. Whether an unknown one is right a person
// says, and that is remembered.
func (e *entering) judge(err error, key ssh.PublicKey) error {
	h := e.hop
	var revoked *knownhosts.RevokedError
	var wrong *knownhosts.KeyError
	print := ssh.FingerprintSHA256(key)
	switch {
	case err == nil:
		return nil
	case errors.As(err, &revoked):
		return fault(err, "ask whoever looks after the machine", "%s shows a key that is revoked in %s:%d (%s)", h.host, revoked.Revoked.Filename,
			revoked.Revoked.Line, print)
	case errors.As(err, &wrong) && len(wrong.Want) > 0 && isAuthority(wrong.Want[0]):
		w := wrong.Want[0]
		return fault(err, "ask whoever looks after the machine for its certificate", "%s shows no certificate of the authority in %s:%d, but the key %s",
			h.host, w.Filename, w.Line, print)
	case errors.As(err, &wrong) && len(wrong.Want) > 0:
		w := wrong.Want[0]
		changed := fault(err, "if the machine was set up anew, take that line out, and connect once with ssh; otherwise somebody else answers there: "+
			"ask whoever looks after the machine",
			"%s shows another key than it did: %s; %s:%d knows %s", h.host, print, w.Filename, w.Line, ssh.FingerprintSHA256(w.Key))
		return &ChangedKeyError{changed}
	case errors.As(err, &wrong):
		if e.person != nil {
			agreed, lost := e.agree(key, print)
			if agreed && lost == nil {
				return h.remember(key)
			}
			return fault(errors.Join(err, errNotAgreed, lost), "", "nobody has agreed to the key of %s: %s", h.host, print)
		}
		return fault(err, fmt.Sprintf("if %s is its fingerprint, connect once with ssh, which remembers it: ssh %s", print, h.target()),
			"nobody has said yet that the key of %s is right: %s", h.host, print)
	}
	return fault(err, "ask whoever signs the keys of the machines", "the certificate of %s does not hold: %s", h.host,
		strings.TrimPrefix(err.Error(), "ssh: "))
}

// ChangedKeyError is that a machine shows another key than it did.
type ChangedKeyError struct{ error }

func (c *ChangedKeyError) Unwrap() error { return c.error }

func (e *entering) agree(key ssh.PublicKey, print string) (bool, error) {
	e.pause()
	defer e.goOn()
	return e.person.Agree(e.ctx,
		fmt.Sprintf("%s is not known yet. It shows the key %s (%s).", e.hop.who(), print, strings.TrimPrefix(key.Type(), "ssh-")),
		"Is that its fingerprint")
}

// remember adds the key of a machine to those that are known.
func (h hop) remember(key ssh.PublicKey) error {
	if h.learns == "" {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(h.learns), 0o700); err != nil {
		return fault(err, "", "the key of %s cannot be remembered: %s", h.host, err)
	}
	name := knownhosts.Normalize(h.alias)
	if h.hashes {
		name = knownhosts.HashHostname(name)
	}
	// A file whose last line has no end would swallow what is added.
	before, err := os.ReadFile(h.learns)
	line := knownhosts.Line([]string{name}, key) + "\n"
	if err == nil && len(before) > 0 && before[len(before)-1] != '\n' {
		line = "\n" + line
	}
	f, err := os.OpenFile(h.learns, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err == nil {
		_, err = f.WriteString(line)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return fault(err, "", "the key of %s cannot be remembered: %s", h.host, err)
	}
	return nil
}
