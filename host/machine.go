package host

import (
	"bufio"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/prometheus/procfs"

	"proudlantern.example/lantern/core/survey"
)

// readMachine reads what the files and the kernel of this machine say. What cannot be read is said in Unknown.
func readMachine(s *survey.Survey) {
	readAccounts(s, "/etc/passwd", "/etc/group")
	s.Timezone = zone("/etc/localtime", "/etc/timezone")
	s.UnprivilegedPortStart = 1024 // the kernel's own default
	if text, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start"); err == nil {
		if n, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil {
			s.UnprivilegedPortStart = n
		}
	}
	readListeners(s)
	readRoutes(s)
}

// readAccounts reads accounts and groups (passwd(5), group(5)).
func readAccounts(s *survey.Survey, passwd, group string) {
	s.Accounts, s.Groups = []survey.Account{}, []survey.Group{}
	members := map[string][]int{}
	err := eachLine(group, 4, func(f []string) {
		gid, err := strconv.Atoi(f[2])
		if err != nil {
			return
		}
		s.Groups = append(s.Groups, survey.Group{Name: f[0], GID: gid})
		for _, m := range strings.Split(f[3], ",") {
			if m != "" {
				members[m] = append(members[m], gid)
			}
		}
	})
	if err != nil {
		s.Groups, s.Unknown["groups"] = nil, err.Error()
	}
	err = eachLine(passwd, 7, func(f []string) {
		uid, err1 := strconv.Atoi(f[2])
		gid, err2 := strconv.Atoi(f[3])
		if err1 == nil && err2 == nil {
			s.Accounts = append(s.Accounts, survey.Account{Name: f[0], UID: uid, GID: gid, Groups: members[f[0]]})
		}
	})
	if err != nil {
		s.Accounts, s.Unknown["accounts"] = nil, err.Error()
	}
}

// eachLine calls f with the fields of each line that has enough of them.
func eachLine(path string, fields int, f func([]string)) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, longestLine)
	for lines.Scan() {
		if parts := strings.Split(lines.Text(), ":"); len(parts) >= fields {
			f(parts)
		}
	}
	return lines.Err()
}

// longestLine is how long a line of a file of accounts may be, in bytes: a group may have thousands of members.
const longestLine = 4 << 20

// zone returns the machine's time zone: the target of localtime inside the zone database (localtime(5)), else what a timezone file says.
func zone(localtime, timezone string) string {
	if target, err := filepath.EvalSymlinks(localtime); err == nil {
		if link, err := os.Readlink(localtime); err == nil {
			target = link // aliases such as UTC keep the name that somebody chose
		}
		if _, name, ok := strings.Cut(target, "zoneinfo/"); ok {
			return name
		}
	}
	if text, err := os.ReadFile(timezone); err == nil {
		return strings.TrimSpace(string(text))
	}
	return "UTC"
}

// Socket states of /proc/net (include/net/tcp_states.h): a UDP socket that is not connected is in TCP_CLOSE.
const (
	stateListen = 10
	stateClose  = 7
)

func readListeners(s *survey.Survey) {
	s.Listeners = []survey.Listener{}
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		s.Listeners, s.Unknown["listeners"] = nil, "/proc cannot be read"
		return
	}
	inodes := map[uint64]int{}
	add := func(protocol string, address net.IP, port, inode uint64) {
		inodes[inode] = len(s.Listeners)
		s.Listeners = append(s.Listeners, survey.Listener{Protocol: protocol, Address: address.String(), Port: int(port)})
	}
	//lint:ignore SA1019 the files of /proc are there in every namespace and need no rights; netlink is neither
	for _, read := range []func() (procfs.NetTCP, error){proc.NetTCP, proc.NetTCP6} {
		lines, _ := read() // a kernel without IPv6 has no such file
		for _, l := range lines {
			if l.St == stateListen {
				add("tcp", l.LocalAddr, l.LocalPort, l.Inode)
			}
		}
	}
	low, high := ephemeral()
	for _, read := range []func() (procfs.NetUDP, error){proc.NetUDP, proc.NetUDP6} {
		lines, _ := read()
		for _, l := range lines {
			// A client's socket gets a port from the kernel's range: nobody waits for datagrams there for long.
			if l.St == stateClose && (int(l.LocalPort) < low || int(l.LocalPort) > high) {
				add("udp", l.LocalAddr, l.LocalPort, l.Inode)
			}
		}
	}
	nameProcesses(s, proc, inodes)
}

// ephemeral returns the range of ports that the kernel hands out by itself.
func ephemeral() (low, high int) {
	low, high = 32768, 60999
	if text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range"); err == nil {
		if f := strings.Fields(string(text)); len(f) == 2 {
			low, _ = strconv.Atoi(f[0])
			high, _ = strconv.Atoi(f[1])
		}
	}
	return low, high
}

// nameProcesses finds who holds the sockets; without root only one's own processes can be seen.
func nameProcesses(s *survey.Survey, proc procfs.FS, inodes map[uint64]int) {
	processes, err := proc.AllProcs()
	if err != nil {
		return
	}
	for _, p := range processes {
		targets, err := p.FileDescriptorTargets()
		if err != nil {
			continue
		}
		for _, t := range targets {
			inode, err := strconv.ParseUint(strings.TrimSuffix(strings.TrimPrefix(t, "socket:["), "]"), 10, 64)
			if err != nil {
				continue
			}
			if i, ok := inodes[inode]; ok && s.Listeners[i].PID == 0 {
				name, _ := p.Comm()
				s.Listeners[i].Process, s.Listeners[i].PID = name, p.PID
			}
		}
	}
	if os.Geteuid() != 0 && slices.ContainsFunc(s.Listeners, func(l survey.Listener) bool { return l.PID == 0 }) {
		s.Unknown["processes"] = "only root may see which processes of others listen"
	}
}

func itoa(n int) string { return strconv.Itoa(n) }
