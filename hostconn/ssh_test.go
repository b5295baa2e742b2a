//go:build linux

package hostconn_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/hostconn"
)

// person is somebody with a home folder of their own, and the real sshd that they know.
type person struct {
	t          *testing.T
	home, sshd string
	port       string
}

func newPerson(t *testing.T) *person {
	t.Helper()
	sshd := os.Getenv("LANTERN_TEST_SSHD")
	if sshd == "" {
		t.Skip("LANTERN_TEST_SSHD is not set: scripts/with-engines starts an sshd")
	}
	port, err := os.ReadFile(filepath.Join(sshd, "port"))
	require.NoError(t, err)
	p := &person{t, t.TempDir(), sshd, string(port)}
	t.Setenv("HOME", p.home)
	t.Setenv("SSH_AUTH_SOCK", "")
	known, err := os.ReadFile(filepath.Join(sshd, "known_hosts"))
	require.NoError(t, err)
	p.write("known_hosts", string(known))
	p.config("")
	return p
}

func (p *person) write(name, text string) {
	p.t.Helper()
	require.NoError(p.t, os.MkdirAll(filepath.Join(p.home, ".ssh"), 0o700))
	require.NoError(p.t, os.WriteFile(filepath.Join(p.home, ".ssh", name), []byte(text), 0o600))
}

// config writes the person's configuration: the key of the sshd, and more.
func (p *person) config(more string) {
	p.write("config", more+"\nHost *\n  IdentityFile "+p.sshd+"/client_key\n")
}

// socketAt answers as an engine would not: it says hello, and sends back what it gets.
func (p *person) socketAt(mode os.FileMode) string {
	p.t.Helper()
	dir, err := os.MkdirTemp("", "lantern")
	require.NoError(p.t, err)
	require.NoError(p.t, os.Chmod(dir, 0o755))
	p.t.Cleanup(func() { os.RemoveAll(dir) })
	path := filepath.Join(dir, "s")
	l, err := net.Listen("unix", path)
	require.NoError(p.t, err)
	require.NoError(p.t, os.Chmod(path, mode))
	p.t.Cleanup(func() { l.Close() })
	go echo(l)
	return path
}

func echo(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			io.Copy(c, c)
		}()
	}
}

// another starts an sshd of the test's own.
func (p *person) another(options ...string) (port string) {
	p.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(p.t, err)
	port = strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
	l.Close()
	// Also accounts that may not enter the folders of root have to be able to read it.
	keys := filepath.Join(filepath.Dir(p.socketAt(0o600)), "keys")
	public, err := os.ReadFile(p.sshd + "/client_key.pub")
	require.NoError(p.t, err)
	require.NoError(p.t, os.WriteFile(keys, public, 0o644))
	args := []string{
		"-D", "-f", "/dev/null", "-h", p.sshd + "/host_key", "-p", port, "-o", "ListenAddress=127.0.0.1", "-o", "PidFile=none",
		"-o", "AuthorizedKeysFile=" + keys, "-o", "StrictModes=no", "-o", "PermitRootLogin=yes",
		"-o", "PasswordAuthentication=no", "-o", "UsePAM=no", "-E", filepath.Join(p.home, "log"),
	}
	cmd := exec.Command("/usr/sbin/sshd", append(args, options...)...)
	require.NoError(p.t, cmd.Start())
	p.t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	key, err := os.ReadFile(p.sshd + "/host_key.pub")
	require.NoError(p.t, err)
	known, err := os.ReadFile(filepath.Join(p.home, ".ssh/known_hosts"))
	require.NoError(p.t, err)
	p.write("known_hosts", string(known)+fmt.Sprintf("[127.0.0.1]:%s %s", port, key))
	require.Eventually(p.t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 30*time.Second, 50*time.Millisecond)
	return port
}

const sftpOn = "Subsystem=sftp internal-sftp"

// The way over SSH leads to sockets and ports of the other machine, also over machines in between, with what the person's
// configuration says.
func TestSSH(t *testing.T) {
	p := newPerson(t)
	socket := p.socketAt(0o600)
	known, err := os.ReadFile(filepath.Join(p.sshd, "known_hosts"))
	require.NoError(t, err)
	_, key, _ := strings.Cut(string(known), " ")
	p.write("known_hosts", string(known)+"lighthouse "+key)
	p.config("Host lamp\n  HostName 127.0.0.1\n  Port " + p.port + "\n  User root\n  HostKeyAlias lighthouse\n" +
		"Host far\n  HostName 127.0.0.1\n  Port " + p.port + "\n  ProxyJump root@lamp\n")
	for _, address := range []string{"root@127.0.0.1:" + p.port, "lamp", "root@far"} {
		t.Run(address, func(t *testing.T) {
			c, err := hostconn.OpenAddress(t.Context(), "ssh://"+address+socket)
			require.NoError(t, err)
			assert.True(t, c.Private)
			assert.Equal(t, socket, c.Socket)
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer l.Close()
			go echo(l)
			for _, dial := range []func() (net.Conn, error){
				func() (net.Conn, error) { return c.Engine(t.Context()) },
				func() (net.Conn, error) { return c.Port(t.Context(), l.Addr().String()) },
			} {
				conn, err := dial()
				require.NoError(t, err)
				_, err = conn.Write([]byte("high at four"))
				require.NoError(t, err)
				text := make([]byte, 12)
				_, err = io.ReadFull(conn, text)
				require.NoError(t, err)
				assert.Equal(t, "high at four", string(text))
				assert.NoError(t, conn.Close())
			}
			_, err = c.Port(t.Context(), "127.0.0.1:1")
			assert.Error(t, err)
		})
	}

	// A connection that has broken is made once more.
	relay := p.relay()
	c, err := hostconn.OpenAddress(t.Context(), "ssh://root@127.0.0.1:"+relay.Port+socket)
	require.NoError(t, err)
	require.Positive(t, relay.Cut())
	require.Eventually(t, func() bool { // that it has broken is noticed after a moment
		conn, err := c.Engine(t.Context())
		if err != nil {
			return false
		}
		defer conn.Close()
		conn.Write([]byte("ebb"))
		_, err = io.ReadFull(conn, make([]byte, 3))
		return err == nil
	}, 30*time.Second, 50*time.Millisecond)
	assert.Positive(t, relay.Cut(), "it was another one")
}

// answers is somebody who gives the same answers again and again.
type answers struct {
	secret string
	agrees bool
	asked  []string
}

func (a *answers) Secret(_ context.Context, question string) (string, error) {
	a.asked = append(a.asked, question)
	return a.secret, nil
}

func (a *answers) Answer(ctx context.Context, question string) (string, error) {
	return a.Secret(ctx, question)
}

func (a *answers) Agree(_ context.Context, statement, question string) (bool, error) {
	a.asked = append(a.asked, statement+" "+question)
	return a.agrees, nil
}

// With somebody to ask, a locked key, an unknown machine and a password are questions, and not the end.
func TestSSHQuestions(t *testing.T) {
	p := newPerson(t)
	socket := p.socketAt(0o666)
	text, err := os.ReadFile(p.sshd + "/client_key")
	require.NoError(t, err)
	key, err := ssh.ParseRawPrivateKey(text)
	require.NoError(t, err)
	locked, err := ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte("gulls"))
	require.NoError(t, err)
	p.write("locked", string(pem.EncodeToMemory(locked)))
	known, err := os.ReadFile(filepath.Join(p.home, ".ssh/known_hosts"))
	require.NoError(t, err)
	password := passwordServer(t, p, socket)
	here := "root@127.0.0.1:" + p.port
	for i, row := range []struct {
		name, address, config, known string
		answers                      answers
		asked                        string
		times                        int
		because                      string // "": it works
	}{
		{"the passphrase", here, "IdentityFile ~/.ssh/locked", "", answers{secret: "gulls"}, "passphrase of the key " + p.home + "/.ssh/locked", 1, ""},
		{"a wrong passphrase", here, "IdentityFile ~/.ssh/locked", "", answers{secret: "terns"}, "passphrase of the key", 3, "that was not the passphrase of the key " + p.home + "/.ssh/locked"},
		{"no passphrase", here, "IdentityFile ~/.ssh/locked", "", answers{}, "passphrase of the key", 1, "has a passphrase, and no agent holds it"},
		{"agreed", here, "", "# the last line has no end", answers{agrees: true}, "is not known yet. It shows the key SHA256:", 1, ""},
		{"not agreed", here, "", "\n", answers{}, "Is that its fingerprint", 1, "nobody has agreed to the key of 127.0.0.1: SHA256:"},
		{"a password", "keeper@" + password, "IdentityFile none", "*", answers{secret: "high at four"}, "keeper@127.0.0.1:", 1, ""},
		{"a wrong password", "keeper@" + password, "IdentityFile none", "*", answers{secret: "low at ten"}, "keeper@127.0.0.1:", 6, "does not let keeper in with what was typed"},
	} {
		t.Run(row.name, func(t *testing.T) {
			p.write("config", "Host *\n  HashKnownHosts yes\n  IdentityFile "+p.sshd+"/client_key\n")
			if row.config != "" {
				p.write("config", "Host *\n  "+row.config+"\n")
			}
			switch row.known {
			case "":
				p.write("known_hosts", string(known))
			case "*":
				p.write("known_hosts", strings.Replace(string(known), "[127.0.0.1]:"+p.port, "["+strings.Replace(password, ":", "]:", 1), 1))
			default:
				p.write("known_hosts", row.known)
			}
			a := row.answers
			_, err := hostconn.OpenAddress(hostconn.WithPerson(t.Context(), &a), "ssh://"+row.address+strings.Repeat("/", i+1)+socket)
			require.Len(t, a.asked, row.times, "%v", err)
			assert.Contains(t, a.asked[0], row.asked)
			if row.because == "" {
				require.NoError(t, err)
			} else {
				var unreachable *hostconn.Unreachable
				require.ErrorAs(t, err, &unreachable)
				assert.Contains(t, unreachable.Because, row.because)
			}
			if row.name == "agreed" {
				learnt, err := os.ReadFile(filepath.Join(p.home, ".ssh/known_hosts"))
				require.NoError(t, err)
				assert.Regexp(t, `^# the last line has no end\n\|1\|\S+ ssh-ed25519 \S+\n$`, string(learnt))
				_, err = hostconn.OpenAddress(t.Context(), "ssh://"+here+"//////////"+socket)
				assert.NoError(t, err, "it is known from now on")
			}
		})
	}
}

// passwordServer lets in whoever knows a password, asked in either way, and forwards to nothing but a socket.
func passwordServer(t *testing.T, p *person, socket string) (address string) {
	t.Helper()
	text, err := os.ReadFile(p.sshd + "/host_key")
	require.NoError(t, err)
	key, err := ssh.ParsePrivateKey(text)
	require.NoError(t, err)
	is := func(answer string) (*ssh.Permissions, error) {
		if answer != "high at four" {
			return nil, fmt.Errorf("no")
		}
		return nil, nil
	}
	config := &ssh.ServerConfig{
		PasswordCallback: func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) { return is(string(password)) },
		KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			given, err := ask("", "The tide table", []string{"When is it high? "}, []bool{true})
			if err != nil || len(given) != 1 {
				return nil, fmt.Errorf("no")
			}
			return is(given[0])
		},
	}
	config.AddHostKey(key)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				_, channels, requests, err := ssh.NewServerConn(conn, config)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				for c := range channels {
					far, err := net.Dial("unix", socket)
					if err != nil {
						c.Reject(ssh.ConnectionFailed, "no")
						continue
					}
					near, more, err := c.Accept()
					if err != nil {
						return
					}
					go ssh.DiscardRequests(more)
					go io.Copy(near, far)
					go io.Copy(far, near)
				}
			}()
		}
	}()
	return l.Addr().String()
}

// Certificates of machines, by an authority that is known.
func TestSSHCertificates(t *testing.T) {
	p := newPerson(t)
	socket := p.socketAt(0o666)
	dir := t.TempDir()
	keygen := func(args ...string) {
		t.Helper()
		out, err := exec.Command("ssh-keygen", args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	keygen("-q", "-t", "ed25519", "-N", "", "-f", dir+"/authority")
	public, err := os.ReadFile(p.sshd + "/host_key.pub")
	require.NoError(t, err)
	authority, err := os.ReadFile(dir + "/authority.pub")
	require.NoError(t, err)
	for _, row := range []struct {
		name    string
		sign    []string // "": none is shown
		because string
	}{
		{"right", []string{"-n", "127.0.0.1"}, ""},
		{"of another machine", []string{"-n", "tower.example"}, "the certificate of 127.0.0.1 does not hold"},
		{"of the past", []string{"-n", "127.0.0.1", "-V", "-2d:-1d"}, "the certificate of 127.0.0.1 does not hold: cert has expired"},
		{"none", nil, "shows no certificate of the authority in"},
	} {
		t.Run(row.name, func(t *testing.T) {
			var options []string
			if row.sign != nil {
				own := filepath.Join(t.TempDir(), "host.pub")
				require.NoError(t, os.WriteFile(own, public, 0o600))
				keygen(append(append([]string{"-q", "-s", dir + "/authority", "-I", "mast", "-h"}, row.sign...), own)...)
				options = []string{"-o", "HostCertificate=" + strings.TrimSuffix(own, ".pub") + "-cert.pub"}
			}
			port := p.another(options...)
			p.write("known_hosts", fmt.Sprintf("@cert-authority [127.0.0.1]:%s %s", port, authority))
			_, err := hostconn.OpenAddress(t.Context(), "ssh://root@127.0.0.1:"+port+socket)
			if row.because == "" {
				require.NoError(t, err)
				return
			}
			var unreachable *hostconn.Unreachable
			require.ErrorAs(t, err, &unreachable)
			assert.Contains(t, unreachable.Because, row.because)
			t.Logf("%s\n%s", unreachable.Because, unreachable.Do)
		})
	}
}

// relay starts one in front of the sshd. What the person knows of the sshd, they know of it.
func (p *person) relay() *enginetest.Relay {
	p.t.Helper()
	r := enginetest.StartRelay(p.t, "127.0.0.1:"+p.port)
	known, err := os.ReadFile(filepath.Join(p.sshd, "known_hosts"))
	require.NoError(p.t, err)
	p.write("known_hosts", string(known)+strings.Replace(string(known), p.port, r.Port, 1))
	return r
}

// Every trouble of a connection is told in its own words, with what helps, and in bounded time.
func TestSSHFaults(t *testing.T) {
	p := newPerson(t)
	socket, private := p.socketAt(0o666), p.socketAt(0o600)
	known, err := os.ReadFile(filepath.Join(p.home, ".ssh/known_hosts"))
	require.NoError(t, err)
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	public, err := ssh.NewPublicKey(key.Public())
	require.NoError(t, err)
	other := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
	plain, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	locked, err := ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte("gulls"))
	require.NoError(t, err)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	page, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer page.Close()
	go func() {
		for {
			c, err := page.Accept()
			if err != nil {
				return
			}
			io.WriteString(c, "HTTP/1.1 400 Bad Request\r\n\r\n")
			c.Close()
		}
	}()
	here := "root@127.0.0.1:" + p.port
	at := func(l net.Listener) string { return "root@" + l.Addr().String() }
	for i, row := range []struct {
		name, address, config, known, because, do string
	}{
		{"another key", here, "Host *\n  IdentityFile ~/.ssh/other\n  IdentitiesOnly yes\n", "", "does not let root in with", "authorized_keys of root"},
		{"a passphrase", here, "Host *\n  IdentityFile ~/.ssh/locked\n", "", "has a passphrase, and no agent holds it", "ssh-add"},
		{"no key", here, "Host *\n  IdentityFile ~/.ssh/nothing\n", "", "there is no key to show", "ssh-keygen"},
		{"unknown", here, "-", "\n", "nobody has said yet that the key of 127.0.0.1 is right: SHA256:", "connect once with ssh, which remembers it: ssh -p"},
		{"changed", here, "-", fmt.Sprintf("[127.0.0.1]:%s %s\n", p.port, other), "shows another key than it did", "somebody else answers there"},
		{"revoked", here, "-", "@revoked * " + strings.SplitN(string(known), " ", 2)[1], "a key that is revoked", "ask whoever"},
		{"no port", "root@127.0.0.1:1", "-", "", "refuses the connection: nothing listens on port 1", "let sshd listen"},
		{"no name", "root@nowhere.invalid", "-", "", "does not resolve", "correct the name"},
		{"no SSH", at(page), "-", "", "does not answer as SSH does", "correct the port"},
		{"no answer", at(silent), "-", "", "does not answer as SSH does", "correct the port"},
		{"no socket", here + "/nowhere/s#", "-", "", "there is no socket /nowhere/s on 127.0.0.1", "start the engine there"},
		{"no rights", "nobody@127.0.0.1:" + p.another("-o", sftpOn) + private + "#", "-", "+", "is for root and the group root, and nobody cannot use it", "member of root"},
		{"no forwarding", "root@127.0.0.1:" + p.another("-o", "DisableForwarding=yes", "-o", sftpOn), "-", "+", "forward", "AllowStreamLocalForwarding"},
		{"neither", "root@127.0.0.1:" + p.another("-o", "DisableForwarding=yes"), "-", "+", "", "sshd_config"},
		{"no machine in between", "root@beyond", "Host beyond\n  HostName 127.0.0.1\n  Port 1\n  ProxyJump root@127.0.0.1:" + p.port + "\nHost *\n  IdentityFile " + p.sshd + "/client_key\n", "",
			"cannot be reached from the machine before it", "AllowTcpForwarding"},
		{"a circle", "root@round", "Host round\n  ProxyJump root@round\n", "", "leads over more than", ""},
		{"nonsense", here, "Host *\n  Match\n IdentityFile\n", "", "", ""},
	} {
		test := func(t *testing.T, jump bool) {
			p.write("other", string(pem.EncodeToMemory(plain)))
			p.write("locked", string(pem.EncodeToMemory(locked)))
			if row.config == "-" {
				p.config("")
			} else {
				p.write("config", row.config)
			}
			switch row.known {
			case "":
				p.write("known_hosts", string(known))
			case "+": // that of the same key at another port
				port := regexp.MustCompile(`:([0-9]+)`).FindStringSubmatch(row.address)[1]
				p.write("known_hosts", strings.Replace(string(known), p.port, port, 1))
			default:
				p.write("known_hosts", row.known)
			}
			address, own := strings.CutSuffix(row.address, "#")
			if !own {
				address += socket
			}
			// Connections are shared by their addresses: each of these is another one.
			address = strings.Replace(address, socket, strings.Repeat("/", len(row.name))+socket, 1)
			if jump {
				before, err := os.ReadFile(filepath.Join(p.home, ".ssh/config"))
				require.NoError(t, err)
				p.write("config", fmt.Sprintf("Host beyond%d\n  HostName 127.0.0.1\n  Port %s\n  ProxyJump %s\n%s", i, p.port, row.address, before))
				address = fmt.Sprintf("root@beyond%d", i) + socket
			}
			ctx, cancel := context.WithTimeout(t.Context(), 100*time.Second)
			defer cancel()
			began := time.Now()
			_, err := hostconn.OpenAddress(ctx, "ssh://"+address)
			var unreachable *hostconn.Unreachable
			require.ErrorAs(t, err, &unreachable)
			assert.Contains(t, unreachable.Because, row.because)
			assert.Contains(t, unreachable.Do, row.do)
			assert.NotEmpty(t, unreachable.Because)
			assert.Less(t, time.Since(began), 90*time.Second)
			t.Logf("%s\n%s", unreachable.Because, unreachable.Do)
		}
		t.Run(row.name, func(t *testing.T) { test(t, false) })
		// A machine on the way is told apart just as well.
		if i < 10 {
			t.Run(row.name+" on the way", func(t *testing.T) { test(t, true) })
		}
	}
}

// A machine that hangs is given up in bounded time, whatever is asked of it.
func TestSSHHangs(t *testing.T) {
	p := newPerson(t)
	socket := p.socketAt(0o666)
	relay := p.relay()
	c, err := hostconn.OpenAddress(t.Context(), "ssh://root@127.0.0.1:"+relay.Port+"////"+socket)
	require.NoError(t, err)
	open, err := c.Engine(t.Context())
	require.NoError(t, err)
	relay.Hang()
	began := time.Now()
	_, err = c.Engine(t.Context())
	assert.ErrorContains(t, err, "does not answer as SSH does")
	_, err = c.Files.Stat("/")
	assert.Error(t, err)
	_, err = open.Read(make([]byte, 1))
	assert.Error(t, err, "a call that was under way ends, too")
	assert.Less(t, time.Since(began), 150*time.Second)
}
