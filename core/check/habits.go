package check

import (
	"fmt"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

var habitRules = []Rule{
	{
		Name: "restart-never", Severity: Note, Needs: Files,
		Title:   "a service with a page that is never started again",
		Text:    "After an error, or a restart of the machine, its page is gone until somebody notices.",
		Mistake: "restart = \"no\"\npage = \"8080/\"",
		Mended:  "restart = \"unless-stopped\"\npage = \"8080/\"",
		Find: func(in *Input) {
			for _, s := range in.services() {
				if s.Page != nil && s.Restart.Policy == "no" {
					in.report(s, source.Problem{At: s.Page.At, Message: s.FullName() + " has a page, and restart = \"no\" leaves it down after an error or a restart of the machine"})
				}
			}
		},
	}, {
		Name: "restart-loops", Severity: Warning, Needs: Files,
		Title:   "a job that others wait for to be done, and that is started again whenever it ends",
		Text:    "It is never done: the engine starts it anew, and what waits for it waits for a moment that passes.",
		Mistake: `after = ["job done"]    # and job has restart = "unless-stopped"`,
		Mended:  `restart = "on-failure 3"    # of job`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, a := range s.After {
					if p := a.Service.Restart.Policy; a.Done && (p == "always" || p == "unless-stopped") {
						in.report(s, source.Problem{At: a.At, Message: fmt.Sprintf("%s is started again whenever it ends (restart %s), so it is never done", nameIn(s.Stack, a.Service), p)})
					}
				}
			}
		},
	}, {
		Name: "ready-unreachable", Severity: Error, Needs: Files,
		Title:   "ready by http or tcp of a service without a network",
		Text:    "Nobody can ask it there, so it would never count as ready. A command inside, or a line of its log, can tell.",
		Mistake: "network = \"none\"\nready = { tcp = 8080 }",
		Mended:  "network = \"none\"\nready = { log = \"open for readings\" }",
		Find: func(in *Input) {
			for _, s := range in.services() {
				alone := s.NetworkMode == "none" || s.NetworkOf != nil && s.NetworkOf.NetworkMode == "none"
				if y := s.Ready; alone && y != nil && (y.HTTP != nil || y.TCP > 0) {
					in.report(s, source.Problem{At: y.At, Message: s.FullName() + " has no network, so nobody can ask it on a port"})
				}
			}
		},
	}, {
		Name: "log-unbounded", Severity: Warning, Needs: Host,
		Title:   "a log without any limit, on an engine that has none of its own",
		Text:    "It grows until the disk is full, and then everything on the host stops.",
		Mistake: `log-limit = "none"`,
		Mended:  `log-limit = "5 x 10MB"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				if e := s.Stack.Host.Survey.Engine; s.LogLimit.Files == 0 && e != nil && e.LogLimit != nil && !*e.LogLimit {
					in.report(s, source.Problem{At: settingAt(s, "log-limit"), Message: "the log of " + s.FullName() + " grows without a limit, and the engine of " + s.Stack.Host.Name + " has none of its own"})
				}
			}
		},
	}, {
		Name: "capacity-memory", Severity: Note, Needs: Host,
		Title:   "the memory limits of a host's services add up to more than it has",
		Text:    "Limits are no reservations, so this may well work. When all need theirs at once, the kernel ends some of them.",
		Mistake: `memory = "5GiB"    # twice, on a machine with 8 GiB`,
		Mended:  `memory = "3GiB"`,
		Find: func(in *Input) {
			sums := map[*lab.Host]int64{}
			for _, s := range in.surveyed() {
				sums[s.Stack.Host] += s.Settings.Memory
			}
			for _, h := range in.Lab.Hosts {
				if h.Survey != nil && h.Survey.Memory > 0 && sums[h] > h.Survey.Memory {
					in.reportHost(h, source.Problem{At: h.At, Message: fmt.Sprintf("the limits of the services on %s add up to %s, and it has %s", h.Name, bytes(sums[h]), bytes(h.Survey.Memory))})
				}
			}
		},
	}, {
		Name: "safety-privileged", Severity: Warning, Needs: Files,
		Title:   "a service that may do to the host whatever root may",
		Text:    "Whoever takes it over owns the machine. A single capability or device is usually all that is needed.",
		Mistake: `privileged = true`,
		Mended:  `devices = ["/dev/lamp0"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				if s.Settings.Privileged {
					in.report(s, source.Problem{At: settingAt(s, "privileged"), Message: s.FullName() + " is privileged: whoever takes it over is root on " + s.Stack.Host.Name})
				}
			}
		},
	}, {
		Name: "safety-engine", Severity: Warning, Needs: Files,
		Title:   "a service that has the engine's own socket",
		Text:    "Through it, it can start any container with any folder of the host, read-only or not: it is root on the machine.",
		Mistake: `mounts = ["engine -> /run/e.sock, read-only", "/var/run/engine.sock -> /run/f.sock"]`,
		Mended:  `# without it; or accept.safety-engine = "it is our own, and reached from inside only"`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, m := range s.Mounts {
					if m.Kind == declare.MountEngine || m.Kind == declare.MountPath && s.Stack.Host.Engine == "unix://"+m.Source {
						in.report(s, source.Problem{At: m.SourceAt, Message: s.FullName() + " commands the engine of " + s.Stack.Host.Name + ": it can start anything there, as root"})
					}
				}
			}
		},
	}, {
		Name: "safety-host-network", Severity: Warning, Needs: Files,
		Title:   "a service in the host's own network",
		Text:    "It reaches what listens on the host's loopback only, and what it opens itself is open on all addresses.",
		Mistake: `network = "host"`,
		Mended:  `ports = ["8710 -> 80"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				if s.NetworkMode == "host" {
					in.report(s, source.Problem{At: settingAt(s, "network"), Message: s.FullName() + " lives in the network of " + s.Stack.Host.Name + ": it reaches what listens on its loopback only"})
				}
			}
		},
	}, {
		Name: "safety-capability", Severity: Warning, Needs: Files,
		Title:   "a capability with which a service can take over the host",
		Text:    "Each of these gets past the walls of a container.",
		Mistake: `capabilities = ["SYS_ADMIN", "CHOWN"]`,
		Mended:  `capabilities = ["CHOWN"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, c := range s.Settings.Capabilities {
					if what := mighty[c]; what != "" && (c != "NET_ADMIN" || s.HostNetwork()) {
						in.report(s, source.Problem{At: s.ItemAt("capabilities", c), Message: s.FullName() + " has " + c + ": it can " + what})
					}
				}
			}
		},
	},
}

// mighty says what a capability lets a service do to the host (capabilities(7)).
var mighty = map[string]string{
	"ALL": "do nearly everything that root can", "SYS_ADMIN": "mount the host's disks and leave the container", "SYS_MODULE": "load programs into the kernel", "SYS_RAWIO": "read and write the host's memory and disks directly",
	"DAC_READ_SEARCH": "read any file of the host by its handle", "SYS_BOOT": "restart the machine", "SYS_TIME": "change the machine's clock", "BPF": "run programs in the kernel",
	"NET_ADMIN": "change the host's network, in which it lives", "SYS_PTRACE": "look into other processes, those of the host with pid = \"host\"", "MAC_ADMIN": "change the host's security policy",
}

// bytes words an amount of memory.
func bytes(n int64) string {
	if n >= 1<<30 {
		return strings.TrimSuffix(fmt.Sprintf("%.1f", float64(n)/(1<<30)), ".0") + " GiB"
	}
	return fmt.Sprintf("%d MiB", n>>20)
}
