// Package lab works out what declarations mean: references, defaults, identities on the host, the environment
// of each service with its origins. What cannot be worked out is a problem at its place, and the value stays
// unknown.
package lab

import (
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// Lab is a resolved lab.
type Lab struct {
	Name     string
	NameAt   source.Span
	ZoneAt   source.Span // of the lab's own timezone; zero: none
	Hosts    []*Host
	Networks []*Network
	Stacks   []*Stack
	Gates    []*Gate
	Domains  []*Domain
	SignIns  []*SignIn
	Problems []source.Problem
	Broken   bool // lab.toml could not be read to its end: what is missing in it says nothing

	Severities []Severity // that [check] gives to rules
	Accepted   []Accepted

	PlainLets []PlainLet // secrets that [let] holds to the letter

	EnvFiles map[string]*declare.EnvFile // nil for one that could not be read
	Files    map[string]FileFact         // of the lab's own files; nil: not surveyed

	secrets map[secret.Text]bool // that references lead to
	built   map[builtOn]*Service
}

// PlainLet is a secret that an entry of [let] holds to the letter, in lab.toml or in the file of a stack.
type PlainLet struct {
	Stack, Name string // "" for lab.toml
	At          source.Span
}

// Host is a machine with an engine.
type Host struct {
	Name    string
	Engine  string      // its address; "" for the engine's usual socket
	At      source.Span // of the engine's address, else of the host's name, else of the lab's
	Address string      // what links show; "localhost" when none is declared
	TLS     TLS
	// Insecure tells that somebody has given a reason why plain tcp is good enough here.
	Insecure bool

	Reserved []Reserved

	// Survey is nil where the host was not surveyed; rules that need it are then skipped.
	Survey *survey.Survey

	decl  *declare.Host
	scope *scope // lab.toml as this host sees it: with its own folders
}

// TLS names the files of a connection to an engine over tcp; all "" for a plain one.
type TLS struct{ CA, Cert, Key string }

// Reserved are ports of a host that are kept from services.
type Reserved struct {
	declare.Reserved
	At source.Span
}

// Network is one that stacks share on a host.
type Network struct {
	Name         string
	At           source.Span
	EngineName   string
	EngineNameAt source.Span // zero for the usual one
	Subnet       string      // "": the engine's choice
	SubnetAt     source.Span // zero where none is declared
	Internal     bool
	Existing     bool // made by somebody else
}

// Volume is a volume of the engine.
type Volume struct {
	Name         string
	At           source.Span
	EngineName   string
	EngineNameAt source.Span // zero for the usual one
	Driver       string      // "": the engine's own
	Options      []Option
	Labels       []Pair
	Existing     bool // made by somebody else
}

// Option is an option of a volume's driver.
type Option struct {
	Name  string
	Value secret.Text
}

// Severity is what [check] says of a rule: error, warning, note or off.
type Severity struct {
	Rule, Severity string
	At             source.Span
}

// Alias is a further name of a service on its networks.
type Alias struct {
	Name string
	At   source.Span
}

// Accepted is a finding that somebody has said yes to.
type Accepted struct {
	Rule, Subject, Reason string // Subject "": all findings of the rule
	Stack, Service        string // where; "" for the whole lab, the whole stack
	At                    source.Span
}

// Stack is a stack on its host. Host is nil when none could be found.
type Stack struct {
	Name     string
	About    string
	Host     *Host
	HostAt   source.Span
	File     *source.File
	Broken   bool // part of it could not be read
	Own      bool // has a network of its own
	Volumes  []*Volume
	Services []*Service
	Gate     *Gate // whose stack it is; nil: that of a file

	lab  string // its name
	decl *declare.Stack
}

// Service is a resolved service.
type Service struct {
	Stack *Stack
	Name  string
	At    source.Span // of its name
	About string

	Image       Value
	Card        *declare.Card // of its image; nil: the lab has none
	Build       *Build        // how its image is made; nil: it comes from elsewhere
	CopyOf      *Service      // of a second or further copy: the service; nil for that one
	Fetch       string        // if-absent, each-deploy or never
	Hostname    string
	Networks    []*Network // shared ones that it is on
	NetworkMode string     // host or none instead of networks; else ""
	NetworkOf   *Service   // in whose network it lives; nil: in its own
	NetworkOfAt source.Span
	Aliases     []Alias // further names on its networks
	Overlap     bool
	TakesOver   string // the container of somebody else whose place its first deploy takes; "" for none
	TakesOverAt source.Span
	Settings    Settings
	Ports       []Port
	Sites       []*Site // domains that lead to it
	Listens     []Port  // opened by itself in the host's network
	Mounts      []Mount
	Files       []File    // of the stack's folder that go into the container
	Reload      *Reload   // how it gets to know that they have changed; nil: it is replaced
	Owner       *Identity // nil: none declared
	RunAs       *Identity // nil: the image's own user
	InsideUser  string    // instead: an account of the image, which the engine looks up there; NAME[:GROUP]
	OwnerUID    string    // owner-variables
	OwnerGID    string
	Zone        Zone
	Env         []Variable // sorted by name
	Restart     declare.Restart
	LogLimit    declare.LogLimit
	StopWithin  time.Duration
	ReadyWithin time.Duration // also how long its page is tried
	After       []After
	Ready       *Ready // nil: 10 s up without a restart
	Page        *Page

	decl       *declare.Service
	scope      *scope
	copies     []*Service                // the second and further ones, see [Service.Copies]
	portsState int                       // 0 new, then resolving and resolved
	places     map[[2]string]source.Span // of items of lists, by key and item
}

// ItemAt returns where an item of a list stands: the key and what the item means, or its number for lists of
// words such as command. The service's name where it was not written.
func (s *Service) ItemAt(key, item string) source.Span {
	if at, ok := s.places[[2]string{key, item}]; ok {
		return at
	}
	return s.At
}

// place remembers where an item of a list stands: the first place, where there are several.
func (s *Service) place(key, item string, at source.Span) {
	if s.places == nil {
		s.places = map[[2]string]source.Span{}
	}
	if id := [2]string{key, item}; s.places[id].IsZero() {
		s.places[id] = at
	}
}

// Lets returns the stack's own [let] as it stands in the file.
func (s *Stack) Lets() []declare.Let { return s.decl.Let }

// FullName returns STACK/SERVICE, as people name it.
func (s *Service) FullName() string { return s.Stack.Name + "/" + s.Name }

// Declared returns the service as it stands in the file, for those who change the file.
func (s *Service) Declared() *declare.Service { return s.decl }

// ContainerName returns the name of its container on the host.
func (s *Service) ContainerName() string { return ContainerName(s.Stack.lab, s.Stack.Name, s.Name) }

// Port is a published port.
type Port struct {
	declare.Port
	HostAt, ContainerAt source.Span
}

// Mount is a mount; the source of a path is absolute.
type Mount struct {
	declare.Mount
	Volume             *Volume // of MountVolume
	FromLab, Outside   bool    // written from the stack's folder; and leads out of it
	SourceAt, TargetAt source.Span
}

// Identity is a user and group on a host.
type Identity struct {
	Name     string // as declared
	UID, GID survey.ID
	At       source.Span
	Known    bool // false: not looked up, or not found
}

// Zone is the time zone of a service.
type Zone struct {
	Name string // IANA name; "" for none
	At   source.Span
}

// Variable is one variable of a service's environment.
type Variable struct {
	Name   string
	Value  secret.Text
	At     source.Span // where the value that counts stands
	Origin string      // [FromEnv], [FromZone], [FromOwner], or the path of an environment file

	Later     []*Later      // values in it that no file holds
	Overrides []Variable    // what it wins over, weakest first
	Written   []source.Span // passwords of URLs that stand in it to the letter

	value *Value // where it is written otherwise than it reads
	named bool   // secret by its name, all of it
}

// Cut returns the bytes from start to end of the value. Of a value that only refers to a secret, the rest is
// none.
func (v Variable) Cut(start, end int) secret.Text {
	hides := v.Value.Secret()
	if v.value != nil && !v.named {
		hides = v.value.hides(start, end)
	}
	return secret.Of(v.Value.Reveal()[start:end], hides)
}

// Part returns where the bytes from start to end of the value are written.
func (v Variable) Part(start, end int) source.Span {
	switch {
	case v.value != nil:
		return v.value.Part(start, end)
	case v.At.End-v.At.Start == len(v.Value.Reveal()):
		return v.At.File.Span(v.At.Start+start, v.At.Start+end)
	}
	return v.At
}

// Origins of variables other than environment files.
const (
	FromEnv   = "env"
	FromZone  = "timezone"
	FromOwner = "owner-variables"
)

// After names a service that has to be ready first, of the same stack or of another one on the same host.
type After struct {
	Service *Service
	Done    bool // it has to have ended without an error
	At      source.Span
}

// Ready is how a service shows that it does its work; one of HTTP, TCP, Log, Command and Image is set.
type Ready struct {
	At          source.Span
	HTTP        *declare.Endpoint
	StatusFirst int
	StatusLast  int
	TCP         int
	Log         *regexp.Regexp
	Command     []secret.Text
	Image       bool // the check that the image declares
}

// Awaited reports whether a service of the stack waits until this one is done.
func (s *Service) Awaited() bool {
	s = s.first()
	for _, o := range s.Stack.Services {
		for _, a := range o.After {
			if a.Service == s && a.Done {
				return true
			}
		}
	}
	return false
}

// HostNetwork reports whether the service lives in the host's network, itself or by the one whose network it
// shares.
func (s *Service) HostNetwork() bool {
	return s.NetworkMode == "host" || s.NetworkOf != nil && s.NetworkOf.NetworkMode == "host"
}

// Page is the page of a service, by its port inside the container.
type Page struct {
	declare.Endpoint
	At source.Span
}

// Identity returns whose rights count for folders: the user that the process is started as, else the owner
// whose ids are handed over, else the image's user. Why says what is missing when it is unknown (ok is
// false).
func (s *Service) Identity() (id Identity, ok bool, why string) {
	switch {
	case s.RunAs != nil:
		return *s.RunAs, s.RunAs.Known, "the account " + s.RunAs.Name + " is not known on the host"
	case s.OwnerUID != "" && s.Owner != nil:
		return *s.Owner, s.Owner.Known, "the account " + s.Owner.Name + " is not known on the host"
	}
	if s.InsideUser != "" {
		uid, gid, ok := imageUser(s.InsideUser)
		return Identity{Name: s.InsideUser, UID: uid, GID: gid, Known: ok}, ok,
			"the user " + s.InsideUser + " is a name that only the image knows"
	}
	if s.Stack.Host == nil || s.Stack.Host.Survey == nil {
		return Identity{}, false, "the host was not surveyed"
	}
	image, ok := s.Stack.Host.Survey.Image(s.Image.Text)
	if !ok || !image.Declares() {
		return Identity{}, false, "what the image " + s.Image.Text + " declares is not known"
	}
	uid, gid, ok := imageUser(image.User)
	if !ok {
		return Identity{}, false, "the image's user " + image.User + " is a name that only the image knows"
	}
	return Identity{Name: "the image's user", UID: uid, GID: gid, Known: true}, true, ""
}

// imageUser reads the user of an image's configuration (OCI image specification, "config.User") when it is
// given in numbers. A uid alone has the group that the image's own files give it, which is unknown; root's is
// 0.
func imageUser(user string) (uid, gid survey.ID, ok bool) {
	if user == "" || user == "root" || user == "0" {
		return 0, 0, true
	}
	u, g, both := strings.Cut(user, ":")
	uid, err := number(u)
	if err != nil || !both {
		return 0, 0, false
	}
	gid, err = number(g)
	return uid, gid, err == nil
}

// Links returns the addresses under which a person finds the service's page: one for each published port.
func (s *Service) Links() []string {
	if s.Page == nil {
		return nil
	}
	var links []string
	for _, p := range slices.Concat(s.Ports, s.Listens) {
		if host, ok := p.HostPortOf(s.Page.Port); ok {
			at := s.Stack.Host.Address
			if len(p.Addresses) > 0 && (p.Localhost || p.Addresses[0].IsLoopback()) {
				at = "localhost"
			} else if len(p.Addresses) > 0 && !p.Addresses[0].IsUnspecified() {
				at = p.Addresses[0].String()
			}
			if a, err := netip.ParseAddr(at); err == nil && a.Is6() {
				at = "[" + at + "]"
			}
			scheme := "http"
			if s.Page.TLS {
				scheme = "https"
			}
			links = append(links, scheme+"://"+at+":"+strconv.Itoa(host)+s.Page.Path)
		}
	}
	return links
}

// HostPortOf returns the tcp port of the host that leads to a container's port.
func (p Port) HostPortOf(container int) (int, bool) {
	if p.Protocols[0] != "tcp" || p.Host.First == 0 || container < p.Container.First ||
		container > p.Container.Last {
		return 0, false
	}
	return p.Host.First + container - p.Container.First, true
}

// Ask returns what the lab wants to know of a host.
func (l *Lab) Ask(h *Host) survey.Ask {
	var ask survey.Ask
	names := map[string]bool{}
	for _, site := range l.Sites() {
		if site.Gate != nil && site.Gate.Host == h && site.Known && !site.Wildcard() {
			names[site.Domain] = true
		}
	}
	if len(names) > 0 {
		names[h.Address] = true
		ask.Names = slices.Sorted(maps.Keys(names))
	}
	for _, st := range l.Stacks {
		if st.Host != h {
			continue
		}
		for _, s := range st.Services {
			switch {
			case s.Image.Text == "" || st.Gate != nil: // that of a gate is lantern's own
			case l.Builder(h, s.Image.Text) != nil:
				ask.Built = append(ask.Built, s.Image.Text)
			default:
				ask.Images = append(ask.Images, s.Image.Text)
			}
			if s.Build != nil {
				ask.Images = append(ask.Images, slices.DeleteFunc(s.Build.Bases(), func(base string) bool { return l.Builder(h, base) != nil })...)
			}
			for _, d := range s.Settings.Devices {
				ask.Devices = append(ask.Devices, d.Host)
			}
			for _, m := range s.Mounts {
				switch {
				case m.Kind == declare.MountPath:
					ask.Paths = append(ask.Paths, m.Source)
				case m.Volume != nil:
					ask.Volumes = append(ask.Volumes, m.Volume.EngineName)
				}
			}
		}
	}
	return ask
}

// Stack returns the stack of that name, or nil.
func (l *Lab) Stack(name string) *Stack {
	for _, s := range l.Stacks {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Host returns the host of that name, or nil.
func (l *Lab) Host(name string) *Host {
	for _, h := range l.Hosts {
		if h.Name == name {
			return h
		}
	}
	return nil
}

// Service returns the service of that name, or one copy of it, or nil.
func (s *Stack) Service(name string) *Service {
	for _, v := range s.Services {
		if v.Name == name {
			return v
		}
		for _, c := range v.copies {
			if c.Name == name {
				return c
			}
		}
	}
	return nil
}

// Secrets returns all values that are secret, each once.
func (l *Lab) Secrets() []string {
	seen := map[string]bool{}
	for t := range l.secrets {
		seen[t.Reveal()] = true
	}
	for _, f := range l.EnvFiles {
		if f == nil {
			continue // could not be read
		}
		for _, e := range f.Entries {
			if declare.IsSecret(e.Name) {
				seen[e.Value.Value] = true
			}
		}
	}
	for _, st := range l.Stacks {
		for _, s := range st.Services {
			for _, v := range s.Env {
				if v.Value.Secret() {
					seen[v.Value.Reveal()] = true
				}
			}
		}
	}
	delete(seen, "")
	return slices.Sorted(maps.Keys(seen))
}
