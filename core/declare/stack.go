package declare

import (
	"path"
	"regexp"
	"strings"

	"proudlantern.example/lantern/core/source"
)

// Stack is a stack.toml as declared. The name is the folder's.
type Stack struct {
	Name                         string
	File                         *source.File
	About, Host, Timezone, Owner Text
	Networks                     []Text // nil: none said
	OwnNetwork                   *bool
	Let                          []Let
	Volumes                      []Volume
	Accept                       []Named
	Services                     []*Service

	// Broken tells that the file could not be read as a whole: what is missing in it says nothing.
	Broken bool
}

// Volume is a [volume.NAME].
type Volume struct {
	Name               string
	At                 source.Span
	Existing           *bool
	EngineName, Driver Text
	Options, Labels    []Named
}

// Service is a [service.NAME] as declared.
type Service struct {
	Name string
	At   source.Span // of its name

	About, Image, Fetch, Owner, RunAs, Timezone, Restart, Page, LogLimit, StopWithin Text

	Ports, Mounts, OwnerVariables, EnvFiles, After, Secrets []Text
	Networks                                                []Text // nil: the stack's

	Env    []Variable
	Ready  *Ready
	Accept []Named

	Settings *Settings // nil: none of them is declared
}

// Settings are the keys of a service that few services need.
type Settings struct {
	Platform, WorkingDir, Hostname, TimezoneVariable, Memory, SharedMemory, CPUs, PID, IPC, Cgroup, StopSignal, Network, SharesNetworkWith, TakesOver, Reload Text

	Command, Entrypoint                                                                       []Text // nil: the image's own
	ExtraGroups, Listens, Aliases, Devices, Capabilities, DropCapabilities, DNS, Files, Sites []Text
	ReloadCommand                                                                             []Text // in the place of Reload

	Privileged, ReadOnly, Init, Overlap   *bool
	Sysctls, Labels, Ulimits, AddressBook []Named

	Build *Build // nil: its image comes from elsewhere

	Copies Text

	Switches map[string]source.Span // where a key of true or false is set, by its name
}

// Build says how an image of one's own is made.
type Build struct {
	At                    source.Span
	Folder, Recipe, Stage Text
	Arguments             []Named
}

// switched notes where a key of true or false is set.
func (s *Service) switched(key string, at source.Span) {
	if s.Settings.Switches == nil {
		s.Settings.Switches = map[string]source.Span{}
	}
	s.Settings.Switches[key] = at
}

// setting is where the reader of a rarer key puts its value.
func setting[T any](field func(*Settings) T) func(*Service) T {
	return func(s *Service) T {
		if s.Settings == nil {
			s.Settings = &Settings{}
		}
		return field(s.Settings)
	}
}

// Variable is an entry of env.
type Variable struct {
	Name  string
	At    source.Span
	Value Text
}

// Ready is how a service shows that it does its work.
type Ready struct {
	At                             source.Span
	HTTP, Status, Log, TCP, Within Text
	Command                        []Text
	Image                          *bool
}

var stackKeys = []key[Stack]{
	text("about", "what the stack is for", `about = "Tide readings since 1911"`,
		func(s *Stack) *Text { return &s.About }),
	text("host", "the host that it runs on; may be left out where the lab has one", `host = "lamp-room"`,
		func(s *Stack) *Text { return &s.Host }),
	text("timezone", "the zone of its services", `timezone = "UTC"`, func(s *Stack) *Text { return &s.Timezone }),
	text("owner", "whose data it is", `owner = "ranger:birds"`, func(s *Stack) *Text { return &s.Owner }),
	texts("networks", "the lab's networks that its services are on, beside its own",
		`networks = ["causeway"]`, func(s *Stack) *[]Text { return &s.Networks }),
	boolean("own-network", "whether it has a network of its own; true when left out", `own-network = false`,
		func(s *Stack) **bool { return &s.OwnNetwork }),
	letKey(func(s *Stack) *[]Let { return &s.Let }),
	tables("volume", "a volume of the engine", `[volume.readings]`, "a volume", func(r *reader, e entry, s *Stack) {
		v := Volume{Name: e.key, At: e.keySpan}
		readTable(r, e, volumeKeys, "a volume", &v)
		s.Volumes = append(s.Volumes, v)
	}),
	pairs("accept", FormPairs, "findings that are accepted: \"RULE\" or \"RULE SUBJECT\" = the reason",
		`accept = { "env-placeholder STATION" = "it is called so" }`, func(s *Stack) *[]Named { return &s.Accept }),
	tables("service", "a service: one container", `[service.desk]`, "a service",
		func(r *reader, e entry, s *Stack) {
			v := &Service{Name: e.key, At: e.keySpan}
			r.service = v.Name
			defer func() { r.service = "" }()
			before := len(r.problems)
			readTable(r, e, serviceKeys, "a service", v)
			v.hideListed(e.value)
			if !v.Image.IsSet() && len(r.problems) == before && !s.Broken {
				r.problem("key-missing", e.keySpan, "%s has no image", e.key)
			}
			s.Services = append(s.Services, v)
		}),
}

var volumeKeys = []key[Volume]{
	boolean("existing", "made by somebody else: never made and never removed", `existing = true`,
		func(v *Volume) **bool { return &v.Existing }),
	text("engine-name", "its name on the engine; STACK.NAME when left out", `engine-name = "old-readings"`,
		func(v *Volume) *Text { return &v.EngineName }),
	text("driver", "what keeps it; local when left out", `driver = "local"`,
		func(v *Volume) *Text { return &v.Driver }),
	pairs("options", FormPairs, "options of its driver", `options = { type = "tmpfs", device = "tmpfs" }`,
		func(v *Volume) *[]Named { return &v.Options }),
	pairs("labels", FormPairs, "labels of the volume", `labels = { "example.skerry.room" = "lamp" }`,
		func(v *Volume) *[]Named { return &v.Labels }),
}

var onlyHost = []string{"host"}

var serviceKeys = []key[Service]{
	text("about", "what it is for", `about = "the readings themselves"`,
		func(s *Service) *Text { return &s.About }),
	text("image", "the image, with tag, digest or both; required",
		`image = "registry.skerry.example/tide-desk:2.3"`, func(s *Service) *Text { return &s.Image }),
	{
		name: "build", takes: FormTable,
		doc:     "makes the image of a folder of the stack's own; image is then the name that the result bears",
		example: `build = { folder = "./image", stage = "small", arguments = { LEVEL = "quiet" } }`,
		read: func(r *reader, e entry, s *Service) {
			b := &Build{At: e.keySpan}
			setting(func(s *Settings) **Build { return &s.Build })(s)
			s.Settings.Build = b
			before := len(r.problems)
			readTable(r, e, buildKeys, "build", b)
			if len(r.problems) == before && !b.Folder.IsSet() {
				r.problem("key-missing", e.keySpan, `build needs the folder of the recipe: folder = "./image"`)
			}
		},
		lines: func(s *Service) []string {
			if s.Settings == nil || s.Settings.Build == nil {
				return nil
			}
			return inline("build", linesOf(buildKeys, s.Settings.Build))
		},
	},
	text("platform", "for which platform the image is taken; the host's when left out",
		`platform = "linux/arm64"`, setting(func(s *Settings) *Text { return &s.Platform })),
	word("fetch", "when the image is pulled", `fetch = "each-deploy"`, fetchWords,
		func(s *Service) *Text { return &s.Fetch }),
	texts("command", "instead of the image's", `command = ["serve", "--quiet"]`,
		setting(func(s *Settings) *[]Text { return &s.Command })),
	texts("entrypoint", "instead of the image's", `entrypoint = ["/bin/desk"]`,
		setting(func(s *Settings) *[]Text { return &s.Entrypoint })),
	text("working-dir", "the folder inside that the command starts in", `working-dir = "/data"`,
		setting(func(s *Settings) *Text { return &s.WorkingDir })),
	text("hostname", "its own name inside; STACK-SERVICE when left out", `hostname = "desk"`,
		setting(func(s *Settings) *Text { return &s.Hostname })),
	texts("ports", "published ports, [address:]host -> container[/protocol]",
		`ports = ["8710 -> 80", "localhost:8711-8712 -> 81-82/udp"]`, func(s *Service) *[]Text { return &s.Ports }),
	texts("listens",
		"ports that it opens itself when it shares the host's network, [ADDRESS:]PORT[-PORT][/protocol]",
		`listens = ["8710", "localhost:8711-8712/udp"]`, setting(func(s *Settings) *[]Text { return &s.Listens })),
	text("page", "the container port of its page, for links and for the proof after a deploy", `page = "80/"`,
		func(s *Service) *Text { return &s.Page }),
	texts("sites", "domains that lead to it through the gate: DOMAIN[/PATH] -> PORT[, option]; options are sign-in NAME, from NETWORK "+
		"[and NETWORK], plain, strip, tls, slow and pass-sign-in", `sites = ["tides.skerry.example -> 80", "skerry.example/charts -> 8080, strip"]`,
		setting(func(s *Settings) *[]Text { return &s.Sites })),
	texts("mounts", "what is mounted: a path, volume NAME, memory [SIZE] or engine -> path inside[, option]",
		`mounts = ["/srv/skerry -> /data, read-only", "volume readings -> /readings", "memory 64MiB -> /tmp"]`, func(s *Service) *[]Text { return &s.Mounts }),
	texts("files", "files and folders of the stack's folder that go into the container: ./SOURCE -> path inside[, option]; options are "+
		"fill, mode MODE and owner UID:GID", `files = ["./desk.conf -> /etc/desk.conf, fill, mode 0640", "./site -> /srv/site"]`,
		setting(func(s *Settings) *[]Text { return &s.Files })),
	{
		name: "reload", takes: FormTextOrTexts,
		doc: "how it gets to know that its files have changed, instead of being replaced: a signal, or a command that is " +
			"run inside",
		example: `reload = "SIGHUP"`,
		read: func(r *reader, e entry, s *Service) {
			into := setting(func(s *Settings) *Settings { return s })(s)
			if e.value.kind == kindArray {
				into.ReloadCommand = r.listOfTexts(e.value)
				return
			}
			if e.value.kind != kindString {
				r.wrongType(e.value, "a text or a list of texts")
				return
			}
			into.Reload = e.value.asText()
		},
		lines: func(s *Service) []string {
			if s.Settings == nil {
				return nil
			}
			return append(ofText("reload", s.Settings.Reload, quote), ofTexts("reload", s.Settings.ReloadCommand)...)
		},
	},
	text("owner",
		"whose data it works on: ACCOUNT, ACCOUNT:GROUP or UID:GID; names are looked up on the host",
		`owner = "keeper:watch"`, func(s *Service) *Text { return &s.Owner }),
	texts("owner-variables", "hands the owner's uid and gid over in these two variables",
		`owner-variables = ["WATCH_UID", "WATCH_GID"]`, func(s *Service) *[]Text { return &s.OwnerVariables }),
	text("run-as",
		"the user that the process is started as: owner, image, ACCOUNT[:GROUP], UID:GID, or \"inside NAME[:GROUP]\" for "+
			"one of the image's own accounts; image when left out", `run-as = "owner"`, func(s *Service) *Text { return &s.RunAs }),
	textsOrNumbers("extra-groups", "further groups of the process, names of the host or gids",
		`extra-groups = ["watch", "1410"]`, setting(func(s *Settings) *[]Text { return &s.ExtraGroups })),
	text("timezone", "IANA name, host or none; handed over as TZ", `timezone = "none"`,
		func(s *Service) *Text { return &s.Timezone }),
	text("timezone-variable", "the variable that the zone is handed over in; TZ when left out",
		`timezone-variable = "ZONE"`, setting(func(s *Settings) *Text { return &s.TimezoneVariable })),
	{name: "env", takes: FormValues, doc: "environment variables; they win over env-files",
		example: `env.DESK_LEVEL = "info"`, read: readEnv,
		lines: func(s *Service) []string { return ofVariables(s.Env) }},
	texts("env-files", "environment files, relative to the stack's folder; the later one wins",
		`env-files = ["tide-log.env"]`, func(s *Service) *[]Text { return &s.EnvFiles }),
	texts("secret-variables", "variables whose values are secret though their names do not look like it",
		`secret-variables = ["STATION"]`, func(s *Service) *[]Text { return &s.Secrets }),
	text("restart", "no, on-failure, on-failure N, unless-stopped or always", `restart = "on-failure 3"`,
		func(s *Service) *Text { return &s.Restart }),
	texts("after",
		"what has to be ready first: SERVICE, STACK/SERVICE on the same host, or \"NAME done\" for a job "+
			"that has to end without an error", `after = ["store", "mast/sensor", "import done"]`,
		func(s *Service) *[]Text { return &s.After }),
	{
		name: "ready", takes: FormTable, doc: "how it shows that it does its work",
		example: `ready = { http = "80/health", within = "45s" }`,
		lines: func(s *Service) []string {
			if s.Ready == nil {
				return nil
			}
			return inline("ready", linesOf(readyKeys, s.Ready))
		},
		read: func(r *reader, e entry, s *Service) { s.Ready = r.ready(e) },
	},
	texts("networks", "the lab's networks that it is on, beside the stack's own; the stack's when left out",
		`networks = ["causeway"]`, func(s *Service) *[]Text { return &s.Networks }),
	word("network", "instead of networks: the host's own, or none", `network = "none"`,
		[]string{"host", "none"}, setting(func(s *Settings) *Text { return &s.Network })),
	text("shares-network-with", "the service of the stack in whose network it lives",
		`shares-network-with = "store"`, setting(func(s *Settings) *Text { return &s.SharesNetworkWith })),
	texts("aliases", "further names on its networks", `aliases = ["tides"]`,
		setting(func(s *Settings) *[]Text { return &s.Aliases })),
	number("copies", FormInteger, "how many containers of it run, all under its one name; 1 when left out. They are replaced one after the "+
		"other, and a host port is a range of that length", `copies = 3`, setting(func(s *Settings) *Text { return &s.Copies })),
	boolean("overlap", "its new container may run beside the old one until it is proven", `overlap = true`,
		setting(func(s *Settings) **bool { return &s.Overlap })),
	text("takes-over", "the name of a container that was made by hand, or by another program: the first deploy of the service "+
		"takes its place", `takes-over = "old-desk"`, setting(func(s *Settings) *Text { return &s.TakesOver })),
	text("log-limit", "how much of its log is kept, files x size, or none", `log-limit = "3 x 1MB"`,
		func(s *Service) *Text { return &s.LogLimit }),
	text("memory", "how much memory it may use", `memory = "512MiB"`,
		setting(func(s *Settings) *Text { return &s.Memory })),
	text("shared-memory", "the size of its shared memory", `shared-memory = "128MiB"`,
		setting(func(s *Settings) *Text { return &s.SharedMemory })),
	number("cpus", FormNumber, "how many processors it may use", `cpus = 0.5`,
		setting(func(s *Settings) *Text { return &s.CPUs })),
	texts("devices", "devices of the host, PATH or PATH -> PATH", `devices = ["/dev/lamp0 -> /dev/lamp"]`,
		setting(func(s *Settings) *[]Text { return &s.Devices })),
	texts("capabilities", "capabilities beyond the usual ones", `capabilities = ["NET_ADMIN"]`,
		setting(func(s *Settings) *[]Text { return &s.Capabilities })),
	texts("drop-capabilities", "usual capabilities that it does not get; ALL for all",
		`drop-capabilities = ["ALL"]`, setting(func(s *Settings) *[]Text { return &s.DropCapabilities })),
	boolean("privileged", "may do to the host whatever root may", `privileged = true`,
		setting(func(s *Settings) **bool { return &s.Privileged })),
	boolean("read-only", "its root file system cannot be written", `read-only = true`,
		setting(func(s *Settings) **bool { return &s.ReadOnly })),
	boolean("init", "a small first process that reaps what is left over", `init = true`,
		setting(func(s *Settings) **bool { return &s.Init })),
	word("pid", "sees the host's processes", `pid = "host"`, onlyHost,
		setting(func(s *Settings) *Text { return &s.PID })),
	word("ipc", "shares the host's shared memory and semaphores", `ipc = "host"`, onlyHost,
		setting(func(s *Settings) *Text { return &s.IPC })),
	word("cgroup", "sees the host's control groups", `cgroup = "host"`, onlyHost,
		setting(func(s *Settings) *Text { return &s.Cgroup })),
	pairs("sysctls", FormPairs, "kernel settings of its own namespaces",
		`sysctls = { "net.core.somaxconn" = "512" }`, setting(func(s *Settings) *[]Named { return &s.Sysctls })),
	pairs("labels", FormPairs, "labels of the container", `labels = { "example.skerry.room" = "lamp" }`,
		setting(func(s *Settings) *[]Named { return &s.Labels })),
	pairs("ulimits", FormValues, "limits of its processes, N or SOFT:HARD",
		`ulimits = { nofile = "1024:4096" }`, setting(func(s *Settings) *[]Named { return &s.Ulimits })),
	pairs("address-book", FormPairs, "further names that resolve inside, to addresses",
		`address-book = { lamp = "192.0.2.14" }`, setting(func(s *Settings) *[]Named { return &s.AddressBook })),
	texts("dns", "addresses of name servers", `dns = ["192.0.2.53"]`,
		setting(func(s *Settings) *[]Text { return &s.DNS })),
	text("stop-signal", "the signal that tells it to stop", `stop-signal = "SIGINT"`,
		setting(func(s *Settings) *Text { return &s.StopSignal })),
	text("stop-within", "how long it may take to stop", `stop-within = "1m"`,
		func(s *Service) *Text { return &s.StopWithin }),
	pairs("accept", FormPairs, "findings that are accepted: \"RULE\" or \"RULE SUBJECT\" = the reason",
		`accept = { port-clash = "never at the same time" }`, func(s *Service) *[]Named { return &s.Accept }),
}

var buildKeys = []key[Build]{
	text("folder", "the folder of what the recipe may take files from, in the stack's folder", `folder = "./image"`,
		func(b *Build) *Text { return &b.Folder }),
	text("recipe", "the recipe's file in that folder; Containerfile or Dockerfile when left out", `recipe = "Containerfile.small"`,
		func(b *Build) *Text { return &b.Recipe }),
	text("stage", "the stage of the recipe that is the result; the last one when left out", `stage = "small"`,
		func(b *Build) *Text { return &b.Stage }),
	pairs("arguments", FormValues, "values of the recipe's ARG lines; everybody who has the image can read them",
		`arguments = { LEVEL = "quiet" }`, func(b *Build) *[]Named { return &b.Arguments }),
}

var readyKeys = []key[Ready]{
	text("http", "a container port and path that answers, https in front for TLS", `http = "80/health"`,
		func(y *Ready) *Text { return &y.HTTP }),
	text("status", "the status codes that count; 200-399 when left out", `status = "200-204"`,
		func(y *Ready) *Text { return &y.Status }),
	number("tcp", FormInteger, "a container port that accepts connections", `tcp = 7410`,
		func(y *Ready) *Text { return &y.TCP }),
	text("log", "a regular expression that a line of its log matches", `log = "open for readings"`,
		func(y *Ready) *Text { return &y.Log }),
	text("within", "how long it may take", `within = "90s"`, func(y *Ready) *Text { return &y.Within }),
	texts("command", "a command that ends without an error inside", `command = ["/bin/desk", "ask"]`,
		func(y *Ready) *[]Text { return &y.Command }),
	boolean("image", "the check that the image declares itself", `image = true`,
		func(y *Ready) **bool { return &y.Image }),
}

// ready reads how a service, or an image, shows that it does its work.
func (r *reader) ready(e entry) *Ready {
	y := &Ready{At: e.keySpan}
	before := len(r.problems)
	readTable(r, e, readyKeys, "ready", y)
	kinds := 0
	for _, t := range []Text{y.HTTP, y.TCP, y.Log} {
		if t.IsSet() {
			kinds++
		}
	}
	if len(y.Command) > 0 {
		kinds++
	}
	if IsTrue(y.Image) {
		kinds++
	}
	if len(r.problems) == before && (kinds > 1 || kinds == 0 && !y.Within.IsSet()) {
		r.problem("key-missing", e.keySpan, "ready needs one of http, tcp, log, command and image")
	}
	return y
}

func readEnv(r *reader, e entry, s *Service) {
	if e.value.kind != kindTable {
		r.wrongType(e.value, "a table of variables")
		return
	}
	for _, e := range e.value.table.entries {
		hideSecrets(e) // also what is not read, or is wrong
	}
	for _, e := range most(r, e.value.table.entries, e.keySpan) {
		if e.key == "" || strings.ContainsAny(e.key, "=\x00") {
			r.problem("value-grammar", e.keySpan, "%q is no name of a variable", e.key)
			continue
		}
		if value, ok := r.scalar(e.value); ok {
			s.Env = append(s.Env, Variable{e.key, e.keySpan, value})
		}
	}
}

// hideListed keeps the values of variables that a service itself calls secret out of excerpts.
func (s *Service) hideListed(n *node) {
	if n.kind != kindTable {
		return
	}
	env, ok := n.table.get("env")
	if !ok || env.value.kind != kindTable {
		return
	}
	for _, t := range s.Secrets {
		if e, ok := env.value.table.get(t.Value); ok {
			e.value.hideSecrets(true)
		}
	}
}

// stray matches names that are nearly stack.toml.
var stray = regexp.MustCompile(`(?i)^(stacks?\.(toml|tml|ya?ml|json|txt|conf)|stack)$`)

// IsStray reports whether a file is probably meant to be a stack.toml, and is called otherwise.
func IsStray(name string) bool { return name != StackFile && stray.MatchString(name) }

// readStack reads one stack.toml.
func (r *reader) readStack(name string, l *Lab) *Stack {
	before := len(r.problems)
	r.stack = name
	defer func() { r.stack = "" }()
	s := &Stack{Name: name}
	s.File = r.open(path.Join(name, StackFile), l.text)
	if !IsName(name) {
		r.problem("name-invalid", s.File.Span(0, 0),
			"the folder's name %q is no name for a stack: small letters, digits and -, starting "+
				"with a letter, at most 40", name)
	}
	top := r.parse(s.File)
	for _, p := range r.problems[before:] {
		s.Broken = s.Broken || p.Rule == "syntax"
	}
	if top != nil {
		read(r, top, stackKeys, "stack.toml", s)
	}
	return s
}

// envFilesOf reads the environment files that a stack names.
func (r *reader) envFilesOf(l *Lab, s *Stack) {
	r.envFilesOfLet(l, s.Name, s.Let)
	for _, v := range s.Services {
		r.service = v.Name
		for _, f := range v.EnvFiles {
			r.envFile(l, s.Name, f)
		}
	}
	r.service = ""
}

func (r *reader) envFilesOfLet(l *Lab, dir string, lets []Let) {
	for _, let := range lets {
		if let.EnvFile.IsSet() {
			before := len(r.problems)
			r.envFile(l, dir, let.EnvFile)
			for i := range r.problems[before:] {
				if p := &r.problems[before+i]; p.Rule == "env-file-missing" && let.Random.IsSet() {
					p.Mend = MakesUp()
				}
			}
		}
	}
}

// Tables are written by the keys that they are read by; set here, as these tables contain each other.
func init() {
	written(stackKeys, "volume", func(w *writer, path string, s *Stack) {
		for _, v := range s.Volumes {
			w.namedTable(path+"volume."+v.Name, linesOf(volumeKeys, &v))
		}
	})
	written(stackKeys, "service", func(w *writer, path string, s *Stack) {
		for _, v := range s.Services {
			one := *v // asking for a rarer setting makes room for it
			if v.Settings != nil {
				settings := *v.Settings
				one.Settings = &settings
			}
			w.namedTable(path+"service."+v.Name, linesOf(serviceKeys, &one))
		}
	})
	written(stackKeys, "let", func(w *writer, path string, s *Stack) { w.table(path+"let", ofLets(s.Let)) })
	written(labKeys, "let", func(w *writer, path string, l *Lab) { w.table(path+"let", ofLets(l.Let)) })
	written(labKeys, "host", func(w *writer, path string, l *Lab) {
		for _, h := range l.Hosts {
			w.namedTable(path+"host."+h.Name, linesOf(hostKeys, &h))
			writeTables(w, hostKeys, path+"host."+h.Name+".", &h)
		}
	})
	written(labKeys, "network", func(w *writer, path string, l *Lab) {
		for _, n := range l.Networks {
			w.namedTable(path+"network."+n.Name, linesOf(networkKeys, &n))
		}
	})
	written(labKeys, "gate", func(w *writer, path string, l *Lab) {
		for _, g := range l.Gates {
			w.namedTable(path+"gate."+g.Host, linesOf(gateKeys, &g))
		}
	})
	written(labKeys, "domain", func(w *writer, path string, l *Lab) {
		for _, d := range l.Domains {
			w.namedTable(path+"domain."+KeyName(d.Name), linesOf(domainKeys, &d))
		}
	})
	written(labKeys, "sign-in", func(w *writer, path string, l *Lab) {
		for _, s := range l.SignIns {
			w.namedTable(path+"sign-in."+s.Name, linesOf(signInKeys, &s))
		}
	})
	written(labKeys, "default", func(w *writer, path string, l *Lab) {
		w.table(path+"default", linesOf(defaultKeys, &l.Default))
	})
}

// written sets how a key of tables is written.
func written[T any](keys []key[T], name string, tables func(w *writer, path string, from *T)) {
	for i := range keys {
		if keys[i].name == name {
			keys[i].tables = tables
		}
	}
}
