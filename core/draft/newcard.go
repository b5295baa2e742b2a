package draft

import (
	"path"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

// Card drafts a card of an image from what the image says of itself, to be completed.
func Card(i Image, guide string) string {
	name, _, _ := strings.Cut(i.Reference, "@")
	if colon := strings.LastIndexByte(name, ':'); colon > strings.LastIndexByte(name, '/') {
		name = name[:colon]
	}
	c := &stackDraft{}
	// What cannot stand in a card is left out: the image may say anything.
	add := func(lines ...string) bool {
		text := "card = " + declare.Quote(name) + "\n" + strings.Join(lines, "\n") + "\n"
		if _, problems := declare.ParseCard(source.NewFile("", text)); len(problems) > 0 {
			return false
		}
		for _, l := range lines {
			c.line(l)
		}
		return true
	}
	c.line("# A card of an image: what the image itself does not say. Complete it; lantern about cards says how.")
	c.line("card  = " + declare.Quote(name))
	if i.About == "" || !add("about = "+declare.Quote(firstLine(i.About))) {
		c.line(`# about = ""  # what does it do?`)
	}
	if guide == "" || !add("guide = "+declare.Quote(guide)) {
		c.line(`# guide = ""  # where does its page tell more?`)
	}
	c.line(`# ready = { log = "" }  # which line of its log says that it is open?`)
	c.line(`# first-login = ""  # how does a person get in for the first time?`)
	for _, p := range i.Ports {
		if key := strings.TrimSuffix(p, "/tcp"); add("", "[port."+declare.KeyName(key)+"]") {
			c.line(`# about = ""  # what is it for?`)
			c.line(`# page  = "/"  # is it a page for browsers?`)
		}
	}
	for _, v := range i.Volumes {
		if add("", "[data."+declare.KeyName(path.Clean(v))+"]", "keep = true  # the image declares that data lies there") {
			c.line(`# about = ""  # what lies there?`)
		}
	}
	for _, name := range sortedNames(i.Env) {
		if name != "PATH" && add("", "[variable."+declare.KeyName(name)+"]", "default = "+declare.Quote(i.Env[name])) {
			c.line(`# about = ""  # what does it do?`)
		}
	}
	c.line("")
	c.line("# [variable.NAME]  # which others does it read? its page says so")
	c.line(`# is       = "secret"  # or owner-uid, owner-gid, zone, user, password, database, wire, ...`)
	c.line("# required = true")
	return strings.Join(c.lines, "\n") + "\n"
}

// CardFile returns the name of the file for a card of an image.
func CardFile(reference string) string {
	name, _, _ := strings.Cut(path.Base(reference), "@")
	name, _, _ = strings.Cut(name, ":")
	return declare.CardFolder + "/" + nameFrom(name, "image") + ".toml"
}
