package lab

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/distribution/reference"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/parallel"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// Input is what resolving needs beside the declarations.
type Input struct {
	Folder     string                           // of the lab, absolute
	Shell      func(name string) (string, bool) // variables of lantern's own environment
	Surveys    map[string]*survey.Survey        // by host; may lack hosts
	Values     map[string]string                // given for values that are asked for, by their names
	GateImages map[string]string                // by host: the digest of the program that its gate runs
	Files      map[string]FileFact              // what is true of the lab's own files, by path; nil: not surveyed
}

// FileFact is what is true of a file of the lab on the machine that holds it.
type FileFact struct {
	Mode    uint32 // permission bits
	Tracked bool   // version control lists it
	// where root runs lantern: who else than its owner may write it, such as "everybody"; also of folders
	Writers string
}

// Defaults.
const (
	defaultRestart     = "unless-stopped"
	defaultFetch       = "if-absent"
	defaultStopWithin  = 10 * time.Second
	defaultReadyWithin = 60 * time.Second
)

// defaultLogLimit is 5 x 10MB.
var defaultLogLimit = declare.LogLimit{Files: 5, Size: 10_000_000}

const (
	resolving = 1
	resolved  = 2
)

// resolver holds what is known while a lab is worked out.
type resolver struct {
	decl     *declare.Lab
	in       Input
	lab      *Lab
	labScope *scope

	images   map[string]bool // references seen so far, and whether they are valid
	circle   []string
	at       *scope // what is being worked out
	problems []source.Problem
	files    map[string]*declare.EnvFile // read late, because references are in their names
	secrets  map[secret.Text]bool        // that references lead to
}

// Resolve works out a lab. Its Problems hold those of the declarations, too.
func Resolve(decl *declare.Lab, in Input) *Lab {
	r := &resolver{
		decl: decl, in: in,
		lab: &Lab{
			Name:     decl.Name.Value,
			NameAt:   decl.Name.Span,
			Broken:   decl.Broken,
			Files:    in.Files,
			EnvFiles: maps.Clone(decl.EnvFiles),
			secrets:  map[secret.Text]bool{},
		},
		files: map[string]*declare.EnvFile{},
	}
	r.secrets = r.lab.secrets // until stacks are worked out at the same time
	r.labScope = r.scopeOfLab(nil)
	r.hosts()
	r.networks()
	r.gates()
	for _, c := range decl.Check {
		r.lab.Severities = append(r.lab.Severities, Severity{c.Name, c.Text.Value, c.At})
	}
	r.accept("", "", decl.Accept)
	for _, d := range decl.Stacks {
		if r.stack(d); IsGate(d.Name) {
			r.problem("name-invalid", d.File.Span(0, 0), "a stack whose name begins with %s is the gate of a host: this one needs another name",
				declare.GatePrefix)
		}
	}
	r.gateStacks()
	r.domains()
	// All services are known by name only now: references and after may point forward.
	// In a file that could not be read to its end, what is missing would show as mistakes elsewhere.
	if !decl.Broken {
		r.declaredZones()
		r.secretLets()
		r.plainLets()
		r.lets(r.labScope)
		for _, h := range r.lab.Hosts {
			r.lets(h.scope)
		}
		r.stacks()
		r.lab.builders()
		r.unused()
	}
	for _, path := range decl.Strays {
		dir, name, _ := strings.Cut(path, "/")
		at := source.NewFile(path, "").All()
		r.problems = append(r.problems, source.Problem{
			Rule:    "stack-misnamed",
			At:      at,
			Message: fmt.Sprintf("%s is not read: the file of a stack is called %s", name, declare.StackFile),
			Mend:    &source.Mend{Text: "mv '" + path + "' '" + dir + "/" + declare.StackFile + "', if it is one"},
		})
	}
	r.lab.Problems = append(slices.Clone(decl.Problems), r.problems...)
	return r.lab
}

// stacks works out the services of each stack, as many stacks at a time as there are processors: nothing of
// one depends on what is worked out in another, and all that they share is worked out by now.
func (r *resolver) stacks() {
	type result struct {
		problems []source.Problem
		files    map[string]*declare.EnvFile
		secrets  map[secret.Text]bool
	}
	results := make([]result, len(r.lab.Stacks))
	parallel.Each(len(results), func() func(int) {
		w := *r
		w.images = map[string]bool{}
		return func(i int) {
			w.problems, w.circle, w.files, w.secrets = nil, nil, map[string]*declare.EnvFile{},
				map[secret.Text]bool{}
			w.services(r.lab.Stacks[i])
			results[i] = result{w.problems, w.files, w.secrets}
		}
	})
	for _, one := range results {
		for _, p := range one.problems {
			// Many stacks share a line of lab.toml.
			if p.At.File != r.decl.File ||
				!slices.ContainsFunc(r.problems, func(o source.Problem) bool {
					return o.At == p.At && o.Rule == p.Rule
				}) {
				r.problems = append(r.problems, p)
			}
		}
		maps.Copy(r.lab.EnvFiles, one.files)
		maps.Copy(r.lab.secrets, one.secrets)
	}
}

// services works out the services of a stack, and what of its [let] nothing has used, so that mistakes in it
// are found, too.
func (r *resolver) services(st *Stack) {
	if st.Broken || len(st.Services) == 0 {
		return
	}
	r.at = &scope{stack: st}
	r.declaredZone(st.decl.Timezone)
	for _, s := range st.Services {
		r.service(s)
	}
	r.at = &scope{stack: st}
	for _, l := range st.decl.Let {
		r.let(l.Name, l.At, st.Services[0].scope)
	}
}

// lets works out all of [let] of lab.toml.
func (r *resolver) lets(in *scope) {
	for _, l := range r.decl.Let {
		r.let(l.Name, l.At, in)
	}
}

// scopeOfLab is what names mean in lab.toml, for a host (nil: for none in particular).
func (r *resolver) scopeOfLab(h *Host) *scope {
	s := &scope{lets: make(map[string]*let, len(r.decl.Let)), host: h}
	for _, l := range r.decl.Let {
		s.lets[l.Name] = &let{decl: l, scope: s}
	}
	return s
}

// scopeFor is what names mean in lab.toml for a host, nil for none in particular.
func (r *resolver) scopeFor(h *Host) *scope {
	if h == nil {
		return r.labScope
	}
	return h.scope
}

func (r *resolver) problem(rule string, at source.Span, format string, args ...any) *source.Problem {
	p := source.Problem{Rule: rule, At: at, Message: fmt.Sprintf(format, args...)}
	if r.at != nil && r.at.stack != nil && at.File != r.decl.File {
		p.Stack = r.at.stack.Name
		if r.at.service != nil {
			p.Service = r.at.service.Name
		}
	}
	if at.File == r.decl.File &&
		slices.ContainsFunc(r.problems, func(o source.Problem) bool { return o.At == at && o.Rule == rule }) {
		return &p // many stacks share a line of lab.toml
	}
	r.problems = append(r.problems, p)
	return &r.problems[len(r.problems)-1]
}

// syntax reports an error of a grammar at its place inside a value.
func (r *resolver) syntax(err error, v Value) {
	if e, ok := err.(*declare.SyntaxError); ok {
		at := v.Part(e.Offset, e.Offset+e.Length)
		p := r.problem("value-grammar", at, "%s", e.Message)
		if e.Instead != "" && at.Text() == v.Text[e.Offset:e.Offset+e.Length] {
			p.Mend = source.Replace(at, e.Instead, e.Instead+" is how it is written here")
		}
		return
	}
	r.problem("value-grammar", v.Span(), "%s", err)
}

func (r *resolver) hosts() {
	decls := r.decl.Hosts
	if len(decls) == 0 {
		decls = []declare.Host{{Name: "local", At: r.decl.Name.Part(0, len(r.decl.Name.Value))}}
	}
	for _, d := range decls {
		h := &Host{Name: d.Name, At: d.At, Address: "localhost", Survey: r.in.Surveys[d.Name]}
		if d.Engine.IsSet() {
			r.engine(h, d)
		}
		if d.Address.IsSet() {
			h.Address = r.expand(d.Address, r.labScope).Text
		}
		for _, t := range d.ReservedPorts {
			if v, ok := r.known(t, r.labScope); ok {
				p, err := declare.ParseReserved(v.Text)
				if err != nil {
					r.syntax(err, v)
					continue
				}
				h.Reserved = append(h.Reserved, Reserved{p, v.Part(0, len(v.Text))})
			}
		}
		h.decl = &d
		h.scope = r.scopeOfLab(h)
		r.lab.Hosts = append(r.lab.Hosts, h)
	}
}

// stack makes a stack with its services by name, nothing in them worked out.
func (r *resolver) stack(d *declare.Stack) {
	st := &Stack{lab: r.lab.Name, Name: d.Name, About: d.About.Value, File: d.File, Broken: d.Broken, HostAt: d.File.Span(0, 0)}
	r.lab.Stacks = append(r.lab.Stacks, st)
	st.decl = d
	r.at = &scope{stack: st}
	defer func() { r.at = nil }()
	var names []string
	for _, h := range r.lab.Hosts {
		names = append(names, h.Name)
	}
	switch {
	case r.decl.Broken:
	case d.Host.IsSet():
		v := r.hostName(d, st)
		st.HostAt = v.Part(0, len(v.Text))
		if v.Unknown {
			break
		}
		if st.Host = r.lab.Host(v.Text); st.Host == nil {
			p := r.problem("host-unknown", st.HostAt, "lab.toml has no host %s; it has %s", v.Text,
				strings.Join(names, ", "))
			p.Mend = declare.Meant(st.HostAt, v.Text, names, "is one")
		}
	case len(r.lab.Hosts) == 1:
		st.Host = r.lab.Hosts[0]
	case !st.Broken:
		r.problem("host-unknown", st.HostAt,
			"the lab has several hosts (%s); host = \"…\" says which one this stack is for",
			strings.Join(names, ", "))
	}
	shared := r.labScope
	if st.Host != nil {
		shared = st.Host.scope
	}
	lets := make(map[string]*let, len(shared.lets)+len(d.Let))
	for n, l := range shared.lets {
		lets[n] = l
	}
	own := &scope{lets: lets, stack: st, decl: d}
	for _, l := range d.Let {
		lets[l.Name] = &let{decl: l, dir: d.Name, scope: own}
		if strings.Contains(d.Host.Value, "${"+l.Name+"}") {
			lets[l.Name].used.Store(true) // that was worked out before
		}
	}
	for _, sd := range d.Services {
		s := &Service{Stack: st, Name: sd.Name, At: sd.At, About: sd.About.Value}
		st.Services = append(st.Services, s)
		s.decl = sd
		s.scope = &scope{lets: lets, stack: st, service: s, decl: d}
		r.accept(st.Name, s.Name, sd.Accept)
	}
	r.accept(st.Name, "", d.Accept)
	st.Own = d.OwnNetwork == nil || *d.OwnNetwork
	for _, n := range r.lab.Networks {
		if st.Own && n.EngineName == st.Name+".net" { // plan.NetworkName
			p := r.problem("name-invalid", n.At,
				"this network would be called %s on the engine, as the stack %s's own is", n.EngineName, st.Name)
			p.Mend = &source.Mend{Text: "another name, or engine-name"}
		}
	}
	r.volumes(st, d, own)
}

// hostName works out on which host a stack is: only what needs no host itself can be used there.
func (r *resolver) hostName(d *declare.Stack, st *Stack) Value {
	in := &scope{lets: make(map[string]*let, len(r.labScope.lets)+len(d.Let)), stack: st, decl: d}
	maps.Copy(in.lets, r.labScope.lets)
	for _, l := range d.Let {
		in.lets[l.Name] = &let{decl: l, dir: d.Name, scope: in}
	}
	return r.expand(d.Host, in)
}

func (r *resolver) service(s *Service) {
	d, in := s.decl, s.scope
	r.at = in
	defer func() { r.at = nil }()
	defer r.copy(s)
	r.identity(s, d, in)
	s.Zone = r.zoneOf(in)
	if s.Image = r.expand(d.Image, in); d.Image.IsSet() && !s.Image.Unknown {
		r.image(s)
		s.Card = declare.CardOf(r.decl.Cards, s.Image.Text)
	}
	r.build(s, settingsOf(d).Build, in)
	r.settings(s, settingsOf(d), in)
	r.ports(s)
	if s.Stack.Gate != nil {
		s.Stack.Gate.published()
	}
	r.sites(s, settingsOf(d), in)
	r.network(s, d, in)
	s.Mounts = slices.Grow(s.Mounts, len(d.Mounts))
	for _, t := range d.Mounts {
		r.mount(s, t, in)
	}
	r.stackFiles(s, settingsOf(d), in)
	r.environment(s, d, in)
	r.habits(s, d, in)
	for _, t := range d.After {
		r.after(s, t, in)
	}
	r.makers(s, in)
	if d.Ready != nil {
		r.ready(s, d.Ready, in)
	}
	if d.Page.IsSet() {
		v := r.expand(d.Page, in)
		if e, err := declare.ParseEndpoint(v.Text); !v.Unknown && err != nil {
			r.syntax(err, v)
		} else if !v.Unknown {
			s.Page = &Page{e, v.Part(0, len(v.Text))}
		}
	}
}

var noSettings declare.Settings

// settingsOf returns the rarer keys of a service, also of one that has none.
func settingsOf(d *declare.Service) *declare.Settings {
	if d.Settings == nil {
		return &noSettings
	}
	return d.Settings
}

// image checks the reference of an image (the grammar of the OCI distribution specification).
func (r *resolver) image(s *Service) {
	valid, seen := r.images[s.Image.Text]
	if !seen {
		_, err := reference.ParseNormalizedNamed(s.Image.Text)
		valid = err == nil
		r.images[s.Image.Text] = valid
	}
	if !valid {
		r.problem("image-reference", s.Image.Part(0, len(s.Image.Text)),
			"%q is no reference of an image: small letters, then :tag or @digest, such as "+
				"registry.skerry.example/tide-desk:2.3", s.Image.Text)
		s.Image.Unknown = true
	}
}

// mostPorts is how many ports a service may publish, each protocol counted: engines make a forwarder for each.
const mostPorts = 20_000

func (r *resolver) ports(s *Service) {
	if s.portsState != 0 {
		return
	}
	s.portsState = resolving
	all := 0
	s.Ports = slices.Grow(s.Ports, len(s.decl.Ports))
	for _, t := range s.decl.Ports {
		v := r.expand(t, s.scope)
		if v.Unknown {
			continue
		}
		p, err := declare.ParsePort(v.Text)
		if err != nil {
			r.syntax(err, v)
			continue
		}
		if all += p.Container.Count() * len(p.Protocols); all > mostPorts {
			r.problem("value-grammar", v.Part(0, len(v.Text)),
				"with this the service would publish more than %d ports", mostPorts)
			break
		}
		port := Port{p, v.Part(p.HostAt[0], p.HostAt[0]+p.HostAt[1]), v.Part(p.ContainerAt[0], p.ContainerAt[0]+p.ContainerAt[1])}
		if r.portsFit(s, port) {
			s.Ports = append(s.Ports, port)
		}
	}
	s.portsState = resolved
}

func (r *resolver) mount(s *Service, t declare.Text, in *scope) {
	v := r.expand(t, in)
	if v.Unknown {
		return
	}
	m, err := declare.ParseMount(v.Text)
	if err != nil {
		r.syntax(err, v)
		return
	}
	at := v.Part(m.SourceAt[0], m.SourceAt[0]+m.SourceAt[1])
	fromLab := m.Relative()
	if fromLab {
		m.Source = path.Join(r.in.Folder, s.Stack.Name, m.Source)
	}
	mount := Mount{
		FromLab:  fromLab,
		Outside:  fromLab && !strings.HasPrefix(m.Source+"/", path.Join(r.in.Folder, s.Stack.Name)+"/"),
		Mount:    m,
		SourceAt: at,
		TargetAt: v.Part(m.TargetAt[0], m.TargetAt[0]+m.TargetAt[1]),
	}
	if m.Kind == declare.MountVolume {
		if mount.Volume = r.volume(s, m.Source, at); mount.Volume == nil {
			return
		}
	}
	s.Mounts = append(s.Mounts, mount)
}

// habits are the keys that [default] has, too.
func (r *resolver) habits(s *Service, d *declare.Service, in *scope) {
	def := r.decl.Default
	first := func(texts ...declare.Text) (Value, bool) {
		for i, t := range texts {
			if t.IsSet() {
				scope := in
				if i == len(texts)-1 {
					scope = r.labScope
				}
				v := r.expand(t, scope)
				return v, !v.Unknown
			}
		}
		return Value{}, false
	}
	s.Restart = declare.Restart{Policy: defaultRestart}
	if v, ok := first(d.Restart, def.Restart); ok {
		if p, err := declare.ParseRestart(v.Text); err != nil {
			r.syntaxOnce(err, v)
		} else {
			s.Restart = p
		}
	}
	s.LogLimit = defaultLogLimit
	if v, ok := first(d.LogLimit, def.LogLimit); ok {
		if l, err := declare.ParseLogLimit(v.Text); err != nil {
			r.syntaxOnce(err, v)
		} else {
			s.LogLimit = l
		}
	}
	s.Fetch = cmp.Or(d.Fetch.Value, def.Fetch.Value, defaultFetch)
	s.StopWithin = r.duration(defaultStopWithin, first, d.StopWithin, def.StopWithin)
	var within declare.Text
	if d.Ready != nil {
		within = d.Ready.Within
	}
	s.ReadyWithin = r.duration(defaultReadyWithin, first, within, def.ReadyWithin)
}

func (r *resolver) duration(otherwise time.Duration, first func(...declare.Text) (Value, bool),
	texts ...declare.Text) time.Duration {
	if v, ok := first(texts...); ok {
		d, err := declare.ParseDuration(v.Text)
		if err == nil {
			return d
		}
		r.syntaxOnce(err, v)
	}
	return otherwise
}

// syntaxOnce reports an error of a value that many services share only the first time.
func (r *resolver) syntaxOnce(err error, v Value) {
	before := len(r.problems)
	if r.syntax(err, v); len(r.problems) == before {
		return
	}
	made := r.problems[before]
	if slices.ContainsFunc(r.problems[:before], func(p source.Problem) bool {
		return p.At == made.At && p.Rule == made.Rule
	}) {
		r.problems = r.problems[:before]
	}
}

func (r *resolver) ready(s *Service, d *declare.Ready, in *scope) {
	y := &Ready{At: d.At, StatusFirst: 200, StatusLast: 399}
	ok := true
	part := func(t declare.Text, parse func(string) error) {
		if !t.IsSet() {
			return
		}
		v := r.expand(t, in)
		if v.Unknown {
			ok = false
		} else if err := parse(v.Text); err != nil {
			r.syntaxOnce(err, v)
			ok = false
		}
	}
	part(d.HTTP, func(text string) error {
		e, err := declare.ParseEndpoint(text)
		y.HTTP = &e
		return err
	})
	part(d.Status, func(text string) (err error) {
		y.StatusFirst, y.StatusLast, err = declare.ParseStatus(text)
		return err
	})
	part(d.TCP, func(text string) (err error) {
		y.TCP, err = declare.ParsePortNumber(text)
		return err
	})
	part(d.Log, func(text string) (err error) {
		if y.Log, err = regexp.Compile(text); err != nil {
			return &declare.SyntaxError{
				Length:  len(text),
				Message: "no regular expression: " + strings.TrimPrefix(err.Error(), "error parsing regexp: "),
			}
		}
		return nil
	})
	y.Command = r.words(s, "ready.command", d.Command, in)
	y.Image = d.Image != nil && *d.Image
	if ok && (y.HTTP != nil || y.TCP > 0 || y.Log != nil || y.Command != nil || y.Image) {
		s.Ready = y
	}
}
