package draft

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/tags"
)

// Image is what is known of an image that a service is drafted of.
type Image struct {
	Reference string
	About     string   // what it says that it is
	Ports     []string // as it declares them, such as 80/tcp
	Volumes   []string
	User      string // "" for root
	Env       map[string]string
	Chosen    bool // nobody has named the tag
	Unknown   bool // what it declares could not be found out
	Card      *declare.Card
}

// Place is where a stack is drafted for.
type Place struct {
	Stack string
	Host  string // the host that it is for; "" where the lab has one only
	Data  bool   // the lab has a folder called data
	Owner bool   // somebody's data it is: folders that are made are theirs
	Taken func(port int) bool
}

// Note is what a person has to look at in a draft.
type Note struct {
	Line    int    // of the file, from 1 on
	Element string // what it is about, such as service.desk.ports
	Text    string
}

// firstFree is from where on host ports are looked for, where a port of the same number is not free.
const firstFree = 8080

// Stack drafts a stack.toml: a service of each image, wired as their cards say. What neither images nor cards say is a
// commented line with the question.
func Stack(p Place, images []Image) Drafted {
	d := &stackDraft{Place: p, names: map[string]bool{}, ports: map[int]bool{}}
	from := "from what the images say of themselves"
	for _, i := range images {
		name := d.name(i.Reference)
		d.services = append(d.services, &service{Image: i, name: name, at: "service." + name})
		if i.Card != nil {
			from = "from cards of the images, and what the images say of themselves"
		}
	}
	d.wire()
	d.line("# Drafted " + from + ". Lines behind # are left open, or for you to choose.")
	if p.Host != "" {
		d.line("host = " + declare.Quote(p.Host))
	}
	d.writeLet()
	for _, s := range d.services {
		d.service(s)
	}
	for _, v := range d.volumes {
		// Tables of volumes stand behind the services that they are for.
		d.line("")
		d.line("[volume." + v.name + "]  # " + v.why)
	}
	drafted := Drafted{Text: strings.Join(d.lines, "\n") + "\n", Notes: d.notes}
	if len(d.let) > 0 {
		drafted.EnvFile = d.envFile()
	}
	return drafted
}

// Drafted is the draft of a stack.
type Drafted struct {
	Text    string // of its stack.toml
	Notes   []Note
	EnvFile string // the name of the file that its secrets go into; "" where it has none
}

// envFile is the name of the file of the stack's secrets.
func (d *stackDraft) envFile() string { return d.Stack + ".env" }

type stackDraft struct {
	Place
	lines    []string
	notes    []Note
	names    map[string]bool // of services
	ports    map[int]bool    // of the host, that this draft publishes
	services []*service
	let      []madeUp
	volumes  []draftVolume
}

// service is a service of the draft.
type service struct {
	Image
	name, at string // at: the path of its table
	wired    bool   // others of the draft reach it
	peer     *peer  // what others have to know of it; nil: nobody has asked
}

type draftVolume struct{ name, why string }

func (d *stackDraft) line(text string) { d.lines = append(d.lines, oneLine(text)) }

// ask writes a question: a line that is commented out, and a note of it.
func (d *stackDraft) ask(element, line, question string) {
	d.aside(line, question)
	d.notes = append(d.notes, Note{len(d.lines), element, question})
}

// aside writes a line that is commented out, with what it is for.
func (d *stackDraft) aside(line, why string) {
	if line != "" && why != "" {
		line += "  # "
	}
	d.line("# " + line + why)
}

// service drafts one service. Beside others its ports may be for them only.
func (d *stackDraft) service(s *service) {
	beside := len(d.services) > 1
	d.line("")
	d.line("[" + s.at + "]")
	if about := s.about(); about != "" {
		d.line("about = " + declare.Quote(firstLine(about)))
	}
	d.image(s.at, s.Image)
	if s.Card != nil {
		d.ofCard(s)
		return
	}
	d.publish(s.at, s.Image, beside)
	d.data(s.at, s.name, s.Image)
	d.user(s.at, s.Image)
	own := ""
	if len(s.Env) > 0 {
		own = "; the image itself sets " + strings.Join(sortedNames(s.Env), ", ")
	}
	d.ask(s.at+".env", `env.NAME = ""`, "which variables does it need? its page says so"+own)
	if beside {
		d.ask(s.at+".after", `after = ["SERVICE"]`, "does it need another one of these first?")
	}
}

// name makes the name of a service from that of its image.
func (d *stackDraft) name(reference string) string {
	repository, _, _ := strings.Cut(reference, "@")
	last := path.Base(repository)
	last, _, _ = strings.Cut(last, ":")
	own := nameFrom(last, "service")
	if own == d.Stack || strings.HasPrefix(own, d.Stack+"-") && len(own) > len(d.Stack)+1 {
		own = cmp.Or(strings.TrimPrefix(strings.TrimPrefix(own, d.Stack), "-"), own) // tide-log/tide-log-desk says it twice
	}
	if !declare.IsName(own) || declare.IsTaken(own) {
		own = "service-" + own
	}
	name := own
	for n := 2; d.names[name]; n++ {
		name = own + "-" + strconv.Itoa(n)
	}
	d.names[name] = true
	return name
}

// image writes which image it is.
func (d *stackDraft) image(at string, i Image) {
	line := "image = " + declare.Quote(i.Reference)
	switch {
	case i.Chosen:
		d.line(line + "  # the newest version that its registry has; none was named")
	case strings.ContainsAny(path.Base(i.Reference), ":@"):
		d.line(line)
	default:
		d.line(line)
		d.ask(at+".image", "image = "+declare.Quote(i.Reference+":TAG"),
			"which tag? without one it is latest, which stands for another image some day")
	}
}

// Newest returns the tag of the newest version of a repository, as it is without words around it; "" where there is
// none that stays what it is.
func Newest(all []string) string {
	for _, t := range tags.Sorted(all) {
		if !tags.Moves(t, all) && strings.Trim(t, "0123456789.") == "" {
			return t
		}
	}
	return ""
}

// publish writes ports. What others in the stack use needs none: then it is a question.
func (d *stackDraft) publish(at string, i Image, beside bool) {
	var items []string
	first := 0
	for _, p := range i.Ports {
		number, protocol, _ := strings.Cut(p, "/")
		port, err := strconv.Atoi(number)
		if err != nil || port < 1 || port > 65535 || protocol != "tcp" && protocol != "udp" && protocol != "" {
			continue
		}
		item := fmt.Sprintf("%d -> %d", d.free(port), port)
		if protocol == "udp" {
			item += "/udp"
		} else if first == 0 {
			first = port
		}
		items = append(items, declare.Quote(item))
	}
	if items == nil {
		d.ask(at+".ports", `ports = ["8080 -> PORT"]`, "on which port does it listen? "+i.silent())
		return
	}
	list := "ports = [" + strings.Join(items, ", ") + "]"
	if beside {
		d.ask(at+".ports", list, "is it used from outside of this stack? services of one stack reach each other without")
	} else {
		d.line(list + "  # port of the host -> port inside, as the image declares it")
	}
	if first > 0 {
		d.line(fmt.Sprintf("ready = { tcp = %d }  # ready once it accepts connections there", first))
		d.ask(at+".page", fmt.Sprintf(`page = "%d/"`, first), "is it a page for browsers?")
	}
}

// free returns a free port of the host: the same as inside where that is one for everybody.
func (d *stackDraft) free(port int) int {
	if port < 1024 {
		port = firstFree
	}
	for d.ports[port] || d.Taken(port) {
		if port++; port > 65535 {
			return 65535 // the check says that it is taken
		}
	}
	d.ports[port] = true
	return port
}

// data writes mounts for the folders that the image declares to hold data. The user of an image that is not root can
// write in a volume, which gets the rights of the image, but not in a folder of somebody else's.
func (d *stackDraft) data(at, name string, i Image) {
	if len(i.Volumes) == 0 {
		d.ask(at+".mounts", `mounts = ["`+d.source(name, "")+` -> FOLDER, create"]`,
			"in which folder inside does it keep data? "+i.silent()+"; without a mount that is lost with the container")
		return
	}
	var items []string
	for _, v := range i.Volumes {
		items = append(items, d.mount(name, v, len(i.Volumes) > 1, !d.Data || !rootish(i.User), i.User))
	}
	d.line("mounts = [" + strings.Join(items, ", ") + "]  # the image declares that data lies there")
}

// mount returns the item of a mount of a folder inside: from a folder of the service's, or from a volume.
func (d *stackDraft) mount(name, folder string, several, volume bool, user string) string {
	sub := ""
	if several {
		sub = "/" + nameFrom(folder, "data")
	}
	target := folder
	if strings.ContainsAny(folder, ",'") || strings.Contains(folder, "->") {
		target = "'" + strings.ReplaceAll(folder, "'", "") + "'"
	}
	if !volume {
		return declare.Quote(d.source(name, sub) + " -> " + target + ", create")
	}
	v := draftVolume{name + strings.ReplaceAll(sub, "/", "-"), "the engine keeps it"}
	if !rootish(user) {
		v.why = "its service runs as " + user + ", which has no rights in folders of others"
	}
	d.volumes = append(d.volumes, v)
	return declare.Quote("volume " + v.name + " -> " + target)
}

// source is the folder of a service's data.
func (d *stackDraft) source(service, sub string) string {
	if !d.Data {
		return "/srv/" + d.Stack + "/" + service + sub
	}
	return "${folder.data}/" + d.Stack + "/" + service + sub
}

// user writes whose rights it has.
func (d *stackDraft) user(at string, i Image) {
	if rootish(i.User) && d.Owner {
		d.ask(at+".run-as", `run-as = "owner"`, "can it run as another user than root? many images can, or take ids in variables")
	}
}

// silent says why something is not known.
func (i Image) silent() string {
	if i.Unknown {
		return "what the image declares could not be found out"
	}
	return "the image does not say"
}

// rootish reports whether an image's user is root.
func rootish(user string) bool {
	name, _, _ := strings.Cut(user, ":")
	return name == "" || name == "root" || name == "0"
}

func sortedNames(env map[string]string) []string {
	var names []string
	for n := range env {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// longestAbout is how much of an image's own words is taken over, in bytes.
const longestAbout = 120

func firstLine(text string) string {
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")
	if len(text) > longestAbout {
		text = strings.ToValidUTF8(text[:longestAbout], "") + "…"
	}
	return text
}
