package engine

import "slices"

// capabilities are what engines differ in where the API leaves room.
type capabilities struct {
	updateRestart bool // it can change the restart policy of a container that exists
	openLowPorts  bool // processes that are not root may listen below 1024 inside
	askRegistries bool // it asks a registry about an image without pulling it
	// names without a registry mean one certain registry; else the engine looks for them by rules of its own
	oneShortRegistry bool
	removeByID       bool // a network goes by its id; else by its name, as by id it would go although it is in use
	mountCommas      bool // a mount may have a comma in its path
	manyNetworks     bool // a container can be created on several networks at once
	atOnce           int  // how many questions it is asked at the same time
	fillReadOnly     bool // it puts files into a container whose root file system is read-only
	labelsBuilds     bool // labels of a build are on its result, also where that was there already
	tellsLimits      bool // which limits of processes were asked for; else those that there are, its own among them

	// how it is asked for its processes: options of ps, or a list of columns
	processes []string

	notReported  []string // fields of a container that it does not show
	missing      []string // what else it cannot be asked, and what follows for a deploy there
	firstProcess []string // where it looks for the program that init stands for; nil: it brings its own
}

var usual = capabilities{
	updateRestart:    true,
	openLowPorts:     true,
	askRegistries:    true,
	oneShortRegistry: true,
	removeByID:       true,
	mountCommas:      true,
	tellsLimits:      true,
	labelsBuilds:     true,
	atOnce:           64, // it may be far away
	processes:        []string{"-eo", "pid,user,pcpu,rss,args"},
}

var ofPodmansService = capabilities{
	manyNetworks: true,
	fillReadOnly: true,
	atOnce:       4, // with more, some of them take seconds
	processes:    []string{"hpid,user,pcpu,rss,args"},
	notReported:  []string{"log-limit", "sysctls", "aliases", "ipc"},
	missing: []string{
		"it cannot change a restart policy: where it restarts in the middle of a deploy, the next run " +
			"restores the old version",
		"it does not show aliases, log-limit, sysctls and ipc of a container: a change of " +
			"these by hand is not seen",
		"it gives times of log lines to the second: lines of several services within one second " +
			"are in the order of the services",
		"it does not ask a registry without pulling: lantern asks registries itself",
	},
	firstProcess: []string{ // containers.conf(5), init_path
		"/usr/libexec/podman/catatonit", "/usr/local/libexec/podman/catatonit", "/usr/local/lib/podman/catatonit",
		"/usr/lib/podman/catatonit", "/usr/bin/catatonit", "/usr/sbin/catatonit",
	},
}

// lacksInit reports whether a container with init could not be made there. Where lantern cannot look at the host's
// files, that is not known.
func (e *Engine) lacksInit() bool {
	return e.can.firstProcess != nil && e.Conn.Files != nil &&
		!slices.ContainsFunc(e.can.firstProcess, func(p string) bool {
			_, err := e.Conn.Files.Stat(p)
			return err == nil
		})
}

// TellsLimits reports whether the engine tells which limits of processes were asked for; else it tells those that there
// are, its own defaults among them.
func (e *Engine) TellsLimits() bool { return e.can.tellsLimits }
