package host

import (
	"net"
	"slices"
	"strconv"
	"strings"

	"github.com/prometheus/procfs"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

// readMachine reads what the files and the kernel of a host say. What cannot be read is said in Unknown.
func readMachine(from hostconn.Files, s *survey.Survey) {
	readAccounts(from, s, "/etc/passwd", "/etc/group")
	s.Timezone = zone(from, "/etc/localtime", "/etc/timezone")
	s.UnprivilegedPortStart = 1024 // the kernel's own default
	if text, err := from.Read("/proc/sys/net/ipv4/ip_unprivileged_port_start", mostFacts); err == nil {
		if n, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil {
			s.UnprivilegedPortStart = n
		}
	}
	readListeners(from, s)
	readRoutes(from, s)
}

// readAccounts reads accounts and groups (passwd(5), group(5)).
func readAccounts(from hostconn.Files, s *survey.Survey, passwd, group string) {
	s.Accounts, s.Groups = []survey.Account{}, []survey.Group{}
	members := map[string][]survey.ID{}
	err := eachLine(from, group, 4, func(f []string) {
		gid, err := idOf(f[2])
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
	err = eachLine(from, passwd, 7, func(f []string) {
		uid, err1 := idOf(f[2])
		gid, err2 := idOf(f[3])
		if err1 == nil && err2 == nil {
			s.Accounts = append(s.Accounts, survey.Account{Name: f[0], UID: uid, GID: gid, Groups: members[f[0]]})
		}
	})
	if err != nil {
		s.Accounts, s.Unknown["accounts"] = nil, err.Error()
	}
}

// idOf reads a uid or gid.
func idOf(text string) (survey.ID, error) {
	id, err := strconv.ParseUint(text, 10, 32)
	return survey.ID(id), err
}

// eachLine calls f with the fields of each line that has enough of them.
func eachLine(from hostconn.Files, path string, fields int, f func([]string)) error {
	text, err := from.Read(path, mostAccounts)
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		if parts := strings.Split(strings.TrimRight(line, "\r\n"), ":"); len(parts) >= fields {
			f(parts)
		}
	}
	return nil
}

// How large files of a host may be, in bytes.
const (
	mostAccounts = 64 << 20 // a directory may have a million accounts
	mostFacts    = 8 << 20  // what the kernel says, and tables that people write
)

// zone returns the machine's time zone: the target of localtime inside the zone database (localtime(5)), else
// what a timezone file says.
func zone(from hostconn.Files, localtime, timezone string) string {
	if target, err := from.Real(localtime); err == nil {
		if link, err := from.Link(localtime); err == nil {
			target = link // aliases such as UTC keep the name that somebody chose
		}
		if _, name, ok := strings.Cut(target, "zoneinfo/"); ok {
			return name
		}
	}
	if text, err := from.Read(timezone, mostFacts); err == nil {
		return strings.TrimSpace(string(text))
	}
	return "UTC"
}

// Socket states of /proc/net (include/net/tcp_states.h): a UDP socket that is not connected is in TCP_CLOSE.
const (
	stateListen = 10
	stateClose  = 7
)

// procOf returns what shows a host's processes and sockets.
func procOf(from hostconn.Files) (procfs.FS, func(), error) {
	folder, done, err := from.Proc()
	if err != nil {
		return procfs.FS{}, nil, err
	}
	proc, err := procfs.NewFS(folder)
	if err != nil {
		done()
	}
	return proc, done, err
}

func readListeners(from hostconn.Files, s *survey.Survey) {
	s.Listeners = []survey.Listener{}
	proc, done, err := procOf(from)
	if err != nil {
		s.Listeners, s.Unknown["listeners"] = nil, "/proc cannot be read"
		return
	}
	defer done()
	inodes := map[uint64]int{}
	add := func(protocol string, address net.IP, port, inode uint64) {
		inodes[inode] = len(s.Listeners)
		s.Listeners = append(s.Listeners, survey.Listener{
			Protocol: protocol,
			Address:  address.String(),
			Port:     int(port),
		})
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
	low, high := ephemeral(from)
	for _, read := range []func() (procfs.NetUDP, error){proc.NetUDP, proc.NetUDP6} {
		lines, _ := read()
		for _, l := range lines {
			// A client's socket gets a port from the kernel's range: it is not open for datagrams there for long.
			if l.St == stateClose && (int(l.LocalPort) < low || int(l.LocalPort) > high) {
				add("udp", l.LocalAddr, l.LocalPort, l.Inode)
			}
		}
	}
	nameProcesses(from, s, proc, inodes)
}

// ephemeral returns the range of ports that the kernel hands out by itself.
func ephemeral(from hostconn.Files) (low, high int) {
	low, high = 32768, 60999
	if text, err := from.Read("/proc/sys/net/ipv4/ip_local_port_range", mostFacts); err == nil {
		if f := strings.Fields(string(text)); len(f) == 2 {
			low, _ = strconv.Atoi(f[0])
			high, _ = strconv.Atoi(f[1])
		}
	}
	return low, high
}

// nameProcesses finds who holds the sockets; without root only one's own processes can be seen.
func nameProcesses(from hostconn.Files, s *survey.Survey, proc procfs.FS, inodes map[uint64]int) {
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
	if !from.SeesAll() && slices.ContainsFunc(s.Listeners, func(l survey.Listener) bool { return l.PID == 0 }) {
		s.Unknown["processes"] = "only root may see which processes of others listen"
	}
}
