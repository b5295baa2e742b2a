package lab

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/distribution/reference"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// Input is what resolving needs beside the declarations.
type Input struct {
	Folder  string                           // of the lab, absolute
	Shell   func(name string) (string, bool) // variables of lantern's own environment
	Surveys map[string]*survey.Survey        // by host; may lack hosts
}

// What a service gets that nobody says anything else for.
const (
	defaultRestart     = "unless-stopped"
	defaultLogLimit    = "5 x 10MB"
	defaultFetch       = "if-absent"
	defaultStopWithin  = 10 * time.Second
	defaultReadyWithin = 60 * time.Second
)

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

	hostDecl    map[*Host]declare.Host
	stackDecl   map[*Stack]*declare.Stack
	serviceDecl map[*Service]*declare.Service
	scopes      map[*Service]*scope
	portsState  map[*Service]int
	images      map[string]bool // references seen so far, and whether they are valid
	circle      []string
	at          *scope // what is being worked out
	problems    []source.Problem
}

// Resolve works out a lab. Its Problems hold those of the declarations, too.
func Resolve(decl *declare.Lab, in Input) *Lab {
	r := &resolver{
		decl: decl, in: in,
		lab:         &Lab{Name: decl.Name.Value, EnvFiles: decl.EnvFiles},
		hostDecl:    map[*Host]declare.Host{},
		stackDecl:   map[*Stack]*declare.Stack{},
		serviceDecl: map[*Service]*declare.Service{},
		scopes:      map[*Service]*scope{},
		portsState:  map[*Service]int{},
		images:      map[string]bool{},
	}
	r.labScope = &scope{lets: map[string]*let{}}
	for _, l := range decl.Let {
		r.labScope.lets[l.Name] = &let{decl: l, scope: r.labScope}
	}
	r.hosts()
	for _, d := range decl.Stacks {
		r.stack(d)
	}
	// All services are known by name only now: references and after may point forward.
	// In a file that could not be read to its end, what is missing would show as mistakes elsewhere.
	if !decl.Broken {
		for _, st := range r.lab.Stacks {
			for _, s := range st.Services {
				if !st.Broken {
					r.service(s)
				}
			}
		}
		r.unusedLets()
	}
	r.lab.Problems = append(slices.Clone(decl.Problems), r.problems...)
	return r.lab
}

func (r *resolver) problem(rule string, at source.Span, format string, args ...any) *source.Problem {
	p := source.Problem{Rule: rule, At: at, Message: fmt.Sprintf(format, args...)}
	if r.at != nil && r.at.stack != nil && at.File != r.decl.File {
		p.Stack = r.at.stack.Name
		if r.at.service != nil {
			p.Service = r.at.service.Name
		}
	}
	r.problems = append(r.problems, p)
	return &r.problems[len(r.problems)-1]
}

// syntax reports an error of a grammar at its place inside a value.
func (r *resolver) syntax(err error, v Value) {
	if e, ok := err.(*declare.SyntaxError); ok {
		r.problem("value-grammar", v.Part(e.Offset, e.Offset+e.Length), "%s", e.Message)
		return
	}
	r.problem("value-grammar", v.Span(), "%s", err)
}

func (r *resolver) hosts() {
	decls := r.decl.Hosts
	if len(decls) == 0 {
		decls = []declare.Host{{Name: "local", At: r.decl.Name.Span}}
	}
	for _, d := range decls {
		h := &Host{Name: d.Name, At: d.At, Address: "localhost", Survey: r.in.Surveys[d.Name]}
		if d.Engine.IsSet() {
			h.At = d.Engine.Part(0, len(d.Engine.Value))
			h.Engine = r.expand(d.Engine, r.labScope).Text
			switch scheme, rest, ok := strings.Cut(h.Engine, "://"); {
			case ok && (scheme == "ssh" || scheme == "tcp"):
				r.problem("value-grammar", h.At, "%s:// is not supported yet by this version of lantern: unix://PATH is", scheme)
			case !ok || scheme != "unix" || !strings.HasPrefix(rest, "/"):
				r.problem("value-grammar", h.At, "an engine's address is unix:// and the path of its socket, such as unix:///var/run/docker.sock")
			}
		}
		if d.Address.IsSet() {
			h.Address = r.expand(d.Address, r.labScope).Text
		}
		r.hostDecl[h] = d
		r.lab.Hosts = append(r.lab.Hosts, h)
	}
}

// stack makes a stack with its services by name, nothing in them worked out.
func (r *resolver) stack(d *declare.Stack) {
	st := &Stack{Name: d.Name, About: d.About.Value, File: d.File, Broken: d.Broken, HostAt: d.File.Span(0, 0)}
	r.lab.Stacks = append(r.lab.Stacks, st)
	r.stackDecl[st] = d
	r.at = &scope{stack: st}
	defer func() { r.at = nil }()
	var names []string
	for _, h := range r.lab.Hosts {
		names = append(names, h.Name)
	}
	switch {
	case r.decl.Broken:
	case d.Host.IsSet():
		st.HostAt = d.Host.Part(0, len(d.Host.Value))
		if st.Host = r.lab.Host(d.Host.Value); st.Host == nil {
			p := r.problem("host-unknown", st.HostAt, "lab.toml has no host %s; it has %s", d.Host.Value, strings.Join(names, ", "))
			if near := declare.Nearest(d.Host.Value, names); near != "" {
				p.Mend = source.Replace(st.HostAt, near, near+" is one")
			}
		}
	case len(r.lab.Hosts) == 1:
		st.Host = r.lab.Hosts[0]
	case !st.Broken:
		r.problem("host-unknown", st.HostAt, "the lab has several hosts (%s); host = \"…\" says which one this stack is for", strings.Join(names, ", "))
	}
	lets := make(map[string]*let, len(r.labScope.lets)+len(d.Let))
	for n, l := range r.labScope.lets {
		lets[n] = l
	}
	own := &scope{lets: lets, stack: st, decl: d}
	for _, l := range d.Let {
		lets[l.Name] = &let{decl: l, dir: d.Name, scope: own}
	}
	for _, sd := range d.Services {
		s := &Service{Stack: st, Name: sd.Name, At: sd.At, About: sd.About.Value}
		st.Services = append(st.Services, s)
		r.serviceDecl[s] = sd
		r.scopes[s] = &scope{lets: lets, stack: st, service: s, decl: d}
	}
}

// unusedLets works out what nothing has used so far, so that mistakes in it are found, too.
func (r *resolver) unusedLets() {
	for _, l := range r.decl.Let {
		r.let(l.Name, l.At, r.labScope)
	}
	for _, st := range r.lab.Stacks {
		if len(st.Services) == 0 || st.Broken {
			continue
		}
		in := r.scopes[st.Services[0]]
		r.at = &scope{stack: st}
		for _, l := range r.stackDecl[st].Let {
			r.let(l.Name, l.At, in)
		}
	}
}

func (r *resolver) service(s *Service) {
	d, in := r.serviceDecl[s], r.scopes[s]
	r.at = in
	defer func() { r.at = nil }()
	r.identity(s, d, in)
	s.Zone = r.zoneOf(in)
	if s.Image = r.expand(d.Image, in); d.Image.IsSet() && !s.Image.Unknown {
		r.image(s)
	}
	r.settings(s, d, in)
	r.ports(s)
	for _, t := range d.Mounts {
		r.mount(s, t, in)
	}
	r.environment(s, d, in)
	r.habits(s, d, in)
	for _, t := range d.After {
		r.after(s, t, in)
	}
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

// image checks the reference of an image (the grammar of the OCI distribution specification).
func (r *resolver) image(s *Service) {
	valid, seen := r.images[s.Image.Text]
	if !seen {
		_, err := reference.ParseNormalizedNamed(s.Image.Text)
		valid = err == nil
		r.images[s.Image.Text] = valid
	}
	if !valid {
		r.problem("image-reference", s.Image.Part(0, len(s.Image.Text)), "%q is no reference of an image: small letters, then :tag or @digest, such as registry.skerry.example/tide-desk:2.3", s.Image.Text)
		s.Image.Unknown = true
	}
}

func (r *resolver) ports(s *Service) {
	if r.portsState[s] != 0 {
		return
	}
	r.portsState[s] = resolving
	for _, t := range r.serviceDecl[s].Ports {
		v := r.expand(t, r.scopes[s])
		if v.Unknown {
			continue
		}
		p, err := declare.ParsePort(v.Text)
		if err != nil {
			r.syntax(err, v)
			continue
		}
		s.Ports = append(s.Ports, Port{p, v.Part(p.HostAt[0], p.HostAt[0]+p.HostAt[1]), v.Part(p.ContainerAt[0], p.ContainerAt[0]+p.ContainerAt[1])})
	}
	r.portsState[s] = resolved
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
	switch {
	case m.Kind != declare.MountPath:
		r.problem("key-unknown", at, "only folders and files of the host can be mounted by this version of lantern")
		return
	case m.Create, m.Shared:
		r.problem("key-unknown", at, "the options create and shared are not supported yet by this version of lantern")
		return
	case m.Relative():
		m.Source = path.Join(r.in.Folder, s.Stack.Name, m.Source)
	}
	s.Mounts = append(s.Mounts, Mount{m, at, v.Part(m.TargetAt[0], m.TargetAt[0]+m.TargetAt[1])})
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
	s.LogLimit, _ = declare.ParseLogLimit(defaultLogLimit)
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

func (r *resolver) duration(otherwise time.Duration, first func(...declare.Text) (Value, bool), texts ...declare.Text) time.Duration {
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
	r.syntax(err, v)
	made := r.problems[before]
	if slices.ContainsFunc(r.problems[:before], func(p source.Problem) bool { return p.At == made.At && p.Rule == made.Rule }) {
		r.problems = r.problems[:before]
	}
}

func (r *resolver) after(s *Service, t declare.Text, in *scope) {
	v, ok := r.known(t, in)
	if !ok {
		return
	}
	at := v.Part(0, len(v.Text))
	name, job := strings.CutSuffix(v.Text, " done")
	if job {
		r.problem("key-unknown", at, "waiting until a service is done is not supported yet by this version of lantern")
		return
	}
	if before, rest, ok := strings.Cut(name, "/"); ok {
		if before != s.Stack.Name {
			r.problem("key-unknown", at, "waiting for a service of another stack is not supported yet by this version of lantern")
			return
		}
		name = rest
	}
	target := s.Stack.Service(name)
	if target == nil {
		var names []string
		for _, o := range s.Stack.Services {
			names = append(names, o.Name)
		}
		if v.Secret {
			name = source.Hidden(name)
		}
		p := r.problem("order-unknown", at, "the stack %s has no service %s", s.Stack.Name, name)
		if near := declare.Nearest(name, names); near != "" {
			p.Mend = source.Replace(at, near, near+" is one")
		}
		return
	}
	s.After = append(s.After, After{target, at})
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
			return &declare.SyntaxError{Length: len(text), Message: "no regular expression: " + strings.TrimPrefix(err.Error(), "error parsing regexp: ")}
		}
		return nil
	})
	if ok {
		s.Ready = y
	}
}

// zoneOf returns the zone that counts in a scope: the service's, else the stack's, the host's, the lab's.
func (r *resolver) zoneOf(in *scope) Zone {
	var texts []declare.Text
	if in.service != nil {
		texts = append(texts, r.serviceDecl[in.service].Timezone)
	}
	if in.stack != nil {
		texts = append(texts, in.decl.Timezone)
		if in.stack.Host != nil {
			texts = append(texts, r.hostDecl[in.stack.Host].Timezone)
		}
	}
	for _, t := range append(texts, r.decl.Timezone) {
		if !t.IsSet() {
			continue
		}
		at := t.Part(0, len(t.Value))
		switch {
		case t.Value == "none":
			return Zone{At: at}
		case t.Value == "host":
			if h := r.hostOf(in); h != nil && h.Survey != nil {
				return Zone{h.Survey.Timezone, at}
			}
			return Zone{At: at}
		case !IsZone(t.Value):
			r.zoneUnknown(t.Value, at)
		}
		return Zone{t.Value, at}
	}
	return Zone{}
}

func (r *resolver) zoneUnknown(name string, at source.Span) {
	if slices.ContainsFunc(r.problems, func(p source.Problem) bool { return p.At == at && p.Rule == "zone-unknown" }) {
		return // many services share one line
	}
	p := r.problem("zone-unknown", at, "%q is no time zone of the IANA database", name)
	near := declare.Nearest(name, Zones())
	if strings.EqualFold(near, name) {
		p.Message = fmt.Sprintf("%q is not how the IANA database writes this time zone: letter case counts", name)
	}
	if near != "" {
		p.Mend = source.Replace(at, near, near+" is one")
	}
}

// environment puts the variables of a service together: files in their order, then env, then what owner and timezone add.
func (r *resolver) environment(s *Service, d *declare.Service, in *scope) {
	env := map[string]Variable{}
	set := func(v Variable) {
		if weaker, ok := env[v.Name]; ok {
			v.Overrides = append(weaker.Overrides, weaker)
			v.Overrides[len(v.Overrides)-1].Overrides = nil
		}
		env[v.Name] = v
	}
	secret := func(name string) bool {
		return declare.IsSecret(name) || slices.ContainsFunc(d.Secrets, func(t declare.Text) bool { return t.Value == name })
	}
	if s.Zone.Name != "" {
		variable := cmp.Or(d.TimezoneVariable.Value, "TZ")
		set(Variable{Name: variable, Value: s.Zone.Name, At: s.Zone.At, Origin: FromZone})
	}
	if s.OwnerUID != "" && s.Owner != nil && s.Owner.Known {
		at := d.OwnerVariables[0].Span
		set(Variable{Name: s.OwnerUID, Value: itoa(s.Owner.UID), At: at, Origin: FromOwner})
		set(Variable{Name: s.OwnerGID, Value: itoa(s.Owner.GID), At: at, Origin: FromOwner})
	}
	for _, t := range d.EnvFiles {
		p, _ := declare.EnvPath(s.Stack.Name, t.Value)
		file := r.decl.EnvFiles[p]
		if file == nil {
			continue // reported
		}
		for _, e := range file.Entries {
			set(Variable{Name: e.Name, Value: e.Value.Value, Secret: secret(e.Name), At: e.Value.Span, Origin: p})
		}
	}
	for _, e := range d.Env {
		v := r.expand(e.Value, in)
		if v.Unknown {
			continue
		}
		isSecret := v.Secret || secret(e.Name)
		if secret(e.Name) {
			e.Value.Span.Hide()
			r.hideLets(e.Value.Value, in)
		}
		set(Variable{Name: e.Name, Value: v.Text, Secret: isSecret, At: v.Part(0, len(v.Text)), Origin: FromEnv})
	}
	for _, v := range env {
		s.Env = append(s.Env, v)
	}
	slices.SortFunc(s.Env, func(a, b Variable) int { return cmp.Compare(a.Name, b.Name) })
}

// hideLets keeps the plain texts that a secret is made of out of excerpts, wherever they stand.
func (r *resolver) hideLets(text string, in *scope) {
	for name, l := range in.lets {
		if strings.Contains(text, "${"+name+"}") && l.decl.Value.IsSet() {
			l.decl.Value.Span.Hide()
			l.value.Secret = true
		}
	}
}
