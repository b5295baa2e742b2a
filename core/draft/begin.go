// Package draft writes files that a person would else begin empty: a lab.
package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/survey"
)

// Lab is what a new lab needs to know.
type Lab struct {
	Name     string
	Host     string
	Engine   string // its address; "" for the usual socket
	Address  string // by which browsers reach the host; "" for localhost
	Timezone string
	Owner    string // the account whose data it is
	Data     string // the folder below which data lies
}

// Choice is something to choose from, with why somebody would.
type Choice struct{ Value, Why string }

// Choices are what there is to choose from on a host, the best first.
type Choices struct {
	Owners []Choice
	Data   []Choice
}

// Places are folders below which people keep data; those that are not there say nothing.
var Places = []string{"/srv", "/data", "/mnt", "/media", "/home", "/opt", "/tank", "/pool", "/volume1", "/volume2",
	"/var/lib"}

// firstPerson and lastPerson are the ids of people's accounts (login.defs(5), UID_MIN and UID_MAX).
const (
	firstPerson = 1000
	lastPerson  = 59999
)

// Suggest works out good answers for a folder's name and the person at work (their account's name), from what is true
// of the host.
func Suggest(s *survey.Survey, folder, person string) (Lab, Choices) {
	l := Lab{Name: nameFrom(folder, "lab"), Host: nameFrom(s.Host, "host"), Timezone: s.Timezone}
	if l.Host != "host" {
		l.Address = s.Host
	}
	var c Choices
	for _, a := range s.Accounts {
		if a.UID < firstPerson || a.UID > lastPerson {
			continue
		}
		why := fmt.Sprintf("uid %d, gid %d", a.UID, a.GID)
		if a.Name == person {
			c.Owners = slices.Insert(c.Owners, 0, Choice{a.Name, why + ", you"})
		} else {
			c.Owners = append(c.Owners, Choice{a.Name, why})
		}
	}
	if len(c.Owners) > 0 {
		l.Owner = c.Owners[0].Value
	}
	c.Data = dataFolders(s, l.Name)
	if len(c.Data) > 0 {
		l.Data = c.Data[0].Value
	}
	return l, c
}

// dataFolders are folders for data: on each file system that can be written one, those with more room first. The
// system's own counts half: it is better not filled.
func dataFolders(s *survey.Survey, name string) []Choice {
	systems := slices.Clone(s.FileSystems)
	room := func(f survey.FileSystem) int64 {
		if f.Mount == "/" {
			return f.Free / 2
		}
		return f.Free
	}
	slices.SortStableFunc(systems, func(a, b survey.FileSystem) int { return cmp.Compare(room(b), room(a)) })
	var all []Choice
	for _, f := range systems {
		if !f.Mounted || slices.Contains(f.Options, "ro") || strings.HasPrefix(f.Mount, "/var") || f.Mount == "/home" {
			continue
		}
		place := strings.TrimSuffix(f.Mount, "/") + "/" + name
		if f.Mount == "/" {
			place = "/srv/" + name
		}
		if !slices.ContainsFunc(all, func(c Choice) bool { return c.Value == place }) {
			all = append(all, Choice{place, fmt.Sprintf("%d GB free", f.Free/1e9)})
		}
	}
	if all == nil {
		all = []Choice{{"/srv/" + name, ""}}
	}
	return all
}

// nameFrom makes a name of ours from any; other is taken where nothing of it is left.
func nameFrom(text, other string) string {
	var b strings.Builder
	for _, c := range strings.ToLower(text) {
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9' && b.Len() > 0:
			b.WriteRune(c)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-") && b.Len() < 40:
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String()[:min(b.Len(), 40)], "-")
	if !declare.IsName(name) {
		return other
	}
	return name
}

// Wrong says which answer cannot be used, by the name of its option, and why; "" where all can.
func (l Lab) Wrong() (option, why string) {
	for _, f := range []struct{ what, value string }{{"name", l.Name}, {"host-name", l.Host}} {
		if !declare.IsName(f.value) {
			return f.what, fmt.Sprintf("%q is no name: a small letter, then small letters, digits and -, at most 40", f.value)
		}
	}
	if l.Data != "" && !strings.HasPrefix(l.Data, "/") {
		return "data", fmt.Sprintf("%s is no path of the host: those begin with /", l.Data)
	}
	return "", ""
}

// File returns lab.toml. Each line says what it is for; what is not known stands there as a question.
func (l Lab) File(s *survey.Survey) string {
	var b strings.Builder
	line := func(key, value, comment string) {
		text := key + " = " + declare.Quote(value)
		if value == "" {
			text = "# " + text
		}
		if comment != "" {
			text += "  # " + comment
		}
		b.WriteString(text + "\n")
	}
	line("lab", l.Name, "its name; containers are labelled with it")
	line("timezone", l.Timezone, orElse(l.Timezone, "of "+l.Host, "in which zone are the services? such as Atlantic/Faroe"))
	line("owner", l.Owner, orElse(l.Owner, ownerComment(s, l.Owner), "whose data is it? the name of an account of the host"))
	b.WriteString("\n[folder]\n")
	line("data", l.Data, orElse(l.Data, "${folder.data} in stacks", "below which folder of the host does the data lie?"))
	b.WriteString("\n[host." + l.Host + "]\n")
	if e := s.Engine; e != nil {
		b.WriteString("# " + oneLine(fmt.Sprintf("%s %s, %s", e.Name, e.Version, s.Platform)) + "\n")
	}
	if l.Engine != "" {
		line("engine", l.Engine, "")
	}
	line("address", l.Address, orElse(l.Address, "how browsers reach it; links are made with it",
		"how do browsers reach it? localhost when left out"))
	return b.String()
}

func ownerComment(s *survey.Survey, owner string) string {
	a, ok := s.Account(owner)
	if !ok {
		return "whose data it is"
	}
	return fmt.Sprintf("whose data it is: uid %d, gid %d", a.UID, a.GID)
}

func orElse(value, comment, question string) string {
	if value == "" {
		return question
	}
	return comment
}

// oneLine keeps a text from outside within its comment.
func oneLine(text string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return ' '
		}
		return c
	}, text)
}

// IgnoreFile keeps secrets, and what lantern keeps for itself, out of version control.
const IgnoreFile = `# Passwords and other secrets stay on this machine.
*.env
# What lantern keeps for itself.
.lantern/
`
