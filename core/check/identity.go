package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/access"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var identityRules = []Rule{
	{
		Name: "account-unknown", Severity: Error, Needs: Host, Mends: true, Rests: Names,
		Title:   "an account or group that does not exist on the host",
		Text:    "Names of accounts are looked up on the host of the stack, not on the machine that runs lantern.",
		Mistake: `owner = "keper"`,
		Mended:  `owner = "keeper"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				if why := s.Stack.Host.Survey.Unknown["accounts"]; why != "" && s.Owner != nil {
					in.skip("host "+s.Stack.Host.Name, why)
				}
			}
			resolverFinds(in)
		},
	}, {
		Name: "account-half", Severity: Error, Needs: Files,
		Title:   "half of an identity: a uid without its gid, or one owner variable only",
		Text:    "What is missing would be filled in by the engine or the image, each in its own way.",
		Mistake: "run-as = \"1311\"\nowner-variables = [\"WATCH_UID\"]",
		Mended:  "run-as = \"1311:1400\"\nowner-variables = [\"WATCH_UID\", \"WATCH_GID\"]",
		Find: func(in *Input) {
			resolverFinds(in)
			halfVariables(in)
		},
	}, {
		Name: "account-unowned", Severity: Note, Needs: Host,
		Title:   "a uid that no account on the host has",
		Text:    "Its files will show as a number. That may be meant: a uid of its own keeps a service apart.",
		Mistake: `owner = "1999:1400"`,
		Mended:  `owner = "keeper"`,
		Find:    accountUnowned,
	}, {
		Name: "account-root", Severity: Note, Needs: Image,
		Title: "a service that runs as root without being told to",
		Text:  "Its image says nothing else. What it writes on the host belongs to root.",
		Mistake: "image = \"registry.skerry.example/root:1\"    # which names no user\n" +
			"mounts = [\"/srv/skerry/mast -> /data\"]",
		Mended: `run-as = "owner"`,
		Find: func(in *Input) {
			for _, s := range in.surveyed() {
				image, ok := imageOf(s)
				if !ok || s.RunAs != nil || s.OwnerUID != "" || s.Declared().RunAs.IsSet() ||
					!slices.Contains([]string{"", "0", "root", "0:0", "root:root"}, image.User) {
					continue // run-as = "image" is to be told, too
				}
				message := s.FullName() + " runs as root, because its image names no other user"
				if writes(s) {
					message += ", and writes on the host"
				}
				in.report(s, source.Problem{At: s.Image.Part(0, len(s.Image.Text)), Message: message})
			}
		},
	}, {
		Name: "account-contradiction", Severity: Error, Needs: Files, Mends: true, Rests: Names,
		Title: "a variable of owner-variables is set to another id",
		Text: "Both cannot hold: env and environment files win, and the owner's folders " +
			"are then somebody else's.",
		Mistake: "owner = \"keeper\"    # uid 1311\nowner-variables = [\"WATCH_UID\", \"WATCH_GID\"]\n" +
			"env.WATCH_UID = 1000",
		Mended: "owner = \"keeper\"\nowner-variables = [\"WATCH_UID\", \"WATCH_GID\"]",
		Find:   accountContradiction,
	}, {
		Name: "account-mixed", Severity: Warning, Needs: Host,
		Title:   "two identities write one folder and have no group in common",
		Text:    "What one of them writes, the other cannot change or remove.",
		Mistake: `mounts = ["/srv/skerry/shared -> /data"]    # in two services, as keeper and as ranger`,
		Mended:  `extra-groups = ["watch"]    # for both, and the folder belongs to that group`,
		Find:    accountMixed,
	},
}

// writes reports whether a service writes a folder of the host.
func writes(s *lab.Service) bool {
	return slices.ContainsFunc(s.Mounts, func(m lab.Mount) bool {
		return m.Kind == declare.MountPath && !m.ReadOnly
	})
}

func accountUnowned(in *Input) {
	for _, s := range in.surveyed() {
		facts := s.Stack.Host.Survey
		for _, id := range []*lab.Identity{s.Owner, s.RunAs} {
			if id == nil || !id.Known || facts.Accounts == nil || id.Name == "" || id.Name[0] < '0' ||
				id.Name[0] > '9' {
				continue
			}
			if !slices.ContainsFunc(facts.Accounts, func(a survey.Account) bool { return a.UID == id.UID }) {
				in.reportOnce(s, source.Problem{
					At:      id.At,
					Message: fmt.Sprintf("no account on %s has uid %d", s.Stack.Host.Name, id.UID),
				})
			}
		}
	}
}

// halfVariables reports a variable for a uid that is set by hand without the one for its gid, or the reverse.
func halfVariables(in *Input) {
	for _, s := range in.services() {
		for _, v := range s.Env {
			half, other := strings.TrimSuffix(v.Name, "UID"), "GID"
			if half == v.Name {
				half, other = strings.TrimSuffix(v.Name, "GID"), "UID"
			}
			// UUID and GUID are names of other things.
			if half == v.Name || strings.HasSuffix(half, "U") || strings.HasSuffix(half, "G") ||
				v.Origin == lab.FromOwner {
				continue
			}
			if _, err := strconv.ParseUint(v.Value.Reveal(), 10, 31); err != nil {
				continue
			}
			if !slices.ContainsFunc(s.Env, func(o lab.Variable) bool { return o.Name == half+other }) {
				in.report(s, source.Problem{
					At: v.At,
					Message: fmt.Sprintf("%s is set, and %s is not: the image fills that in by itself",
						v.Name, half+other),
				})
			}
		}
	}
}

func accountContradiction(in *Input) {
	for _, s := range in.services() {
		if s.OwnerUID == "" || s.Owner == nil || !s.Owner.Known {
			continue
		}
		for _, v := range s.Env {
			want := map[string]survey.ID{s.OwnerUID: s.Owner.UID, s.OwnerGID: s.Owner.GID}
			id, is := want[v.Name]
			if right := strconv.FormatInt(id, 10); is && v.Origin != lab.FromOwner && !v.Value.Is(right) {
				in.report(s, source.Problem{
					At: v.At,
					Message: fmt.Sprintf("%s is set to %s, and the owner %s has %d",
						v.Name, v.Value, s.Owner.Name, id),
					Because: []source.Because{{Text: "owner-variables hands over the ids of this owner",
						At: s.Owner.At}},
					Mend: mendValue(v, right, "the owner's is "+right),
				})
			}
		}
	}
}

// mendValue offers another value for a variable, where it is written to the letter.
func mendValue(v lab.Variable, right, text string) *source.Mend {
	mend := &source.Mend{Text: text}
	if v.Value.Is(v.At.Text()) {
		mend.Edits = []source.Edit{{At: v.At, New: right}}
	}
	return mend
}

func accountMixed(in *Input) {
	type user struct {
		service *lab.Service
		id      lab.Identity
		groups  []survey.ID
	}
	first := map[*lab.Host]map[string][]user{}
	for _, s := range in.surveyed() {
		id, known, _ := s.Identity()
		if !known || id.UID == 0 {
			continue
		}
		u := user{s, id, append(access.GroupsOf(s), id.GID)}
		for _, m := range s.Mounts {
			if m.Kind != declare.MountPath || m.ReadOnly {
				continue
			}
			if first[s.Stack.Host] == nil {
				first[s.Stack.Host] = map[string][]user{}
			}
			for _, o := range first[s.Stack.Host][m.Source] {
				common := slices.ContainsFunc(u.groups, func(g survey.ID) bool {
					return slices.Contains(o.groups, g)
				})
				facts := s.Stack.Host.Survey
				if o.id.UID != u.id.UID && !common && !bothNamed(facts, m.Source, u.id.UID, o.id.UID) {
					in.report(s, source.Problem{
						At: m.SourceAt,
						Message: fmt.Sprintf(
							"%s and %s both write %s, as %s and %s, and have no group in common",
							s.FullName(), o.service.FullName(), m.Source, facts.UserName(u.id.UID),
							facts.UserName(o.id.UID)),
					})
					break
				}
			}
			first[s.Stack.Host][m.Source] = append(first[s.Stack.Host][m.Source], u)
		}
	}
}

// bothNamed reports whether the access control list of a folder has an entry with the right to write for each of two.
func bothNamed(facts *survey.Survey, path string, a, b survey.ID) bool {
	p, ok := facts.Path(path)
	if real, known := facts.Path(p.Real); ok && known {
		p = real
	}
	writes := func(uid survey.ID) bool {
		got, _ := access.Check(p, access.Named(uid), access.Write)
		return got != 0 && (uid == p.UID || access.EntryOf(p.ACL, uid) != "")
	}
	return ok && len(p.ACL) > 0 && writes(a) && writes(b)
}

var zoneRules = []Rule{
	{
		Name: "zone-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "not a time zone of the IANA database, or not in its letter case",
		Text:    "Most programs fall back to UTC without a word when they do not know the zone.",
		Mistake: `timezone = "atlantic/faroe"`,
		Mended:  `timezone = "Atlantic/Faroe"`,
		Find:    resolverFinds,
	}, {
		Name: "zone-contradiction", Severity: Warning, Needs: Files, Mends: true, Rests: Names,
		Title:   "TZ says another zone than timezone",
		Text:    "The variable wins inside the container; a person who reads the file believes the key.",
		Mistake: `env.TZ = "UTC"    # the lab has timezone = "Atlantic/Faroe"`,
		Mended:  `timezone = "UTC"`,
		Find: func(in *Input) {
			eachTZ(in, func(s *lab.Service, v lab.Variable) {
				if s.Zone.Name != "" && !lab.SameZone(v.Value.Reveal(), s.Zone.Name) {
					in.report(s, source.Problem{
						At: v.At, Message: fmt.Sprintf("TZ is %s here, and timezone says %s", v.Value, s.Zone.Name),
						Because: []source.Because{{Text: "timezone", At: s.Zone.At}},
						Mend:    mendValue(v, s.Zone.Name, s.Zone.Name+" is what timezone says"),
					})
				}
			})
		},
	}, {
		Name: "zone-mixed", Severity: Warning, Needs: Files,
		Title:   "services of one stack are in different zones, and no timezone of theirs says so",
		Text:    "Their logs and their clocks differ by hours. One timezone of the stack puts them right.",
		Mistake: "[service.sensor]\nenv.TZ = \"UTC\"\n[service.vane]\nenv.TZ = \"Atlantic/Faroe\"",
		Mended:  `timezone = "Atlantic/Faroe"    # of the stack`,
		Find:    zoneMixed,
	}, {
		Name: "zone-host-differs", Severity: Note, Needs: Host,
		Title:   "the zone of the services is not that of their host",
		Text:    "That may be meant. Times in the services' logs and in the machine's then differ.",
		Mistake: `timezone = "Atlantic/Faroe"    # the machine is set to UTC`,
		Mended:  `timezone = "host"`,
		Find: func(in *Input) {
			told := map[*lab.Host]bool{}
			for _, s := range in.surveyed() {
				h := s.Stack.Host
				// A host, a stack or a service that has a zone of its own means it.
				if !told[h] && s.Zone.At == in.Lab.ZoneAt && s.Zone.Name != "" && h.Survey.Timezone != "" &&
					!lab.SameZone(h.Survey.Timezone, s.Zone.Name) && lab.IsZone(s.Zone.Name) {
					told[h] = true
					in.report(s, source.Problem{
						At:      s.Zone.At,
						Message: fmt.Sprintf("%s itself is set to %s", h.Name, h.Survey.Timezone),
					})
				}
			}
		},
	},
}

// eachTZ calls f for each TZ that was not put there by timezone.
func eachTZ(in *Input, f func(*lab.Service, lab.Variable)) {
	for _, s := range in.services() {
		for _, v := range s.Env {
			if v.Name == "TZ" && v.Origin != lab.FromZone {
				f(s, v)
			}
		}
	}
}

// zoneWord shows the value of a TZ.
func zoneWord(t secret.Text) string {
	if t.Is("") {
		return "empty, which is UTC,"
	}
	return t.String()
}

func zoneMixed(in *Input) {
	first := map[*lab.Stack]lab.Variable{}
	eachTZ(in, func(s *lab.Service, v lab.Variable) {
		if s.Zone.Name != "" {
			return // zone-contradiction says more
		}
		other, seen := first[s.Stack]
		if !seen {
			first[s.Stack] = v
		} else if !lab.SameZone(other.Value.Reveal(), v.Value.Reveal()) {
			in.report(s, source.Problem{
				At: v.At,
				Message: fmt.Sprintf("TZ is %s here, and %s in another service of %s",
					zoneWord(v.Value), zoneWord(other.Value), s.Stack.Name),
				Because: []source.Because{{Text: "there", At: other.At}},
			})
		}
	})
}
