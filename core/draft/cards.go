package draft

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
)

// about returns what a service does: its card knows best.
func (s *service) about() string {
	if s.Card != nil && s.Card.About.IsSet() {
		return s.Card.About.Value
	}
	return s.About
}

// ofCard drafts what the card of a service's image says.
func (d *stackDraft) ofCard(s *service) {
	d.cardPorts(s)
	d.cardData(s)
	d.cardOwner(s)
	d.cardVariables(s)
	var after []string
	for _, o := range d.services {
		if o != s && slices.ContainsFunc(s.Card.Variables, func(v declare.CardVariable) bool { return d.other(s, v) == o }) {
			after = append(after, declare.Quote(o.name))
		}
	}
	if len(after) > 0 {
		d.line("after = [" + strings.Join(after, ", ") + "]  # it reaches them")
	}
	if s.Card.FirstLogin.IsSet() {
		d.aside("", "first login: "+s.Card.FirstLogin.Value)
	}
}

// withWhy joins what a card says of a thing to what else is known of it.
func withWhy(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(p string) bool { return p == "" }), "; ")
}

// cardPorts writes what is published: pages, and what nobody in the draft is there for. What is optional is commented
// out.
func (d *stackDraft) cardPorts(s *service) {
	var items, abouts, asides []string
	page, tcp := "", 0
	if s.wired {
		tcp = s.peer.port
	}
	for _, p := range s.Card.Ports {
		item := strconv.Itoa(p.Port)
		if p.Protocol != "tcp" {
			item += "/" + p.Protocol
		}
		if p.Protocol == "tcp" && tcp == 0 {
			tcp = p.Port
		}
		switch {
		case declare.IsTrue(p.Optional):
			asides = append(asides, fmt.Sprintf(`%s can be added to ports: %s`, declare.Quote(
				fmt.Sprintf("%d -> %s", d.free(p.Port), item)), withWhy(p.About.Value, "optional")))
			continue
		case s.wired && !p.Page.IsSet():
			asides = append(asides, fmt.Sprintf("not published: services of this stack reach it as %s:%d", s.name, p.Port))
			continue
		}
		items = append(items, declare.Quote(fmt.Sprintf("%d -> %s", d.free(p.Port), item)))
		if p.About.IsSet() {
			abouts = append(abouts, p.About.Value)
		}
		if p.Page.IsSet() && page == "" {
			page = strconv.Itoa(p.Port) + p.Page.Value
		}
	}
	if len(items) > 0 {
		d.line("ports = [" + strings.Join(items, ", ") + "]  # " + withWhy(strings.Join(abouts, ", "), "by its card"))
	} else if len(s.Card.Ports) == 0 && len(s.Ports) > 0 {
		d.publish(s.at, s.Image, len(d.services) > 1)
	}
	for _, a := range asides {
		d.aside("", a)
	}
	if page != "" {
		d.line("page = " + declare.Quote(page))
	}
	switch {
	case s.Card.Ready != nil && s.Card.Ready.Line() != "":
		d.line(s.Card.Ready.Line() + "  # by its card")
	case tcp > 0:
		d.line(fmt.Sprintf("ready = { tcp = %d }  # ready once it accepts connections there", tcp))
	}
}

// cardData writes mounts for the paths of the card, and those that the image declares beside.
func (d *stackDraft) cardData(s *service) {
	type place struct {
		path, about string
		readOnly    bool
		from        string
	}
	var places, optional []place
	for _, c := range s.Card.Data {
		p := place{c.Path, c.About.Value, declare.IsTrue(c.ReadOnly), "by its card"}
		switch {
		case c.Keep != nil && !*c.Keep:
		case declare.IsTrue(c.Optional):
			optional = append(optional, p)
		default:
			places = append(places, p)
		}
	}
	for _, v := range s.Volumes {
		if !slices.ContainsFunc(s.Card.Data, func(c declare.CardData) bool { return declare.Below(v, c.Path) || declare.Below(c.Path, v) }) {
			places = append(places, place{path: v, from: "the image declares that data lies there"})
		}
	}
	several := len(places)+len(optional) > 1
	volume := !d.Data || !rootish(s.User) && !d.handsOver(s)
	var lines []string
	for _, p := range places {
		item := d.mount(s.name, p.path, several, volume && !p.readOnly, s.User)
		lines = append(lines, "  "+readOnly(item, p.readOnly)+",  # "+withWhy(p.about, p.from))
	}
	if len(lines) == 1 {
		item, why, _ := strings.Cut(strings.TrimSpace(lines[0]), ",  # ")
		d.line("mounts = [" + item + "]  # " + why)
	} else if len(lines) > 1 {
		d.line("mounts = [")
		for _, l := range lines {
			d.line(l)
		}
		d.line("]")
	}
	for _, p := range optional {
		item := readOnly(d.mount(s.name, p.path, several, false, s.User), p.readOnly)
		d.aside("", item+" can be added to mounts: "+withWhy(p.about, "optional"))
	}
}

// readOnly adds an option to the item of a mount.
func readOnly(item string, is bool) string {
	if !is {
		return item
	}
	return strings.TrimSuffix(item, `"`) + `, read-only"`
}

// handsOver reports whether a service gets the owner's ids.
func (d *stackDraft) handsOver(s *service) bool {
	uid, gid := s.ids()
	return d.Owner && uid != "" && gid != ""
}

// ids returns the variables that take the owner's ids, by the card; "" where there are none.
func (s *service) ids() (uid, gid string) {
	for _, v := range s.Card.Variables {
		switch v.Is.Value {
		case declare.IsOwnerUID:
			uid = v.Name
		case declare.IsOwnerGID:
			gid = v.Name
		}
	}
	return uid, gid
}

// cardOwner writes whose rights the service has, and in which variable it gets the time zone.
func (d *stackDraft) cardOwner(s *service) {
	uid, gid := s.ids()
	line := fmt.Sprintf("owner-variables = [%s, %s]", declare.Quote(uid), declare.Quote(gid))
	switch {
	case d.handsOver(s):
		d.line(line + "  # whose data it is: the lab's owner; by its card")
	case uid != "" && gid != "":
		d.ask(s.at+".owner-variables", line, "whose data is it? the lab has no owner")
	default:
		d.user(s.at, s.Image)
	}
	for _, v := range s.Card.Variables {
		if v.Is.Value == declare.IsZone && v.Name != "TZ" {
			d.line("timezone-variable = " + declare.Quote(v.Name) + "  # by its card")
		}
	}
}

// cardVariables writes the variables of the card: those that are needed, and behind # those that can be set.
func (d *stackDraft) cardVariables(s *service) {
	for _, v := range s.Card.Variables {
		key := "env." + declare.KeyName(v.Name)
		required := declare.IsTrue(v.Required)
		if value, why := d.valueOf(s, v); value != "" {
			d.line(key + " = " + declare.Quote(value) + "  # " + withWhy(v.About.Value, why))
			continue
		}
		var values []string
		for _, t := range v.Values {
			values = append(values, t.Value)
		}
		about := withWhy(v.About.Value, strings.Join(values, ", "))
		switch other := v.Other(); {
		case slices.Contains([]string{declare.IsOwnerUID, declare.IsOwnerGID, declare.IsZone}, v.Is.Value):
		case other != "" && required:
			d.ask(s.at+".env."+v.Name, key+" = "+declare.Quote(v.Form.Value), "which "+other+"? it does not work without")
		case other != "":
			d.aside(key+" = "+declare.Quote(v.Form.Value), withWhy(about, "where there is a "+other))
		case required && !v.Default.IsSet() && s.Env[v.Name] == "":
			d.ask(s.at+".env."+v.Name, key+` = ""`, withWhy("which value? it does not work without", about))
		default:
			d.aside(key+" = "+declare.Quote(v.Default.Value), withWhy(about, "this is its default"))
		}
	}
}
