// Package adopt makes stacks of containers that run already, whoever made them.
package adopt

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/interchange"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
)

// Container is one that is to be adopted: without what only its image says.
type Container struct {
	ID, Name string
	plan.Container
	Check []string    // its health check; nil: none
	Lost  []plan.Lost // what it was made with that has no counterpart
	Ended bool        // it does not run
	// mounts that are volumes without a name of somebody's choice
	Unnamed []plan.Mount
}

// Place is the lab that containers are adopted into.
type Place struct {
	Host     string            // that the stack is for; "" where the lab has one only
	Zone     string            // that services get which say nothing; "" for none
	Folders  map[string]string // short names of folders of the host, and their paths
	Networks []*lab.Network
	Defaults declare.Default
	Limits   bool // the engine tells which limits of processes were asked for, not only which there are
}

// Stack makes a stack of containers. An error says why these do not make one.
func Stack(name string, p Place, all []Container) (*interchange.Stack, error) {
	a := &adoption{Place: p, stack: name, out: &interchange.Stack{Env: map[string]string{}}, names: map[string]string{}}
	for _, c := range all {
		a.names[c.ID] = interchange.ServiceName(serviceName(name, c), a.taken)
	}
	a.decl.Host = text(p.Host)
	own := slices.ContainsFunc(all, func(c Container) bool { return len(userNetworks(c)) == 0 && c.Mode == "" && c.NetworkOf == "" })
	if !own && slices.ContainsFunc(all, func(c Container) bool { return len(userNetworks(c)) > 0 }) {
		a.decl.OwnNetwork = new(bool)
	}
	for _, c := range all {
		if err := a.service(c); err != nil {
			return nil, err
		}
		if own && len(userNetworks(c)) > 0 {
			a.note(c, "networks", "it is on the stack's own network, too, here")
		}
	}
	slices.SortFunc(a.decl.Volumes, func(x, y declare.Volume) int { return cmp.Compare(x.Name, y.Name) })
	a.out.Text = "# Adopted. The first deploy takes the place of the containers, and keeps them until it is proven.\n" +
		declare.WriteStack(&a.decl)
	a.out.Networks = a.Networks
	for i, n := range a.out.Notes {
		a.out.Notes[i].Line = lineOf(a.out.Text, n.Element)
	}
	return a.out, nil
}

type adoption struct {
	Place
	stack string
	decl  declare.Stack
	out   *interchange.Stack
	names map[string]string // of services, by the ids of the containers
}

func (a *adoption) taken(name string) bool {
	return slices.Contains(slices.Collect(maps.Values(a.names)), name)
}

func (a *adoption) note(c Container, element, format string, args ...any) {
	a.out.Notes = append(a.out.Notes, interchange.Note{
		Element: "service." + a.names[c.ID] + "." + element, Text: fmt.Sprintf(format, args...),
	})
}

// lineOf returns the line that an element such as service.desk.mounts stands in; that of its service, where it is not
// there.
func lineOf(text, element string) int {
	table, key, _ := strings.Cut(strings.TrimPrefix(element, "service."), ".")
	at, number := 0, 0
	for line := range strings.Lines(text) {
		number++
		switch {
		case strings.TrimSpace(line) == "[service."+table+"]":
			at = number
		case at > 0 && strings.HasPrefix(line, "["):
			return at
		case at > 0 && strings.HasPrefix(line, key+" ="):
			return number
		}
	}
	return max(at, 1)
}

// text returns a text of somebody else as it stands in our files; one that is empty is not set.
func text(s string) declare.Text {
	if s == "" {
		return declare.Text{}
	}
	return declare.NewText(interchange.Escaped(s))
}

func texts(list []string) []declare.Text {
	var all []declare.Text
	for _, s := range list {
		all = append(all, declare.NewText(interchange.Escaped(s)))
	}
	return all
}

// words returns the words of a command; an empty list says something. A secret among them goes into an environment file,
// and the word refers to it.
func (a *adoption) words(service string, list []secret.Text) []declare.Text {
	if list == nil {
		return nil
	}
	all := []declare.Text{}
	before := ""
	for _, w := range secret.Reveal(list) {
		name, value, has := strings.Cut(w, "=")
		switch {
		case has && strings.HasPrefix(w, "-") && interchange.HoldsSecret(variable(name), value):
			all = append(all, declare.NewText(interchange.Escaped(name)+"="+a.let(service, name, value)))
		case strings.HasPrefix(before, "-") && !strings.Contains(before, "=") && interchange.HoldsSecret(variable(before), w):
			all = append(all, declare.NewText(a.let(service, before, w)))
		case interchange.HoldsSecret("WORD", w): // an address with a password in it
			all = append(all, declare.NewText(a.let(service, "address", w)))
		default:
			all = append(all, declare.NewText(interchange.Escaped(w)))
		}
		before = w
	}
	return all
}

// variable returns the name of a variable for an option of a command.
func variable(option string) string {
	return strings.ToUpper(strings.ReplaceAll(strings.TrimLeft(option, "-"), "-", "_"))
}

// let gives a secret a name of the stack, whose value stands in an environment file, and returns the reference.
func (a *adoption) let(service, option, value string) string {
	base := interchange.VolumeName(service + "-" + strings.ToLower(strings.TrimLeft(option, "-")))
	name := base
	for n := 2; slices.ContainsFunc(a.decl.Let, func(l declare.Let) bool { return l.Name == name }); n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	file, key := interchange.ServiceName("commands", a.taken)+".env", variable(name) // not that of a service
	a.decl.Let = append(a.decl.Let, declare.Let{Name: name, EnvFile: text(file), Key: text(key)})
	a.out.Env[file] += interchange.EnvLine(key, value) + "\n"
	return "${" + name + "}"
}

func switched(is bool) *bool {
	if !is {
		return nil
	}
	return &is
}

// serviceName returns what a container is called in its stack: by a label of the program that made it, or by its name
// without that of the stack.
func serviceName(stack string, c Container) string {
	for _, prefix := range plan.Marks(c.Settings.Labels) {
		for _, l := range c.Settings.Labels {
			if l.Name == prefix+"service" && l.Value != "" {
				return l.Value
			}
		}
	}
	for _, dash := range []string{"-", "_", "."} {
		if rest, ok := strings.CutPrefix(c.Name, stack+dash); ok && rest != "" {
			return rest
		}
	}
	return c.Name
}

// userNetworks returns the networks that somebody put a container on.
func userNetworks(c Container) []plan.Attachment {
	return slices.DeleteFunc(slices.Clone(c.Networks), func(n plan.Attachment) bool {
		return slices.Contains(plan.DefaultNetworks, n.Network)
	})
}

func (a *adoption) service(c Container) error {
	run, name := c.Settings, a.names[c.ID]
	rare := &declare.Settings{
		WorkingDir: text(run.WorkingDir), Command: a.words(name, run.Command), Entrypoint: a.words(name, run.Entrypoint),
		ExtraGroups: texts(run.Groups), Capabilities: texts(run.Capabilities), DropCapabilities: texts(run.Dropped), DNS: texts(run.DNS),
		Privileged: switched(run.Privileged), ReadOnly: switched(run.ReadOnly), Init: switched(run.Init),
		Network: text(c.Mode), StopSignal: text(run.StopSignal), TakesOver: text(c.Name),
	}
	s := &declare.Service{Name: name, Image: text(c.Image), Settings: rare}
	if container := a.stack + "." + s.Name; container == c.Name {
		return fmt.Errorf("the container %s has the very name that lantern would give to its successor: choose another name for the stack", c.Name)
	}
	if c.User != "" {
		s.RunAs = text("inside " + c.User)
		if numbered.MatchString(c.User) {
			s.RunAs = text(c.User)
		}
	}
	a.habits(s, c)
	a.environment(s, c)
	if !plan.UnnamedHost(c.Hostname, c.ID) && c.Mode == "" && c.NetworkOf == "" {
		rare.Hostname = text(c.Hostname)
	}
	for _, p := range ports(c.Ports) {
		s.Ports = append(s.Ports, text(p))
	}
	a.mounts(s, c)
	if err := a.networks(s, c); err != nil {
		return err
	}
	a.settings(rare, c)
	if c.Check != nil {
		s.Ready = &declare.Ready{Command: texts(c.Check)}
	}
	for _, l := range c.Lost {
		a.note(c, l.Element, "%s", l.Text)
	}
	if c.Ended {
		a.note(c, "image", "it does not run: the deploy runs it once more; leave it out if that is not wanted")
	}
	a.decl.Services = append(a.decl.Services, s)
	return nil
}

// numbered is a user that is written in numbers alone.
var numbered = regexp.MustCompile(`^[0-9]+:[0-9]+$`)

// habits writes what [default] has, too: what is not the lab's habit.
func (a *adoption) habits(s *declare.Service, c Container) {
	differs := func(is string, habit declare.Text, usual string) declare.Text {
		if want := cmp.Or(habit.Value, usual); is == want {
			return declare.Text{}
		}
		return text(is)
	}
	restart := c.Restart
	restart.Policy = cmp.Or(restart.Policy, "no")
	s.Restart = differs(restart.String(), a.Defaults.Restart, "unless-stopped")
	if within := cmp.Or(c.StopWithin, 10*time.Second); within != 10*time.Second || a.Defaults.StopWithin.IsSet() {
		s.StopWithin = text(within.String())
	}
	if !slices.Contains(c.NotReported, "log-limit") {
		limit := "none"
		if c.LogLimit.Size > 0 {
			limit = fmt.Sprintf("%d x %s", max(c.LogLimit.Files, 1), interchange.DecimalSize(c.LogLimit.Size))
		}
		s.LogLimit = differs(limit, a.Defaults.LogLimit, "5 x 10MB")
	}
}

// environment writes variables; secrets go into a file.
func (a *adoption) environment(s *declare.Service, c Container) {
	value := func(name string) string {
		for _, v := range c.Env {
			if v.Name == name {
				return v.Value.Reveal()
			}
		}
		return ""
	}
	done := map[string]bool{}
	switch zone := value("TZ"); {
	case zone == "" && a.Zone != "":
		s.Timezone = text("none")
	case zone == "" || zone == a.Zone:
		done["TZ"] = zone != ""
	case lab.IsZone(zone):
		s.Timezone, done["TZ"] = text(zone), true
	case a.Zone != "":
		s.Timezone = text("none")
	}
	for _, v := range c.Env {
		group := strings.TrimSuffix(v.Name, "UID") + "GID"
		uid, gid := v.Value.Reveal(), value(group)
		if !strings.HasSuffix(v.Name, "UID") || !digits.MatchString(uid) || !digits.MatchString(gid) || s.Owner.IsSet() {
			continue
		}
		s.Owner, s.OwnerVariables = text(uid+":"+gid), texts([]string{v.Name, group})
		done[v.Name], done[group] = true, true
	}
	var secrets []string
	for _, v := range c.Env {
		switch plain := v.Value.Reveal(); {
		case done[v.Name]:
		case interchange.HoldsSecret(v.Name, plain):
			secrets = append(secrets, interchange.EnvLine(v.Name, plain))
		default:
			s.Env = append(s.Env, declare.Variable{Name: v.Name, Value: declare.NewText(interchange.Escaped(plain))})
		}
	}
	if len(secrets) > 0 {
		file := s.Name + ".env"
		s.EnvFiles = texts([]string{file})
		a.out.Env[file] = strings.Join(secrets, "\n") + "\n"
	}
}

var digits = regexp.MustCompile(`^[0-9]+$`)

// ports writes published ports; those that follow each other as one range.
func ports(list []plan.Port) []string {
	list = slices.SortedFunc(slices.Values(list), func(x, y plan.Port) int {
		return cmp.Or(cmp.Compare(x.Address, y.Address), cmp.Compare(x.Protocol, y.Protocol), cmp.Compare(x.Container, y.Container))
	})
	var all []string
	for i := 0; i < len(list); {
		first, n := list[i], 1
		for ; i+n < len(list); n++ {
			next := list[i+n]
			if first.Host == 0 || next.Host != first.Host+n || next.Container != first.Container+n || next.Address != first.Address ||
				next.Protocol != first.Protocol {
				break
			}
		}
		line := first.String()
		if n > 1 {
			from, to, _ := strings.Cut(line, " -> ")
			to, protocol, _ := strings.Cut(to, "/")
			line = fmt.Sprintf("%s-%d -> %s-%d", from, first.Host+n-1, to, first.Container+n-1)
			if protocol != "" {
				line += "/" + protocol
			}
		}
		all = append(all, line)
		i += n
	}
	return all
}

// mounts writes what is mounted: folders by their short names, volumes as they are.
func (a *adoption) mounts(s *declare.Service, c Container) {
	for _, m := range slices.Concat(c.Mounts, c.Unnamed) {
		out := declare.Mount{
			Kind: m.Kind, Source: m.Source, Target: interchange.Escaped(m.Target), ReadOnly: m.ReadOnly, Shared: m.Shared,
			StartEmpty: m.StartEmpty, Size: m.Size,
		}
		switch m.Kind {
		case declare.MountPath:
			out.Source = a.inFolder(m.Source)
		case declare.MountVolume:
			out.Source = a.volume(m)
			if slices.Contains(c.Unnamed, m) {
				a.note(c, "mounts", "the volume at %s has no name of its own; it stays what it is, as %s", m.Target, out.Source)
			}
		}
		s.Mounts = append(s.Mounts, declare.NewText(out.String()))
	}
}

// inFolder writes a path with the short name of the folder that it lies in.
func (a *adoption) inFolder(p string) string {
	best := ""
	for name, folder := range a.Folders {
		if declare.Below(p, folder) && folder != "/" &&
			(best == "" || len(folder) > len(a.Folders[best]) || len(folder) == len(a.Folders[best]) && name < best) {
			best = name
		}
	}
	if best == "" {
		return interchange.Escaped(p)
	}
	return "${folder." + best + "}" + interchange.Escaped(strings.TrimPrefix(p, strings.TrimSuffix(a.Folders[best], "/")))
}

// unnamedLength is that of the names that engines make up for volumes.
const unnamedLength = 64

// volume declares a volume as one that exists, and returns its name here.
func (a *adoption) volume(m plan.Mount) string {
	for _, v := range a.decl.Volumes {
		if v.EngineName.Value == m.Source {
			return v.Name
		}
	}
	there := m.Source
	if len(there) == unnamedLength {
		there = m.Target[strings.LastIndexByte(m.Target, '/')+1:]
	}
	for _, dash := range []string{"-", "_", "."} {
		there = strings.TrimPrefix(there, a.stack+dash)
	}
	base := interchange.VolumeName(there)
	if !declare.IsName(base) {
		base = "volume"
	}
	name := base
	for n := 2; slices.ContainsFunc(a.decl.Volumes, func(v declare.Volume) bool { return v.Name == name }); n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	a.decl.Volumes = append(a.decl.Volumes, declare.Volume{Name: name, Existing: switched(true), EngineName: text(m.Source)})
	return name
}

// networks writes where a container is to be found.
func (a *adoption) networks(s *declare.Service, c Container) error {
	if id, guest := strings.CutPrefix(c.NetworkOf, "container:"); guest {
		host, here := a.names[id]
		if !here {
			return fmt.Errorf("%s lives in the network of another container: adopt that one, too, into the same stack", c.Name)
		}
		s.Settings.SharesNetworkWith = text(host)
		return nil
	}
	on := userNetworks(c)
	if len(on) == 0 {
		return nil
	}
	names := []string{c.Name} // by which the others find it
	for _, n := range on {
		s.Networks = append(s.Networks, text(a.network(n.Network)))
		names = append(names, n.Aliases...)
	}
	slices.Sort(names)
	for _, n := range slices.Compact(names) {
		if _, err := declare.ParseAlias(n); err != nil {
			a.note(c, "aliases", "others may know it as %s, which is no name here", n)
		} else if a.decl.OwnNetwork != nil || n != s.Name {
			s.Settings.Aliases = append(s.Settings.Aliases, text(n))
		}
	}
	return nil
}

// network returns the lab's name of a network; one that it does not have is added as existing.
func (a *adoption) network(there string) string {
	for _, n := range a.Networks {
		if n.EngineName == there {
			return n.Name
		}
	}
	base := interchange.VolumeName(there)
	if !declare.IsName(base) {
		base = "network"
	}
	name := base
	for n := 2; slices.ContainsFunc(a.Networks, func(o *lab.Network) bool { return o.Name == name }); n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	a.Networks = append(slices.Clone(a.Networks), &lab.Network{Name: name, EngineName: there})
	a.out.Lab += fmt.Sprintf("\n[network.%s]  # of containers that %s was adopted from; somebody else made it\nexisting = true\nengine-name = %s\n",
		name, a.stack, declare.Quote(there))
	return name
}

// settings writes the rarer ones.
func (a *adoption) settings(rare *declare.Settings, c Container) {
	run := c.Settings
	named := func(pairs []lab.Pair) []declare.Named {
		var all []declare.Named
		for _, p := range pairs {
			all = append(all, declare.Named{Name: p.Name, Text: declare.NewText(interchange.Escaped(p.Value))})
		}
		return all
	}
	rare.Sysctls, rare.AddressBook, rare.Labels = named(run.Sysctls), named(run.AddressBook), named(plan.WithoutMarks(run.Labels))
	if marks := plan.Marks(run.Labels); len(marks) > 0 {
		a.note(c, "labels", "those that begin with %s are left out: the program that made the container knows its own by them",
			strings.Join(marks, " and "))
	}
	if a.Limits {
		for _, u := range run.Ulimits {
			value := declare.NewText(fmt.Sprintf("%d:%d", u.Soft, u.Hard))
			rare.Ulimits = append(rare.Ulimits, declare.Named{Name: u.Name, Text: value})
		}
	}
	for _, d := range run.Devices {
		rare.Devices = append(rare.Devices, text(d.String()))
	}
	if run.Memory > 0 {
		rare.Memory = text(interchange.BinarySize(run.Memory))
	}
	if run.SharedMemory > 0 {
		rare.SharedMemory = text(interchange.BinarySize(run.SharedMemory))
	}
	if run.CPUs > 0 {
		rare.CPUs = text(fmt.Sprint(run.CPUs))
	}
	for field, is := range map[*declare.Text]bool{&rare.PID: run.HostPID, &rare.IPC: run.HostIPC} {
		if is {
			*field = text("host")
		}
	}
}
