package declare

import (
	"errors"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Device is a device of the host and where it is inside.
type Device struct{ Host, Container string }

func (d Device) String() string {
	if d.Host == d.Container {
		return d.Host
	}
	return d.Host + " -> " + d.Container
}

// ParseDevice reads PATH or PATH -> PATH. The error is a *[SyntaxError].
func ParseDevice(s string) (Device, error) {
	left, right, both := strings.Cut(s, "->")
	if !both {
		right = left
	}
	host, at := trimmed(left)
	inside, move := trimmed(right)
	for _, p := range []struct {
		path string
		at   int
	}{{host, at}, {inside, len(left) + len("->") + move}} {
		if !path.IsAbs(p.path) {
			return Device{},
				syntaxError(min(p.at, len(s)), min(len(p.path), len(s)-min(p.at, len(s))),
					"the path of a device starts with /")
		}
	}
	return Device{path.Clean(host), path.Clean(inside)}, nil
}

// Ulimit is a limit of a process (setrlimit(2)); -1 is unlimited.
type Ulimit struct {
	Name       string
	Soft, Hard int64
}

func (u Ulimit) String() string {
	if u.Soft == u.Hard {
		return u.Name + " = " + strconv.FormatInt(u.Soft, 10)
	}
	return u.Name + " = " + strconv.FormatInt(u.Soft, 10) + ":" + strconv.FormatInt(u.Hard, 10)
}

// UlimitNames are the limits that there are (setrlimit(2), without RLIMIT_ and in small letters).
var UlimitNames = []string{"core", "cpu", "data", "fsize", "locks", "memlock", "msgqueue", "nice", "nofile",
	"nproc", "rss", "rtprio", "rttime", "sigpending", "stack"}

// ParseUlimit reads N or SOFT:HARD. The error is a *[SyntaxError].
func ParseUlimit(name, s string) (Ulimit, error) {
	left, right, both := strings.Cut(s, ":")
	if !both {
		right = left
	}
	soft, err := strconv.ParseInt(strings.TrimSpace(left), 10, 64)
	if err != nil || soft < -1 {
		return Ulimit{}, syntaxError(0, len(left), "a limit is a number, or SOFT:HARD; -1 is unlimited")
	}
	hard, err := strconv.ParseInt(strings.TrimSpace(right), 10, 64)
	if err != nil || hard < -1 {
		return Ulimit{}, syntaxError(len(left)+1, len(right), "a limit is a number, or SOFT:HARD; -1 is unlimited")
	}
	if hard != -1 && (soft > hard || soft == -1) {
		return Ulimit{}, syntaxError(0, len(left), "the soft limit is above the hard one")
	}
	return Ulimit{name, soft, hard}, nil
}

// capabilities of Linux (capabilities(7)), without CAP_.
var capabilities = strings.Fields(
	`AUDIT_CONTROL AUDIT_READ AUDIT_WRITE BLOCK_SUSPEND BPF CHECKPOINT_RESTORE CHOWN DAC_OVERRIDE DAC_READ_SEARCH
	FOWNER FSETID IPC_LOCK IPC_OWNER KILL LEASE LINUX_IMMUTABLE MAC_ADMIN MAC_OVERRIDE MKNOD NET_ADMIN NET_BIND_SERVICE NET_BROADCAST NET_RAW
	PERFMON SETFCAP SETGID SETPCAP SETUID SYSLOG SYS_ADMIN SYS_BOOT SYS_CHROOT SYS_MODULE SYS_NICE SYS_PACCT SYS_PTRACE SYS_RAWIO SYS_RESOURCE
	SYS_TIME SYS_TTY_CONFIG WAKE_ALARM`)

// ParseCapability returns the name of a capability in capitals and without CAP_; ALL stands for all. The
// error is a *[SyntaxError].
func ParseCapability(s string) (string, error) {
	t, at := trimmed(s)
	name := strings.TrimPrefix(strings.ToUpper(t), "CAP_")
	if name == "ALL" || slices.Contains(capabilities, name) {
		return name, nil
	}
	name = strings.ReplaceAll(name, "-", "_")
	if near := Nearest(name, capabilities); near != "" {
		e := syntaxError(at, len(t), "%q is no capability; %s is one", t, near)
		if Certain(name, near) {
			e.meant(near)
		}
		return "", e
	}
	return "", syntaxError(at, len(t), "%q is no capability of Linux, such as NET_ADMIN", t)
}

// signals that have a name on every Linux (signal(7)), without SIG.
var signals = strings.Fields(
	"HUP INT QUIT ILL TRAP ABRT BUS FPE KILL USR1 SEGV USR2 PIPE ALRM TERM STKFLT CHLD CONT STOP TSTP TTIN " +
		"TTOU URG XCPU XFSZ VTALRM PROF WINCH IO PWR SYS")

// ParseSignal returns a signal as SIGNAME, or RTMIN+N as the number that it is. The error is a *[SyntaxError].
func ParseSignal(s string) (string, error) {
	t, at := trimmed(s)
	name := strings.TrimPrefix(strings.ToUpper(t), "SIG")
	if n, err := strconv.Atoi(t); err == nil && n >= 1 && n <= len(signals) {
		name = signals[n-1]
	}
	const rtmin, rtmax = 34, 64 // as the C library has them
	if n, err := strconv.Atoi(t); err == nil && n >= rtmin && n <= rtmax {
		return strconv.Itoa(n), nil
	}
	if offset, ok := strings.CutPrefix(name, "RTMIN+"); ok {
		if n, err := strconv.Atoi(offset); err == nil && n >= 0 && n <= rtmax-rtmin {
			return strconv.Itoa(rtmin + n), nil
		}
	}
	if !slices.Contains(signals, name) {
		e := syntaxError(at, len(t), "%q is no signal, such as SIGTERM", t)
		if near := Nearest(name, signals); near != "" && Certain(name, near) && len(near) > 2 {
			e.meant("SIG" + near)
		}
		return "", e
	}
	return "SIG" + name, nil
}

// SignalName returns SIGNAME for a number as engines show it, and what is no number as it is.
func SignalName(s string) string {
	if n, err := strconv.Atoi(s); err == nil && n >= 1 && n <= len(signals) {
		return "SIG" + signals[n-1]
	}
	return s
}

// ParsePlatform reads OS/ARCHITECTURE[/VARIANT], as images name them. The error is a *[SyntaxError].
func ParsePlatform(s string) (string, error) {
	t, at := trimmed(s)
	parts := strings.Split(t, "/")
	if len(parts) < 2 || len(parts) > 3 || slices.Contains(parts, "") || strings.ToLower(t) != t ||
		strings.ContainsAny(t, " \t") {
		return "", syntaxError(at, len(t), "a platform is such as linux/arm64 or linux/arm/v7")
	}
	return t, nil
}

// ParseAddress reads an IP address. The error is a *[SyntaxError].
func ParseAddress(s string) (string, error) {
	t, at := trimmed(s)
	a, err := netip.ParseAddr(t)
	if err != nil {
		return "", syntaxError(at, len(t), "%q is no IP address", t)
	}
	return a.String(), nil
}

// insideUser is a name or a number that an image has for an account, and one for a group (passwd(5), group(5)).
var insideUser = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.-]*\$?(:[A-Za-z0-9_][A-Za-z0-9_.-]*)?$`)

// ParseInsideUser reads NAME[:GROUP], an account of an image.
func ParseInsideUser(s string) (string, error) {
	if !insideUser.MatchString(s) {
		return "", errors.New("behind inside stands the name of an account that the image has, NAME or NAME:GROUP")
	}
	return s, nil
}

// ParseEngineName reads a name as engines have them for networks and volumes: letters, digits, and behind the
// first one also _ . and -. The error is a *[SyntaxError].
func ParseEngineName(s string) (string, error) {
	for i, c := range s {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
		if !letter && (i == 0 || c != '_' && c != '.' && c != '-') {
			_, size := utf8.DecodeRuneInString(s[i:])
			return "",
				syntaxError(i, size,
					"names on an engine have letters, digits, _ . and -, and begin with a letter or digit")
		}
	}
	if s == "" {
		return "", syntaxError(0, 0, "a name is missing here")
	}
	return s, nil
}

// ParseVariable reads the name of an environment variable. The error is a *[SyntaxError].
func ParseVariable(s string) (string, error) {
	if at := strings.IndexAny(s, "=\x00 \t"); at >= 0 || s == "" {
		return "", syntaxError(max(at, 0), min(1, len(s)), "%q is no name of a variable", s)
	}
	return s, nil
}

// ParseSubnet reads the addresses of a network, such as 198.51.100.0/26. The error is a *[SyntaxError].
func ParseSubnet(s string) (string, error) {
	t, at := trimmed(s)
	p, err := netip.ParsePrefix(t)
	if err != nil || p.Bits() == 0 {
		return "", syntaxError(at, len(t), "%q is no subnet, such as 198.51.100.0/26", t)
	}
	if p != p.Masked() {
		return "", syntaxError(at, len(t), "%s is an address inside a subnet; the subnet is %s", t, p.Masked())
	}
	return p.String(), nil
}

// ParseHostname reads a name that a machine can have (RFC 1123, 2.1; at most 63 letters). The error is a
// *[SyntaxError].
func ParseHostname(s string) (string, error) {
	t, at := trimmed(s)
	bad := strings.IndexFunc(t, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '-' && c != '.'
	})
	if t == "" || len(t) > 63 || bad >= 0 || strings.HasPrefix(t, "-") || strings.HasSuffix(t, "-") {
		return "", syntaxError(at, len(t), "a name of a machine has letters, digits, - and ., at most 63")
	}
	return t, nil
}

// ParseAlias reads a further name of a service on its networks: that of a machine, in which _ may stand, too, as other
// formats have it. The error is a *[SyntaxError].
func ParseAlias(s string) (string, error) {
	t, _ := trimmed(s)
	if _, err := ParseHostname(strings.ReplaceAll(s, "_", "x")); err != nil {
		return "", err
	}
	return t, nil
}

// ParseFolder reads an absolute path inside a container. The error is a *[SyntaxError].
func ParseFolder(s string) (string, error) {
	t, at := trimmed(s)
	if !path.IsAbs(t) {
		return "", syntaxError(at, len(t), "a path inside the container starts with /")
	}
	return path.Clean(t), nil
}
