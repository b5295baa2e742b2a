package check

import (
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

var safetyRules = []Rule{
	{
		Name: "safety-privileged", Severity: Warning, Needs: Files,
		Title:   "a service that has all the rights of root on the host",
		Text:    "An attacker inside it owns the machine. Usually a single capability or device is enough.",
		Mistake: `privileged = true`,
		Mended:  `devices = ["/dev/lamp0"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				if s.Settings.Privileged {
					in.report(s, source.Problem{
						At: settingAt(s, "privileged"),
						Message: s.FullName() + " is privileged: an attacker inside is root on " +
							s.Stack.Host.Name,
					})
				}
			}
		},
	}, {
		Name: "safety-engine", Severity: Warning, Needs: Files,
		Title: "a service that has the engine's own socket",
		Text: "Through it, it can start any container with any folder of the host, read-only or not: it " +
			"is root on the machine.",
		Mistake: `mounts = ["engine -> /run/e.sock, read-only", "/run/engine.sock -> /run/f.sock"]`,
		Mended:  `# without it; or accept.safety-engine = "it is our own, and reached from inside only"`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, m := range s.Mounts {
					if m.Kind == declare.MountEngine ||
						m.Kind == declare.MountPath && s.Stack.Host.Engine == "unix://"+m.Source {
						in.report(s, source.Problem{
							At: m.SourceAt,
							Message: s.FullName() + " commands the engine of " + s.Stack.Host.Name +
								": it can start anything there, as root",
						})
					}
				}
			}
		},
	}, {
		Name: "safety-host-network", Severity: Warning, Needs: Files,
		Title: "a service in the host's own network",
		Text: "It reaches what listens on the host's loopback only, and what it opens itself " +
			"is open on all addresses.",
		Mistake: `network = "host"`,
		Mended:  `ports = ["8710 -> 80"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				if s.NetworkMode == "host" {
					in.report(s, source.Problem{
						At: settingAt(s, "network"),
						Message: s.FullName() + " lives in the network of " + s.Stack.Host.Name +
							": it reaches what listens on its loopback only",
					})
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
						in.report(s, source.Problem{
							At:      s.ItemAt("capabilities", c),
							Message: s.FullName() + " has " + c + ": it can " + what,
						})
					}
				}
			}
		},
	},
}

// mighty says what a capability lets a service do to the host (capabilities(7)).
var mighty = map[string]string{
	"ALL":             "do nearly everything that root can",
	"SYS_ADMIN":       "mount the host's disks and leave the container",
	"SYS_MODULE":      "load programs into the kernel",
	"SYS_RAWIO":       "read and write the host's memory and disks directly",
	"DAC_READ_SEARCH": "read any file of the host by its handle", "SYS_BOOT": "restart the machine",
	"SYS_TIME": "change the machine's clock", "BPF": "run programs in the kernel",
	"NET_ADMIN":  "change the host's network, in which it lives",
	"SYS_PTRACE": "look into other processes, those of the host with pid = \"host\"",
	"MAC_ADMIN":  "change the host's security policy",
}
