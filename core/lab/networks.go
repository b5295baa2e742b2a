package lab

import (
	"cmp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

// engine works out the address of a host's engine.
func (r *resolver) engine(h *Host, d declare.Host) {
	h.At = d.Engine.Part(0, len(d.Engine.Value))
	v, ok := r.known(d.Engine, r.labScope)
	if !ok {
		return
	}
	address, err := declare.ParseEngineAddress(v.Text)
	if err != nil {
		r.syntax(err, v)
		return
	}
	h.Engine = address.String()
	file := func(t declare.Text) string {
		v, ok := r.known(t, r.labScope)
		if !ok {
			return ""
		}
		p, inside := declare.EnvPath("", v.Text)
		if !inside {
			r.problem("value-grammar", v.Part(0, len(v.Text)),
				"this file lies inside the lab: %s leads out of it", v.Text)
		}
		return strings.TrimSuffix(r.in.Folder, "/") + "/" + p
	}
	h.Insecure = strings.TrimSpace(d.Insecure.Value) != ""
	h.TLS = TLS{file(d.TLS.CA), file(d.TLS.Cert), file(d.TLS.Key)}
	switch secure := h.TLS.CA != ""; {
	case address.Scheme == "tcp" && (h.TLS.Cert != "") != (h.TLS.Key != ""):
		r.problem("key-missing", h.At, "tls.cert and tls.key go together")
	case address.Scheme == "tcp" && !secure && !address.Loopback() && !h.Insecure:
		r.problem("value-grammar", h.At,
			"plain tcp lets everybody on the way command this machine: tls.ca, tls.cert and tls.key make "+
				"it safe; insecure = \"reason\" accepts it")
	case address.Scheme != "tcp" && (h.TLS != TLS{}):
		r.problem("value-grammar", h.At, "tls goes with tcp://, not with %s://", address.Scheme)
	}
}

// networks works out the networks that stacks share.
func (r *resolver) networks() {
	for _, d := range r.decl.Networks {
		n := &Network{
			Name:       d.Name,
			At:         d.At,
			Internal:   d.Internal != nil && *d.Internal,
			Existing:   d.Existing != nil && *d.Existing,
			EngineName: r.lab.Name + "." + d.Name,
		}
		r.engineName(&n.EngineName, &n.EngineNameAt, d.EngineName, r.labScope)
		if v, ok := r.known(d.Subnet, r.labScope); ok {
			subnet, err := declare.ParseSubnet(v.Text)
			if err != nil {
				r.syntax(err, v)
			}
			n.Subnet, n.SubnetAt = subnet, v.Part(0, len(v.Text))
		}
		if n.Existing && n.EngineNameAt.IsZero() {
			n.EngineName = d.Name // made by another program, without our names
		}
		if n.Existing && (n.Subnet != "" || n.Internal) {
			r.problem("value-grammar", d.At,
				"%s was made by somebody else (existing), so subnet and internal are not ours to choose", d.Name)
		}
		r.lab.Networks = append(r.lab.Networks, n)
	}
}

// engineName puts a name on the engine in place of the usual one.
func (r *resolver) engineName(into *string, at *source.Span, t declare.Text, in *scope) {
	if v, ok := r.known(t, in); ok {
		name, err := declare.ParseEngineName(v.Text)
		if err != nil {
			r.syntax(err, v)
			return
		}
		*into, *at = name, v.Part(0, len(v.Text))
	}
}

// network works out where a service is to be found.
func (r *resolver) network(s *Service, d *declare.Service, in *scope) {
	rare := settingsOf(d)
	s.NetworkMode, s.Overlap = rare.Network.Value, rare.Overlap != nil && *rare.Overlap
	r.listens(s, rare, in)
	r.engineName(&s.TakesOver, &s.TakesOverAt, rare.TakesOver, in)
	if rare.SharesNetworkWith.IsSet() {
		r.shares(s, rare, in)
	}
	if !r.hasOtherNetwork(d, rare) {
		r.sharedNetworks(s, d, in)
	}
}

// listens works out which ports a service opens itself.
func (r *resolver) listens(s *Service, rare *declare.Settings, in *scope) {
	for _, t := range rare.Listens {
		v, ok := r.known(t, in)
		if !ok {
			continue
		}
		p, err := declare.ParseListen(v.Text)
		if err != nil {
			r.syntax(err, v)
			continue
		}
		at := v.Part(p.HostAt[0], p.HostAt[0]+p.HostAt[1])
		s.Listens = append(s.Listens, Port{p, at, at})
	}
}

// hasOtherNetwork reports whether a service lives in another network than those of the lab, and reports what
// has no meaning then.
func (r *resolver) hasOtherNetwork(d *declare.Service, rare *declare.Settings) bool {
	instead := ""
	switch {
	case rare.Network.IsSet():
		instead = `network = "` + rare.Network.Value + `"`
	case rare.SharesNetworkWith.IsSet():
		instead = "shares-network-with"
	default:
		return false
	}
	switch {
	case rare.Network.IsSet() && rare.SharesNetworkWith.IsSet():
		r.problem("value-grammar", rare.SharesNetworkWith.Span,
			"network and shares-network-with exclude each other")
	case len(d.Networks) > 0:
		r.problem("value-grammar", d.Networks[0].Span, "networks have no meaning beside %s", instead)
	case len(rare.Aliases) > 0:
		r.problem("value-grammar", rare.Aliases[0].Span, "names on networks have no meaning beside %s", instead)
	}
	return true
}

// sharedNetworks works out which networks of the lab a service is on.
func (r *resolver) sharedNetworks(s *Service, d *declare.Service, in *scope) {
	names := d.Networks
	if names == nil {
		names = in.decl.Networks
	}
	for _, t := range names {
		v, ok := r.known(t, in)
		if !ok {
			continue
		}
		at := v.Part(0, len(v.Text))
		i := slices.IndexFunc(r.lab.Networks, func(n *Network) bool { return n.Name == v.Text })
		if i < 0 {
			var known []string
			for _, n := range r.lab.Networks {
				known = append(known, n.Name)
			}
			if p := r.once("network-unknown", at, "lab.toml has no network %s", v.Text); p != nil {
				p.Mend = declare.Meant(at, v.Text, known, "is one")
			}
		} else if n := r.lab.Networks[i]; !slices.Contains(s.Networks, n) {
			s.Networks = append(s.Networks, n)
		}
	}
	if n := r.behindGate(s); n != nil {
		s.Networks = append(s.Networks, n)
	}
	slices.SortFunc(s.Networks, func(a, b *Network) int { return cmp.Compare(a.EngineName, b.EngineName) })
	if !s.Stack.Own && len(s.Networks) == 0 && len(names) == 0 {
		r.problem("key-missing", s.At,
			"%s is on no network: the stack has none of its own and names none; network = "+
				"\"none\" says so on purpose", s.Name)
	}
}

// shares works out in whose network a service lives.
func (r *resolver) shares(s *Service, d *declare.Settings, in *scope) {
	v, ok := r.known(d.SharesNetworkWith, in)
	if !ok {
		return
	}
	s.NetworkOfAt = v.Part(0, len(v.Text))
	target := r.serviceNamed(s.Stack, v.Text, s.NetworkOfAt)
	switch {
	case target == nil:
	case target == s:
		r.problem("value-grammar", s.NetworkOfAt, "%s cannot share its network with itself", s.Name)
	case settingsOf(target.decl).SharesNetworkWith.IsSet():
		r.problem("value-grammar", s.NetworkOfAt, "%s lives in another one's network itself: name that one",
			target.Name)
	default:
		s.NetworkOf, s.Hostname = target, ""
		for _, own := range []struct {
			set bool
			at  source.Span
			key string
		}{
			{d.Hostname.IsSet(), d.Hostname.Span, "hostname"}, {len(d.DNS) > 0, first(d.DNS), "dns"},
			{len(d.AddressBook) > 0, firstNamed(d.AddressBook), "address-book"},
			{len(d.Listens) > 0, first(d.Listens), "listens"},
		} {
			if own.set {
				r.problem("value-grammar", own.at,
					"%s belongs to the network, and %s lives in that of %s: declare it there", own.key,
					s.Name, target.Name)
			}
		}
	}
}

// serviceNamed returns a service of a stack; nil, and a finding, where there is none.
func (r *resolver) serviceNamed(st *Stack, name string, at source.Span) *Service {
	if s := st.Service(name); s != nil {
		return s
	}
	var names []string
	for _, o := range st.Services {
		names = append(names, o.Name)
	}
	r.problem("order-unknown", at, "the stack %s has no service %s", st.Name, name).Mend = declare.Meant(at,
		name, names, "is one")
	return nil
}

// after works out what a service waits for.
func (r *resolver) after(s *Service, t declare.Text, in *scope) {
	v, ok := r.known(t, in)
	if !ok {
		return
	}
	name, done := strings.CutSuffix(v.Text, " done")
	name = strings.TrimRight(name, " ")
	at := v.Part(0, len(name))
	if service, word, two := strings.Cut(name, " "); two {
		r.afterWord(v, service, strings.TrimSpace(word))
		return
	}
	stack := s.Stack
	if other, service, both := strings.Cut(name, "/"); both {
		st := r.lab.Stack(other)
		if st == nil {
			var names []string
			for _, o := range r.lab.Stacks {
				names = append(names, o.Name)
			}
			at := v.Part(0, len(other))
			r.problem("order-unknown", at, "the lab has no stack %s", other).Mend = declare.Meant(at, other,
				names, "is one")
			return
		}
		if st.Host != stack.Host {
			r.problem("order-unknown", at, "%s is on another host: each deploy knows only its own", other)
			return
		}
		stack, name, at = st, service, v.Part(len(other)+1, len(name))
	}
	if target := r.serviceNamed(stack, name, at); target != nil {
		s.After = append(s.After, After{Service: target, Done: done, At: at})
	}
}

// afterWord answers a word behind the name of a service that is not done.
func (r *resolver) afterWord(v Value, service, word string) {
	at := v.Part(len(service), len(v.Text))
	p := r.problem("value-grammar", at,
		"behind the name of a service there is only done: once it has ended without an error. Without it, "+
			"after waits until the service is ready")
	switch strings.ToLower(word) {
	case "finished", "finish", "complete", "completed", "ended", "end", "exited", "success", "succeeded",
		"successful", "once":
		p.Mend = source.Replace(at, " done", service+" done waits for its end")
	case "ready", "healthy", "started", "running", "up":
		p.Mend = source.Replace(at, "", service+" alone waiting for ready")
	}
}

// volumes works out the volumes of a stack.
func (r *resolver) volumes(st *Stack, d *declare.Stack, in *scope) {
	for _, vd := range d.Volumes {
		v := &Volume{
			Name:       vd.Name,
			At:         vd.At,
			Existing:   vd.Existing != nil && *vd.Existing,
			EngineName: st.Name + "." + vd.Name,
		}
		r.engineName(&v.EngineName, &v.EngineNameAt, vd.EngineName, in)
		if v.Existing && v.EngineNameAt.IsZero() {
			v.EngineName = vd.Name // made by another program, without our names
		}
		if driver, ok := r.known(vd.Driver, in); ok {
			v.Driver = driver.Text
		}
		v.Options, v.Labels = r.options(vd.Options, in), r.labels(vd.Labels, in)
		if v.Existing && (vd.Driver.IsSet() || vd.Options != nil || vd.Labels != nil) {
			r.problem("value-grammar", vd.At,
				"%s was made by somebody else (existing), so driver, options and "+
					"labels are not ours to choose", vd.Name)
		}
		st.Volumes = append(st.Volumes, v)
	}
}

// options works out the options of a volume, sorted by name. Secrets may stand there.
func (r *resolver) options(list []declare.Named, in *scope) []Option {
	var out []Option
	for _, n := range list {
		if v := r.expandSecret(n.Text, in); n.Text.IsSet() && !v.Unknown && !r.notHere(v) {
			out = append(out, Option{n.Name, v.all()})
		}
	}
	slices.SortFunc(out, func(a, b Option) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// pairs works out texts by names, sorted by name.
func (r *resolver) pairs(list []declare.Named, in *scope) []Pair {
	var out []Pair
	for _, n := range list {
		if v := r.expand(n.Text, in); n.Text.IsSet() && !v.Unknown {
			out = append(out, Pair{n.Name, v.Text})
		}
	}
	slices.SortFunc(out, func(a, b Pair) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// volume returns the volume that a mount names; nil, and a finding, where there is none.
func (r *resolver) volume(s *Service, name string, at source.Span) *Volume {
	var names []string
	for _, v := range s.Stack.Volumes {
		if v.Name == name {
			return v
		}
		names = append(names, v.Name)
	}
	p := r.problem("volume-unknown", at, "the stack %s has no volume %s", s.Stack.Name, name)
	if p.Mend = declare.Meant(at, name, names, "is one"); p.Mend != nil {
		return nil
	}
	if file := s.Stack.File; at.Text() == "volume "+name &&
		strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") == "" {
		end := file.Span(len(file.Text), len(file.Text))
		text := "\n[volume." + name + "]\n"
		if !strings.HasSuffix(file.Text, "\n") {
			text = "\n" + text
		}
		p.Mend = source.Replace(end, text, "check --fix declares it")
	}
	return nil
}

// accept collects what somebody has said yes to.
func (r *resolver) accept(stack, service string, list []declare.Named) {
	for _, n := range list {
		rule, subject, _ := strings.Cut(n.Name, " ")
		r.lab.Accepted = append(r.lab.Accepted, Accepted{
			Rule:    rule,
			Subject: strings.TrimSpace(subject),
			Reason:  strings.TrimSpace(n.Text.Value),
			Stack:   stack,
			Service: service,
			At:      n.At,
		})
	}
}

func first(list []declare.Text) source.Span {
	if len(list) == 0 {
		return source.Span{}
	}
	return list[0].Span
}

func firstNamed(list []declare.Named) source.Span {
	if len(list) == 0 {
		return source.Span{}
	}
	return list[0].At
}
