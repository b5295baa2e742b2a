package lab

import (
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

// insideWord begins a run-as that names an account of the image.
const insideWord = "inside "

// identity works out owner, owner-variables and run-as of a service.
func (r *resolver) identity(s *Service, d *declare.Service, in *scope) {
	texts := append(make([]declare.Text, 0, 4), d.Owner, in.decl.Owner)
	if s.Stack.Host != nil {
		texts = append(texts, s.Stack.Host.decl.Owner)
	}
	for _, t := range append(texts, r.decl.Owner) {
		if t.IsSet() {
			s.Owner = r.account(t, in)
			break
		}
	}
	if n := len(d.OwnerVariables); n > 0 {
		at := d.OwnerVariables[0].Span
		switch {
		case n != 2:
			r.problem("account-half", at,
				"owner-variables names two variables: the one for the uid, then the one for the gid")
		case s.Owner == nil:
			r.problem("key-missing", at,
				"owner-variables hands over the owner's ids, and no owner is declared here, in "+
					"the stack or in the lab")
		default:
			uid, known := r.known(d.OwnerVariables[0], in)
			gid, knownToo := r.known(d.OwnerVariables[1], in)
			for _, v := range []Value{uid, gid} {
				if _, err := declare.ParseVariable(v.Text); err != nil && !v.Unknown {
					r.syntax(err, v)
					known = false
				}
			}
			if known && knownToo {
				if uid.Text == gid.Text {
					r.problem("account-half", gid.Part(0, len(gid.Text)),
						"both owner-variables are %s: the first is for the uid, the second for the gid", uid.Text)
				}
				s.OwnerUID, s.OwnerGID = uid.Text, gid.Text
			}
		}
	}
	switch t := d.RunAs; {
	case !t.IsSet() || t.Value == "image":
	case t.Value == "owner" && s.Owner == nil:
		r.problem("key-missing", t.Part(0, len(t.Value)),
			`run-as = "owner", and no owner is declared here, in the stack or in the lab`)
	case t.Value == "owner":
		s.RunAs = s.Owner
	case strings.HasPrefix(t.Value, insideWord):
		if v, ok := r.known(t, in); ok {
			user, err := declare.ParseInsideUser(strings.TrimPrefix(v.Text, insideWord))
			if err != nil {
				r.problem("value-grammar", v.Part(len(insideWord), len(v.Text)), "%s", err)
			}
			s.InsideUser = user
		}
	default:
		s.RunAs = r.account(t, in)
	}
}

// account reads ACCOUNT, ACCOUNT:GROUP or UID:GID and looks the names up on the host. Without a survey of the
// host names stay unknown, which is no mistake.
func (r *resolver) account(t declare.Text, in *scope) *Identity {
	v := r.expand(t, in)
	id := &Identity{Name: v.Text, At: v.Part(0, len(v.Text))}
	if v.Unknown {
		return id
	}
	user, group, both := strings.Cut(v.Text, ":")
	uid, err := number(user)
	if err == nil {
		gid, err := number(group)
		switch {
		case !both || group == "":
			r.once("account-half", id.At, "a uid needs its gid: %s:GID", user)
		case err != nil:
			r.once("value-grammar", v.Part(len(user)+1, len(v.Text)), "beside a uid stands a gid, a number")
		default:
			id.UID, id.GID, id.Known = uid, gid, true
		}
		return id
	}
	host := r.hostOf(in)
	if host == nil || host.Survey == nil || host.Survey.Accounts == nil {
		return id
	}
	account, ok := host.Survey.Account(user)
	if !ok {
		var names []string
		for _, a := range host.Survey.Accounts {
			names = append(names, a.Name)
		}
		r.nameUnknown(v.Part(0, len(user)), user, names, "%s has no account %s", host.Name, user)
		return id
	}
	id.UID, id.GID = account.UID, account.GID
	if both {
		if gid, err := number(group); err == nil {
			id.GID = gid
		} else if g, ok := host.Survey.Group(group); ok {
			id.GID = g.GID
		} else {
			var names []string
			for _, g := range host.Survey.Groups {
				names = append(names, g.Name)
			}
			r.nameUnknown(v.Part(len(user)+1, len(v.Text)), group, names, "%s has no group %s", host.Name, group)
			return id
		}
	}
	id.Known = true
	return id
}

func (r *resolver) nameUnknown(at source.Span, name string, names []string, format string, args ...any) {
	if p := r.once("account-unknown", at, format, args...); p != nil {
		p.Mend = declare.Meant(at, name, names, "is there")
	}
}

// once reports a problem of a line that many services share only the first time; then it returns nil.
func (r *resolver) once(rule string, at source.Span, format string, args ...any) *source.Problem {
	if slices.ContainsFunc(r.problems, func(p source.Problem) bool { return p.At == at && p.Rule == rule }) {
		return nil
	}
	return r.problem(rule, at, format, args...)
}
