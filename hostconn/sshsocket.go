package hostconn

import (
	"bufio"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// noKey is a public key that nobody has: asking for it tells which ones are known.
var noKey = ed25519.PublicKey(make([]byte, ed25519.PublicKeySize))

// whyNoSocket finds out why a socket on a machine cannot be used. sshd answers alike whatever it is: the machine's files
// tell it apart.
func whyNoSocket(client *ssh.Client, h hop, socket string, err error) (because, do string) {
	var refused *ssh.OpenChannelError
	if !errors.As(err, &refused) {
		return fmt.Sprintf("%s: %s", h.host, err), ""
	}
	if refused.Reason == ssh.Prohibited {
		return "the sshd of " + h.host + " forwards nothing", "set AllowStreamLocalForwarding and AllowTcpForwarding to yes in its sshd_config, for " + h.user
	}
	files, lost := sftp.NewClient(client)
	if lost != nil {
		return fmt.Sprintf("the sshd of %s does not lead to %s (%s), and why cannot be seen: it has no SFTP", h.host, socket, refused.Message),
			"look there whether the socket is there, whether " + h.user + " may use it, and whether sshd_config allows forwarding"
	}
	defer files.Close()
	info, lost := files.Stat(socket)
	switch {
	case errors.Is(lost, fs.ErrNotExist):
		return "there is no socket " + socket + " on " + h.host, "start the engine there, or write where its socket is: ssh://" + h.user + "@" + h.name + "/PATH"
	case errors.Is(lost, fs.ErrPermission):
		return h.user + " may not even see " + socket + " on " + h.host, "log in there as somebody who may use it"
	case lost != nil:
		return fmt.Sprintf("%s on %s: %s", socket, h.host, lost), ""
	case info.Mode()&fs.ModeSocket == 0:
		return socket + " on " + h.host + " is no socket", "correct the path"
	}
	if st, ok := info.Sys().(*sftp.FileStat); ok && h.user != "root" && info.Mode().Perm()&0o002 == 0 {
		group := groupName(files, st.GID)
		return fmt.Sprintf("%s on %s is for root and the group %s, and %s cannot use it", socket, h.host, group, h.user),
			fmt.Sprintf("make %s a member of %s there, and log in anew; or log in as somebody else", h.user, group)
	}
	return "the socket " + socket + " is on " + h.host + ", and nothing listens on it, or the sshd there does not forward to sockets",
		"start the engine there; or set AllowStreamLocalForwarding to yes in its sshd_config"
}

// mostGroups is how much of a machine's list of groups is read, in bytes.
const mostGroups = 8 << 20

// groupName returns what a machine calls a group.
func groupName(files *sftp.Client, gid uint32) string {
	want := strconv.FormatUint(uint64(gid), 10)
	f, err := files.Open("/etc/group")
	if err != nil {
		return want
	}
	defer f.Close()
	lines := bufio.NewScanner(io.LimitReader(f, mostGroups))
	for lines.Scan() {
		if parts := strings.Split(lines.Text(), ":"); len(parts) > 2 && parts[2] == want {
			return parts[0]
		}
	}
	return want
}
