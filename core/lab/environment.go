package lab

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
)

// secretLets finds the entries of [let] that secrets are made of: they are secret wherever they stand, and
// kept out of excerpts.
func (r *resolver) secretLets() {
	for _, st := range r.lab.Stacks {
		for _, s := range st.Services {
			d := s.decl
			for _, e := range d.Env {
				if isSecret(d, e.Name) {
					e.Value.Hide()
					markSecret(e.Value.Value, s.scope.lets)
				}
			}
		}
	}
}

// plainLets notes the entries of [let] that hold a secret to the letter: by their own name, because a secret
// is made of them, or as the password of a URL.
func (r *resolver) plainLets() {
	note := func(stack string, lets []declare.Let, in map[string]*let) {
		for _, d := range lets {
			text := d.Value.Value
			if !d.Value.IsSet() || text == "" || strings.Contains(text, "${") {
				continue
			}
			l := in[d.Name]
			switch m := urlPassword.FindStringSubmatchIndex(text); {
			case declare.IsSecret(d.Name) || l != nil && l.secret:
				r.lab.PlainLets = append(r.lab.PlainLets, PlainLet{stack, d.Name, d.Value.Part(0, len(text))})
			case m != nil:
				at := d.Value.Part(m[2], m[3])
				at.Hide()
				if l != nil {
					l.secret = true
				}
				r.lab.PlainLets = append(r.lab.PlainLets, PlainLet{stack, d.Name, at})
			}
		}
	}
	for _, st := range r.lab.Stacks {
		if len(st.Services) > 0 {
			note(st.Name, st.decl.Let, st.Services[0].scope.lets)
		}
	}
	note("", r.decl.Let, r.labScope.lets)
	for i, l := range r.lab.PlainLets { // a stack sees those of the lab through its host
		for _, h := range r.lab.Hosts {
			if own := h.scope.lets[l.Name]; l.Stack == "" && own != nil {
				own.secret = own.secret || r.labScope.lets[r.lab.PlainLets[i].Name].secret
			}
		}
	}
}

// markSecret marks what a text refers to.
func markSecret(text string, lets map[string]*let) {
	for {
		_, rest, more := strings.Cut(text, "${")
		if !more {
			return
		}
		name, _, _ := strings.Cut(rest, "}")
		if l := lets[name]; l != nil && !l.secret {
			l.secret = true
			l.decl.Value.Hide()
			markSecret(l.decl.Value.Value, l.scope.lets)
		}
		text = rest
	}
}

// isSecret reports whether a variable of a service is a secret by its name, or because the service says so.
func isSecret(d *declare.Service, name string) bool {
	return declare.IsSecret(name) ||
		slices.ContainsFunc(d.Secrets, func(t declare.Text) bool { return t.Value == name })
}

// environment puts the variables of a service together: files in their order, then env, then what owner and
// timezone add.
func (r *resolver) environment(s *Service, d *declare.Service, in *scope) {
	s.Env = make([]Variable, 0, len(d.Env)+3)
	variable := "TZ"
	if v, ok := r.known(settingsOf(d).TimezoneVariable, in); ok {
		name, err := declare.ParseVariable(v.Text)
		if err != nil {
			r.syntax(err, v)
		}
		variable = name
	}
	if s.Zone.Name != "" && variable != "" {
		s.set(Variable{Name: variable, Value: secret.Plain(s.Zone.Name), At: s.Zone.At, Origin: FromZone})
	}
	if s.OwnerUID != "" && s.Owner != nil && s.Owner.Known {
		at := d.OwnerVariables[0].Span
		s.set(Variable{Name: s.OwnerUID, Value: secret.Plain(itoa(s.Owner.UID)), At: at, Origin: FromOwner})
		s.set(Variable{Name: s.OwnerGID, Value: secret.Plain(itoa(s.Owner.GID)), At: at, Origin: FromOwner})
	}
	r.fileVariables(s, d, in)
	r.ownVariables(s, d, in)
	for _, v := range s.Env {
		if (v.Name == "TZ" || v.Name == variable) && v.Origin != FromZone {
			r.variableZone(v)
		}
	}
	slices.SortFunc(s.Env, func(a, b Variable) int { return cmp.Compare(a.Name, b.Name) })
}

// fileVariables sets what the environment files say.
func (r *resolver) fileVariables(s *Service, d *declare.Service, in *scope) {
	for _, t := range d.EnvFiles {
		p, file := r.envFile(s.Stack.Name, t, in)
		if file == nil {
			continue // reported
		}
		for _, e := range file.Entries {
			v := Variable{
				Name:   e.Name,
				Value:  secret.Of(e.Value.Value, isSecret(d, e.Name)),
				At:     e.Value.Span,
				Origin: p,
				named:  isSecret(d, e.Name),
			}
			if v.named {
				e.Value.Hide()
			}
			r.passwords(&v, Value{Text: e.Value.Value, written: e.Value})
			s.set(v)
		}
	}
}

// ownVariables sets what the service's own env says.
func (r *resolver) ownVariables(s *Service, d *declare.Service, in *scope) {
	for _, e := range d.Env {
		v := r.expandSecret(e.Value, in)
		if v.Unknown {
			continue
		}
		text := v.all()
		variable := Variable{Name: e.Name, Value: text, At: v.Part(0, len(text.Reveal())), Origin: FromEnv, Later: v.later}
		// with references, or with escapes
		if v.pieces != nil || variable.At.End-variable.At.Start != len(text.Reveal()) {
			kept := v
			variable.value = &kept
		}
		if isSecret(d, e.Name) {
			variable.Value, variable.named = secret.Of(text.Reveal(), true), true
		}
		r.passwords(&variable, v)
		s.set(variable)
	}
}

// set gives the service a variable in place of a weaker one of that name, which it remembers.
func (s *Service) set(v Variable) {
	// Few variables are found faster one by one than with an index of them.
	i := slices.IndexFunc(s.Env, func(o Variable) bool { return o.Name == v.Name })
	if i < 0 {
		s.Env = append(s.Env, v)
		return
	}
	weaker := s.Env[i]
	v.Overrides = append(weaker.Overrides, weaker)
	v.Overrides[len(v.Overrides)-1].Overrides = nil
	s.Env[i] = v
}

// urlPassword matches the password of a URL.
var urlPassword = regexp.MustCompile(`[a-zA-Z][a-zA-Z0-9+.-]*://[^\s/@:?#]*:([^\s/@?#]+)@`)

// passwords marks what is the password of a URL in a variable as secret, where it stands there to the letter.
func (r *resolver) passwords(v *Variable, in Value) {
	text := in.all().Reveal()
	if v.named || !strings.Contains(text, "://") {
		return
	}
	found := urlPassword.FindAllStringSubmatchIndex(text, -1)
	if found == nil {
		return
	}
	for _, m := range found {
		if in.refers(m[2], m[3]) {
			continue // it is secret by its own name, or by no name
		}
		at := in.Part(m[2], m[3])
		in.cut(m[2], m[3])
		at.Hide()
		r.secrets[secret.Of(text[m[2]:m[3]], true)] = true
		v.Value, v.Written = secret.Of(text, true), append(v.Written, at)
		v.value = &in
	}
}

// envFile returns an environment file of the lab; nil where it cannot be had, which is reported.
func (r *resolver) envFile(dir string, t declare.Text, in *scope) (string, *declare.EnvFile) {
	v, ok := r.known(t, in)
	if !ok {
		return "", nil
	}
	path, _ := declare.EnvPath(dir, v.Text)
	file, read := r.lab.EnvFiles[path]
	if !read {
		file, read = r.files[path]
	}
	if !read && len(v.pieces) > 0 { // the others were read with the file that names them
		var problems []source.Problem
		path, file, problems = r.decl.ReadEnvFile(dir, v.Part(0, len(v.Text)), v.Text)
		r.files[path] = file
		for _, p := range problems {
			p.Stack, p.Service = in.stack.Name, in.service.Name
			r.problems = append(r.problems, p)
		}
	}
	return path, file
}

// unused reports entries of [let] that nothing refers to, and entries of environment files that only [let]
// could use and does not. While a file cannot be read, it is not known what it uses.
func (r *resolver) unused() {
	if slices.ContainsFunc(r.lab.Stacks, func(st *Stack) bool { return st.Broken }) || len(r.lab.Stacks) == 0 {
		return
	}
	given, asked := map[string]bool{}, map[string]map[string]bool{}
	ask := func(dir string, l declare.Let) {
		if path, ok := declare.EnvPath(dir, l.EnvFile.Value); ok && l.EnvFile.IsSet() {
			if asked[path] == nil {
				asked[path] = map[string]bool{}
			}
			asked[path][l.Key.Value] = true
		}
	}
	broken := map[string]bool{} // files of which it is not known what is used
	report := func(st *Stack, dir string, l declare.Let, used, unknown bool) {
		ask(dir, l)
		if path, ok := declare.EnvPath(dir, l.EnvFile.Value); ok && unknown {
			broken[path] = true
		}
		if !used && !unknown {
			r.at = &scope{stack: st}
			r.problem("env-unused", l.At, "nothing uses ${%s}", l.Name)
		}
	}
	for _, l := range r.decl.Let {
		used := r.labScope.lets[l.Name].used.Load()
		for _, h := range r.lab.Hosts {
			used = used || h.scope.lets[l.Name].used.Load()
		}
		report(nil, "", l, used, r.labScope.lets[l.Name].value.Unknown)
	}
	for _, d := range r.decl.Domains {
		if d.DNSUpdate != nil && d.DNSUpdate.Key.Key.IsSet() {
			ask("", d.DNSUpdate.Key)
		}
	}
	for _, st := range r.lab.Stacks {
		for _, l := range st.decl.Let {
			if len(st.Services) > 0 {
				own := st.Services[0].scope.lets[l.Name]
				report(st, st.Name, l, own.used.Load(), own.value.Unknown)
			}
		}
		for _, s := range st.Services {
			for _, t := range s.decl.EnvFiles {
				before := len(r.problems) // what is wrong with the name was said already
				if path, ok := declare.EnvPath(st.Name, r.expand(t, s.scope).Text); ok {
					given[path] = true
				}
				r.problems = r.problems[:before]
			}
		}
	}
	r.at = nil
	for _, path := range slices.Sorted(maps.Keys(asked)) {
		if file := r.lab.EnvFiles[path]; file != nil && !given[path] && !broken[path] {
			for _, e := range file.Entries {
				if !asked[path][e.Name] {
					r.problem("env-unused", e.At, "nothing uses %s of %s", e.Name, path)
				}
			}
		}
	}
}
