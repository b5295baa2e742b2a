package interchange

import "slices"

// element is one of the specification: what becomes of it here. This table is the whole of it; docs/import.md is
// printed from it.
type element struct {
	name    string
	becomes string // the key of ours, or how it is understood
	instead string // what to do where it has no counterpart; a note says it
	read    func(c *converter, s *service, p pair)
}

func find(all []element, name string) (element, bool) {
	i := slices.IndexFunc(all, func(e element) bool { return e.name == name })
	if i < 0 {
		return element{}, false
	}
	return all[i], true
}

// Element is a line of the reference.
type Element struct{ Path, Becomes, Instead string }

// Elements returns all elements, those of the file first.
func Elements() []Element {
	var all []Element
	for _, e := range topElements {
		all = append(all, Element{e.name, e.becomes, e.instead})
	}
	for _, e := range serviceElements {
		all = append(all, Element{"services." + e.name, e.becomes, e.instead})
	}
	return all
}

// topElements stand beside the services.
var topElements = []element{
	{name: "version", becomes: "nothing: the specification itself ignores it"},
	{name: "name", becomes: "`about` of the stack"},
	{name: "services", becomes: "`[service.NAME]`"},
	{name: "volumes", becomes: "`[volume.NAME]`: external, name, driver, driver_opts, labels"},
	{name: "networks", becomes: "the stack's own network; external ones are to be added to lab.toml"},
	{name: "configs", instead: "put the file into the stack's folder: files = [\"./NAME -> /PATH\"] brings it into the container"},
	{name: "secrets", instead: "put the file into the stack's folder, mode 0600: files = [\"./NAME -> /run/secrets/NAME, mode 0400\"] brings it into the container"},
	{name: "models", instead: "has no counterpart: declare the server of the model as a service"},
	{name: "include", becomes: "read, below the folder of the file"},
}

const noCounterpart = "has no counterpart"

// serviceElements are those of a service, in the order in which they are written.
var serviceElements []element

// An element reads by functions that look elements up again.
func init() {
	serviceElements = []element{
		{name: "image", becomes: "`image`", read: plainText("image")},
		{name: "build", becomes: "`build`; the folder has to be copied into the stack's", read: readBuild},
		{name: "platform", becomes: "`platform`", read: plainText("platform")},
		{name: "pull_policy", becomes: "`fetch`", read: readPullPolicy},
		{name: "container_name", becomes: "`aliases`: containers are called STACK.SERVICE here", read: readContainerName},
		{name: "command", becomes: "`command`", read: readCommand("command")},
		{name: "entrypoint", becomes: "`entrypoint`", read: readCommand("entrypoint")},
		{name: "working_dir", becomes: "`working-dir`", read: plainText("working-dir")},
		{name: "hostname", becomes: "`hostname`", read: plainText("hostname")},
		{name: "domainname", instead: "has no counterpart: write it into hostname, behind a dot"},
		{name: "user", becomes: "`run-as`", read: readUser},
		{name: "group_add", becomes: "`extra-groups`", read: readList("extra-groups")},
		{name: "environment", becomes: "`env`; secrets go into an environment file", read: readEnvironment},
		{name: "env_file", becomes: "`env`; secrets go into an environment file", read: readEnvFile},
		{name: "ports", becomes: "`ports`", read: readPorts},
		{name: "expose", becomes: "nothing: services of a stack reach each other on every port"},
		{name: "volumes", becomes: "`mounts`", read: readMounts},
		{name: "tmpfs", becomes: "`mounts`: memory", read: readTmpfs},
		{name: "restart", becomes: "`restart`; left out it means no there, so that is written", read: readRestart},
		{name: "depends_on", becomes: "`after`", read: readDependsOn},
		{name: "healthcheck", becomes: "`ready = { command = … }`; interval, retries and start_period make `within`, timeout and start_interval mean nothing here", read: readHealth},
		{name: "networks", becomes: "`networks`, `aliases`", read: readNetworks},
		{name: "network_mode", becomes: "`network`, `shares-network-with`", read: readNetworkMode},
		{name: "links", becomes: "`after`", read: readLinks},
		{name: "labels", becomes: "`labels`", read: readTable("labels")},
		{name: "logging", becomes: "`log-limit`: max-size and max-file of json-file and local", read: readLogging},
		{name: "mem_limit", becomes: "`memory`", read: readSize("memory")},
		{name: "shm_size", becomes: "`shared-memory`", read: readSize("shared-memory")},
		{name: "cpus", becomes: "`cpus`", read: readNumber("cpus")},
		{name: "deploy", becomes: "`memory` and `cpus` of resources.limits, and `copies` of replicas", read: readDeploy},
		{name: "devices", becomes: "`devices`", read: readDevices},
		{name: "cap_add", becomes: "`capabilities`", read: readList("capabilities")},
		{name: "cap_drop", becomes: "`drop-capabilities`", read: readList("drop-capabilities")},
		{name: "privileged", becomes: "`privileged`", read: readFlag("privileged")},
		{name: "read_only", becomes: "`read-only`", read: readFlag("read-only")},
		{name: "init", becomes: "`init`", read: readFlag("init")},
		{name: "pid", becomes: "`pid`", read: readHostWord("pid")},
		{name: "ipc", becomes: "`ipc`", read: readHostWord("ipc")},
		{name: "cgroup", becomes: "`cgroup`", read: readHostWord("cgroup")},
		{name: "sysctls", becomes: "`sysctls`", read: readTable("sysctls")},
		{name: "ulimits", becomes: "`ulimits`", read: readUlimits},
		{name: "extra_hosts", becomes: "`address-book`", read: readExtraHosts},
		{name: "dns", becomes: "`dns`", read: readList("dns")},
		{name: "stop_signal", becomes: "`stop-signal`", read: plainText("stop-signal")},
		{name: "stop_grace_period", becomes: "`stop-within`", read: readDuration("stop-within")},
		{name: "profiles", becomes: "which services are read: --profile"},
		{name: "extends", becomes: "read, below the folder of the file"},
		{name: "configs", instead: "put the file into the stack's folder: files = [\"./NAME -> /PATH\"] brings it into the container"},
		{name: "secrets", instead: "put the file into the stack's folder, mode 0600: files = [\"./NAME -> /run/secrets/NAME, mode 0400\"] brings it into the container"},
		{name: "scale", becomes: "`copies`", read: readCopies},
		{name: "stdin_open", becomes: "nothing: lantern shell opens a terminal when you need one"},
		{name: "tty", becomes: "nothing: lantern shell opens a terminal when you need one"},
		{name: "annotations", instead: noCounterpart + ": labels is near"},
		{name: "attach", becomes: "nothing: lantern logs shows every service"},
		{name: "blkio_config", instead: noCounterpart + ": leave it out; a share of the disk cannot be limited"},
		{name: "cgroup_parent", instead: noCounterpart + ": memory and cpus limit the service itself"},
		{name: "cpu_count", instead: noCounterpart + ": cpus limits processors"},
		{name: "cpu_percent", instead: noCounterpart + ": cpus limits processors"},
		{name: "cpu_period", instead: noCounterpart + ": cpus limits processors"},
		{name: "cpu_quota", instead: noCounterpart + ": cpus limits processors"},
		{name: "cpu_rt_period", instead: noCounterpart + ": cpus limits processors, and nothing runs in real time"},
		{name: "cpu_rt_runtime", instead: noCounterpart + ": cpus limits processors, and nothing runs in real time"},
		{name: "cpu_shares", instead: noCounterpart + ": cpus limits processors"},
		{name: "cpuset", instead: noCounterpart + ": cpus limits how many processors it uses, not which"},
		{name: "credential_spec", instead: noCounterpart + ": it is of another system, leave it out"},
		{name: "develop", instead: noCounterpart + ": lantern deploys what is built"},
		{name: "device_cgroup_rules", instead: noCounterpart + ": devices names single ones"},
		{name: "dns_opt", instead: noCounterpart + ": dns names the servers, and how they are asked is up to the engine"},
		{name: "dns_search", instead: noCounterpart + ": write whole names, with their domain"},
		{name: "external_links", instead: "share a network of the lab with that service, and use its name"},
		{name: "gpus", instead: noCounterpart + ": devices names device files"},
		{name: "isolation", instead: noCounterpart + ": it is of another system, leave it out"},
		{name: "label_file", instead: "write the labels of the file into labels"},
		{name: "mac_address", instead: noCounterpart + ": the engine picks one; what needs a fixed one can be on the network of the host"},
		{name: "mem_reservation", instead: noCounterpart + ": memory limits it"},
		{name: "mem_swappiness", instead: noCounterpart + ": memory limits it, and swap follows the host"},
		{name: "memswap_limit", instead: noCounterpart + ": memory limits it, and swap follows the engine"},
		{name: "models", instead: noCounterpart + ": put the address of the model's server into env"},
		{name: "oom_kill_disable", instead: noCounterpart + ": give it enough with memory"},
		{name: "oom_score_adj", instead: noCounterpart + ": limit with memory what takes too much"},
		{name: "pids_limit", instead: noCounterpart + ": ulimits = { nproc = \"N\" } is near"},
		{name: "post_start", instead: noCounterpart + ": a job that others wait for can do that: after = [\"NAME done\"]"},
		{name: "pre_stop", instead: noCounterpart + ": stop-within gives it time to end by itself"},
		{name: "provider", instead: noCounterpart + ": start it outside, and put its address into env"},
		{name: "pull_refresh_after", instead: noCounterpart + ": fetch = \"each-deploy\" looks at each deploy"},
		{name: "runtime", instead: noCounterpart + ": the usual one of the engine is taken; set another one there"},
		{name: "security_opt", instead: noCounterpart + ": it is confined as the engine does; drop-capabilities and read-only take more away"},
		{name: "storage_opt", instead: noCounterpart + ": set it in the configuration of the engine"},
		{name: "use_api_socket", instead: "mounts = [\"engine -> /PATH/OF/SOCKET\"] hands the engine's socket in; lantern about safety-engine says what that means"},
		{name: "userns_mode", instead: noCounterpart + ": set it in the configuration of the engine"},
		{name: "uts", instead: noCounterpart + ": hostname gives it a name of its own"},
		{name: "volumes_from", instead: "mount the same folders or volumes in both services"},
	}
}
