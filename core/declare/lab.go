// Package declare turns lab.toml, stack.toml and environment files into declarations with a span on every
// value. It knows the keys and the grammars of the format; what a value means, and for whom, is worked out by
// package lab.
package declare

import (
	"errors"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/parallel"
	"proudlantern.example/lantern/core/source"
)

// Names of the files of a lab.
const (
	LabFile   = "lab.toml"
	StackFile = "stack.toml"
)

// Lab is a lab folder as declared.
type Lab struct {
	File                         *source.File
	Name, About, Timezone, Owner Text
	Let                          []Let
	Folders                      []Named
	Hosts                        []Host
	Networks                     []Network
	Gates                        []Gate
	Domains                      []Domain
	SignIns                      []SignIn
	Default                      Default
	Check, Accept                []Named
	Stacks                       []*Stack
	Cards                        []*Card // those that can be used

	// Strays are files that are probably meant to be a stack.toml, by their paths, and are called otherwise.
	Strays []string
	// Broken tells that lab.toml could not be read as a whole: what is missing in it says nothing.
	Broken bool

	EnvFiles map[string]*EnvFile // by path relative to the lab: all that the files name and that could be read
	Problems []source.Problem

	text func(path string) (string, error)

	tree    func(path string) ([]TreeEntry, error)
	context func(path string) (*Context, error)
}

// Named is a name with a text, such as an entry of [folder].
type Named struct {
	Name string
	At   source.Span
	Text Text
}

// Let is an entry of [let]: a text, one value of an environment file, one that a person is asked for at a deploy, or
// one that another service makes.
type Let struct {
	Name  string
	At    source.Span
	Value Text // not set where it is of another kind

	EnvFile, Key Text
	Random       Text // how many characters are made up where the file has no such key; not set: none are

	Ask  Text // what a person is asked for
	Once *bool

	From, File, Match Text // the service, its file, and the expression whose first group is the value
}

// Later reports whether no file holds the value: it comes to light at a deploy.
func (l Let) Later() bool { return l.Ask.IsSet() || l.From.IsSet() }

// MadeUp returns how many characters are made up for a value that is missing; 0 for none.
func (l Let) MadeUp() int {
	n, _ := strconv.Atoi(l.Random.Value)
	return n
}

// How many characters a value that is made up may have: fewer can be guessed, and more no program takes.
const (
	fewestRandom = 12
	mostRandom   = 256
)

// Host is a [host.NAME].
type Host struct {
	Name                             string
	At                               source.Span
	Engine, Address, Timezone, Owner Text
	Folders                          []Named
	ReservedPorts                    []Text
	TLS                              TLS
	Insecure                         Text
}

// TLS names the files, relative to the lab, of a connection to an engine over tcp.
type TLS struct{ CA, Cert, Key Text }

// Network is a [network.NAME]: one that stacks share on a host.
type Network struct {
	Name               string
	At                 source.Span
	Subnet, EngineName Text
	Internal, Existing *bool
}

// Default is [default]: what services without a word of their own get.
type Default struct {
	Restart, LogLimit, Memory, CPUs, StopWithin, Fetch, ReadyWithin Text
}

var labKeys = slices.Concat([]key[Lab]{
	text("lab", "the lab's name; required", `lab = "skerry-light"`, func(l *Lab) *Text { return &l.Name }),
	text("about", "what the lab is for", `about = "The volunteers' machines"`,
		func(l *Lab) *Text { return &l.About }),
	text("timezone", `an IANA name, or "host": the zone that the machine itself is set to`,
		`timezone = "Atlantic/Faroe"`, func(l *Lab) *Text { return &l.Timezone }),
	text("owner", "whose data it is: the account whose ids folders and images get", `owner = "keeper"`,
		func(l *Lab) *Text { return &l.Owner }),
	letKey(func(l *Lab) *[]Let { return &l.Let }),
	named("folder", "short names of host folders, as ${folder.NAME}", `folder.data = "/srv/skerry"`,
		"a folder", func(l *Lab) *[]Named { return &l.Folders }),
	tables("host", "a machine with an engine; without any there is one, local", `[host.lamp-room]`, "a host",
		func(r *reader, e entry, l *Lab) {
			h := Host{Name: e.key, At: e.keySpan}
			readTable(r, e, hostKeys, "a host", &h)
			l.Hosts = append(l.Hosts, h)
		}),
	tables("network", "a network that stacks share on a host", `[network.causeway]`, "a network",
		func(r *reader, e entry, l *Lab) {
			n := Network{Name: e.key, At: e.keySpan}
			readTable(r, e, networkKeys, "a network", &n)
			l.Networks = append(l.Networks, n)
		}),
}, siteTables, []key[Lab]{
	{
		name: "default", takes: FormTable, doc: "what every service gets that says nothing else",
		example: `default.restart = "always"`,
		read:    func(r *reader, e entry, l *Lab) { readTable(r, e, defaultKeys, "[default]", &l.Default) },
	},
	namedWord("check", "how severe the findings of a rule are", `check.image-absent = "warning"`, "a rule",
		severityWords, func(l *Lab) *[]Named { return &l.Check }),
	pairs("accept", FormPairs, "findings that are accepted: \"RULE\" or \"RULE SUBJECT\" = the reason",
		`accept = { engine-lacks = "this machine has no better engine" }`,
		func(l *Lab) *[]Named { return &l.Accept }),
})

// severityWords say how severe a finding is; off is no finding at all.
var severityWords = []string{"error", "warning", "note", "off"}

var networkKeys = []key[Network]{
	text("subnet", "its addresses; the engine's choice when left out", `subnet = "198.51.100.0/26"`,
		func(n *Network) *Text { return &n.Subnet }),
	boolean("internal", "nothing on it reaches the world outside the host", `internal = true`,
		func(n *Network) **bool { return &n.Internal }),
	boolean("existing", "made by somebody else: never made and never removed", `existing = true`,
		func(n *Network) **bool { return &n.Existing }),
	text("engine-name", "its name on the engine; LAB.NAME when left out", `engine-name = "old-causeway"`,
		func(n *Network) *Text { return &n.EngineName }),
}

var tlsKeys = []key[TLS]{
	text("ca", "the file of the authority that signed the engine's certificate", `ca = "tls/authority.pem"`,
		func(t *TLS) *Text { return &t.CA }),
	text("cert", "the file of lantern's own certificate", `cert = "tls/lantern.pem"`,
		func(t *TLS) *Text { return &t.Cert }),
	text("key", "the file of that certificate's key", `key = "tls/lantern.key"`,
		func(t *TLS) *Text { return &t.Key }),
}

var hostKeys = []key[Host]{
	text("engine",
		"the address of its engine: unix://PATH, ssh://[USER@]HOST[:PORT][/SOCKET] or tcp://HOST:PORT; the "+
			"engine's usual socket when left out", `engine = "unix:///var/run/docker.sock"`,
		func(h *Host) *Text { return &h.Engine }),
	text("address", "what links show; localhost when left out", `address = "192.0.2.14"`,
		func(h *Host) *Text { return &h.Address }),
	text("timezone", "the zone of its services", `timezone = "host"`, func(h *Host) *Text { return &h.Timezone }),
	text("owner", "whose data it is on this host", `owner = "ranger"`, func(h *Host) *Text { return &h.Owner }),
	named("folder", "this host's own meaning of a short name", `folder.data = "/home/keeper/skerry"`,
		"a folder", func(h *Host) *[]Named { return &h.Folders }),
	texts("reserved-ports",
		"ports that services must not publish, PORT[-PORT][/protocol][ for STACK/SERVICE]",
		`reserved-ports = ["22", "8780-8790/tcp"]`, func(h *Host) *[]Text { return &h.ReservedPorts }),
	{
		name: "tls", takes: FormTable, doc: "the files of a connection over tcp, relative to the lab",
		example: `tls.ca = "tls/authority.pem"`,
		read:    func(r *reader, e entry, h *Host) { readTable(r, e, tlsKeys, "tls", &h.TLS) },
		lines:   func(h *Host) []string { return dotted("tls", linesOf(tlsKeys, &h.TLS)) },
	},
	text("insecure", "why plain tcp to another machine is accepted", `insecure = "a cable of our own"`,
		func(h *Host) *Text { return &h.Insecure }),
}

var defaultKeys = []key[Default]{
	text("restart", "when the engine starts a container again; unless-stopped when left out",
		`restart = "unless-stopped"`, func(d *Default) *Text { return &d.Restart }),
	text("log-limit", "how much of a log is kept, files x size; 5 x 10MB when left out",
		`log-limit = "6 x 500kB"`, func(d *Default) *Text { return &d.LogLimit }),
	text("memory", "how much memory a service may use", `memory = "512MiB"`,
		func(d *Default) *Text { return &d.Memory }),
	number("cpus", FormNumber, "how many processors a service may use", `cpus = 1.5`,
		func(d *Default) *Text { return &d.CPUs }),
	text("stop-within", "how long a service may take to stop; 10s when left out", `stop-within = "30s"`,
		func(d *Default) *Text { return &d.StopWithin }),
	word("fetch", "when images are pulled; if-absent when left out", `fetch = "if-absent"`, fetchWords,
		func(d *Default) *Text { return &d.Fetch }),
	text("ready-within", "how long a service may take to become ready; 60s when left out",
		`ready-within = "2m"`, func(d *Default) *Text { return &d.ReadyWithin }),
}

// fetchWords say when an image is pulled.
var fetchWords = []string{"if-absent", "each-deploy", "never"}

// reservedWords begin references of their own and are therefore no names for [let].
var reservedWords = []string{"timezone", "owner", "host", "stack", "folder", "service", "shell"}

var letKeys = []key[Let]{
	text("env-file", "the environment file that holds the value", `env-file = "tide-log.env"`,
		func(l *Let) *Text { return &l.EnvFile }),
	text("key", "the variable in that file", `key = "TIDES_DB_PASSWORD"`, func(l *Let) *Text { return &l.Key }),
	number("random", FormInteger, "so many characters are made up once, and written into the file, where it has no such "+
		"key: by check --fix and by a deploy", `random = 32`, func(l *Let) *Text { return &l.Random }),
	text("ask", "instead of a file: what a person is asked for when a service that uses it is deployed; a secret",
		`ask = "Pairing code on the buoy's page"`, func(l *Let) *Text { return &l.Ask }),
	boolean("once", "beside ask: only for the first deploy of the service; later it does without", `once = true`,
		func(l *Let) **bool { return &l.Once }),
	text("from", "instead of a file: the service that makes the value; it is started first", `from = "gauge"`,
		func(l *Let) *Text { return &l.From }),
	text("file", "beside from: the file inside that service that the value is read out of", `file = "/state/gauge.conf"`,
		func(l *Let) *Text { return &l.File }),
	text("match", "beside from: a regular expression; its first group is the value", `match = "^access=(.*)$"`,
		func(l *Let) *Text { return &l.Match }),
}

// letKey makes the key of [let], which both files have.
func letKey[T any](field func(*T) *[]Let) key[T] {
	k := tables("let", "values to use anywhere as ${NAME}; a table takes one from an environment file",
		`let.db-name = "tides"`, "a value of [let]", func(r *reader, e entry, into *T) { r.let(e, field(into)) })
	k.takes = FormValues
	return k
}

func (r *reader) let(e entry, into *[]Let) {
	if slices.Contains(reservedWords, e.key) {
		r.problem("name-invalid", e.keySpan, "%s is a word of the format's own and no name for [let]", e.key)
		return
	}
	l := Let{Name: e.key, At: e.keySpan}
	if LooksSecret(e.key) && e.value.kind != kindTable {
		e.value.hide() // also when it is wrong
	}
	if e.value.kind != kindTable {
		value, ok := r.scalar(e.value)
		if !ok {
			return
		}
		l.Value = value
	} else {
		read(r, e.value.table, letKeys, "a value of [let]", &l)
		if !r.letKind(e, l) {
			return
		}
		if n := l.MadeUp(); l.Random.IsSet() && (n < fewestRandom || n > mostRandom) {
			r.problem("value-grammar", l.Random.Span, "random is the number of characters that are made up, from %d to %d",
				fewestRandom, mostRandom)
			return
		}
	}
	*into = append(*into, l)
}

// letKind reports whether an entry of [let] says one thing, and all of it.
func (r *reader) letKind(e entry, l Let) bool {
	file := l.EnvFile.IsSet() || l.Key.IsSet() || l.Random.IsSet()
	ask := l.Ask.IsSet() || l.Once != nil
	from := l.From.IsSet() || l.File.IsSet() || l.Match.IsSet()
	switch {
	case file && (ask || from), ask && from:
		r.problem("value-grammar", e.keySpan, "%s is one thing: a value of an env-file, one to ask for, or one from a service",
			e.key)
	case ask && !l.Ask.IsSet():
		r.problem("key-missing", e.keySpan, "%s needs ask, the question", e.key)
	case ask && (strings.TrimSpace(l.Ask.Value) == "" || !seen(l.Ask.Value)):
		r.problem("value-grammar", l.Ask.Span, "ask is the question that a person reads")
	case from && (!l.From.IsSet() || !l.File.IsSet() || !l.Match.IsSet()):
		r.problem("key-missing", e.keySpan, "%s needs all of from, file and match", e.key)
	case !ask && !from && (!l.EnvFile.IsSet() || !l.Key.IsSet()):
		r.problem("key-missing", e.keySpan, "%s needs both env-file and key", e.key)
	case from:
		return r.fromService(l)
	default:
		return true
	}
	return false
}

// fromService reports whether a value of another service can be read.
func (r *reader) fromService(l Let) bool {
	if !path.IsAbs(l.File.Value) || strings.ContainsRune(l.File.Value, 0) {
		r.problem("value-grammar", l.File.Part(0, len(l.File.Value)), "file is a path inside the service, from / on")
		return false
	}
	e, err := regexp.Compile(l.Match.Value)
	switch {
	case err != nil:
		r.problem("value-grammar", l.Match.Part(0, len(l.Match.Value)), "no regular expression: %s",
			strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	case e.NumSubexp() != 1:
		r.problem("value-grammar", l.Match.Part(0, len(l.Match.Value)), "match needs one group, such as ^access=(.*)$: it is the value")
	default:
		return true
	}
	return false
}

// Unreadable is an error of reading a file, in words for the person. Other errors are shown as they are.
type Unreadable struct{ Message string }

func (e *Unreadable) Error() string { return e.Message }

// Read reads a lab: lab.toml, the stack.toml of each of the named folders, and every environment file that
// these name. Texts are asked for by their path relative to the lab, several at a time; an error that is
// [fs.ErrNotExist] means that there is no such file, an *[Unreadable] carries its own words. The lab keeps
// text for environment files whose names are known only later. Whatever is wrong stands in the lab's
// Problems: all files are read in any case.
func Read(stacks []string, text func(path string) (string, error)) *Lab {
	l := &Lab{EnvFiles: map[string]*EnvFile{}, text: text}
	l.tree = func(path string) ([]TreeEntry, error) {
		t, err := text(path)
		return []TreeEntry{{Text: t}}, err
	}
	l.context = func(string) (*Context, error) { return nil, fs.ErrNotExist }
	r := &reader{toml: &tomlReader{}}
	l.File = r.open(LabFile, text)
	top := r.parse(l.File)
	before := len(r.problems)
	l.Broken = before > 0 // so far only the file as a whole was looked at
	if top != nil {
		read(r, top, labKeys, "lab.toml", l)
	}
	switch {
	case l.Name.IsSet() && !IsName(l.Name.Value):
		r.problem("name-invalid", l.Name.Span,
			"%q is no name for a lab: small letters, digits and -, starting with a letter, at most 40",
			l.Name.Value)
	case !l.Name.IsSet() && len(r.problems) == before && !l.Broken:
		r.problem("key-missing", l.File.Span(0, 0), `lab.toml needs the lab's name: lab = "skerry-light"`)
	}
	r.envFilesOfLet(l, "", l.Let)
	for _, d := range l.Domains {
		if d.DNSUpdate != nil {
			r.envFilesOfLet(l, "", []Let{d.DNSUpdate.Key})
		}
	}
	sort.Strings(stacks)
	l.Problems = r.problems
	r.stacks(l, stacks)
	return l
}

// Tree reads a file or folder of the lab as a whole, a folder before what is in it. Errors wrap those of io/fs, or are for
// the person.
func (l *Lab) Tree(path string) ([]TreeEntry, error) { return l.tree(path) }

// ReadTreesBy sets what reads folders, too; without it only single files can be read.
func (l *Lab) ReadTreesBy(tree func(path string) ([]TreeEntry, error)) { l.tree = tree }

// Context looks into a folder of the lab that a recipe may take files from. Errors wrap those of io/fs, or are for the
// person.
func (l *Lab) Context(path string) (*Context, error) { return l.context(path) }

// ReadContextsBy sets what looks into such folders; without it there are none.
func (l *Lab) ReadContextsBy(context func(path string) (*Context, error)) { l.context = context }

// stacks reads stack.toml files, as many at a time as there are processors, and then, one by one, the
// environment files that they name.
func (r *reader) stacks(l *Lab, names []string) {
	l.Stacks = make([]*Stack, len(names))
	problems := make([][]source.Problem, len(names))
	parallel.Each(len(names), func() func(int) {
		r := reader{toml: &tomlReader{}}
		return func(i int) {
			r.problems = nil
			l.Stacks[i], problems[i] = r.readStack(names[i], l), r.problems
		}
	})
	for i, s := range l.Stacks {
		r := reader{stack: s.Name, problems: problems[i]}
		r.envFilesOf(l, s)
		l.Problems = append(l.Problems, r.problems...)
	}
}

// open returns a file of the lab; when it cannot be read, an empty one and a problem.
func (r *reader) open(path string, text func(string) (string, error)) *source.File {
	content, err := text(path)
	r.file = source.NewFile(path, content)
	if err != nil {
		r.problem("syntax", r.file.Span(0, 0), "%s", unreadable(err))
	}
	return r.file
}

// parse returns the top table of a file, or nil when there is none to read.
func (r *reader) parse(file *source.File) *table {
	if file.Text == "" {
		return nil
	}
	if at, ok := firstInvalidUTF8(file.Text); ok {
		r.problem("syntax", file.Span(at, at+1), "not UTF-8: a byte 0x%02x stands here", file.Text[at])
		return nil
	}
	top, problems := r.toml.read(file)
	for _, p := range problems {
		r.problem(p.Rule, p.At, "%s", p.Message)
	}
	return top
}

func unreadable(err error) string {
	var known *Unreadable
	switch {
	case errors.As(err, &known):
		return known.Message
	case errors.Is(err, fs.ErrNotExist):
		return "there is no such file"
	case errors.Is(err, fs.ErrPermission):
		return "this file may not be read: permission denied"
	}
	return "this file cannot be read: " + err.Error()
}
