package lab

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
)

// Settings are what a service may say of its container beyond image, ports, mounts and environment. Zero
// values leave things to the image and the engine. All lists whose order has no meaning are sorted.
type Settings struct {
	Platform     string
	Command      []secret.Text // nil: the image's own
	Entrypoint   []secret.Text // nil: the image's own
	WorkingDir   string
	Groups       []string // gids
	Memory       int64    // bytes
	SharedMemory int64    // bytes
	CPUs         float64
	Devices      []declare.Device
	Capabilities []string
	Dropped      []string
	Privileged   bool
	ReadOnly     bool
	Init         bool
	HostPID      bool
	HostIPC      bool
	HostCgroup   bool
	Sysctls      []Pair
	Labels       []Pair
	Ulimits      []declare.Ulimit
	AddressBook  []Pair // name, address
	DNS          []string
	StopSignal   string
}

// Pair is a name with a value.
type Pair struct{ Name, Value string }

func (p Pair) String() string { return p.Name + " = " + p.Value }

// ownLabels begin the labels that lantern itself puts on containers.
const ownLabels = "proudlantern."

// settings works out what a service says of its container.
func (r *resolver) settings(s *Service, d *declare.Settings, in *scope) {
	c := &s.Settings
	parse := func(into *string, t declare.Text, f func(string) (string, error)) {
		if v, ok := r.known(t, in); ok {
			text, err := f(v.Text)
			if err != nil {
				r.syntaxOnce(err, v)
			}
			*into = text
		}
	}
	each := func(key string, into *[]string, list []declare.Text, f func(string) (string, error)) {
		for _, t := range list {
			var one string
			if parse(&one, t, f); one != "" {
				*into = append(*into, one)
				s.place(key, one, t.Part(0, len(t.Value)))
			}
		}
		slices.Sort(*into)
	}
	parse(&c.Platform, d.Platform, declare.ParsePlatform)
	parse(&c.WorkingDir, d.WorkingDir, declare.ParseFolder)
	parse(&c.StopSignal, d.StopSignal, declare.ParseSignal)
	s.Hostname = s.Stack.Name + "-" + s.Name
	if d.Hostname.IsSet() {
		parse(&s.Hostname, d.Hostname, declare.ParseHostname)
	}
	for _, t := range d.Aliases {
		alias := Alias{At: t.Part(0, len(t.Value))}
		if parse(&alias.Name, t, declare.ParseAlias); alias.Name != "" {
			s.Aliases = append(s.Aliases, alias)
		}
	}
	each("capabilities", &c.Capabilities, d.Capabilities, declare.ParseCapability)
	each("drop-capabilities", &c.Dropped, d.DropCapabilities, declare.ParseCapability)
	each("dns", &c.DNS, d.DNS, declare.ParseAddress)
	c.Command, c.Entrypoint = r.words(s, "command", d.Command, in), r.words(s, "entrypoint", d.Entrypoint, in)
	def := r.decl.Default
	c.Memory = r.size(in, d.Memory, def.Memory)
	c.SharedMemory = r.size(in, d.SharedMemory, declare.Text{})
	r.cpus(c, d.CPUs, def.CPUs)
	for _, t := range d.Devices {
		if v, ok := r.known(t, in); ok {
			device, err := declare.ParseDevice(v.Text)
			if err != nil {
				r.syntax(err, v)
				continue
			}
			c.Devices = append(c.Devices, device)
			host, _, _ := strings.Cut(v.Text, "->")
			s.place("devices", device.String(),
				v.Part(len(host)-len(strings.TrimLeft(host, " \t")), len(strings.TrimRight(host, " \t"))))
		}
	}
	slices.SortFunc(c.Devices, func(a, b declare.Device) int { return cmp.Compare(a.Container, b.Container) })
	yes := func(b *bool) bool { return b != nil && *b }
	c.Privileged, c.ReadOnly, c.Init = yes(d.Privileged), yes(d.ReadOnly), yes(d.Init)
	if d.IPC.IsSet() && d.SharedMemory.IsSet() {
		r.problem("value-grammar", d.SharedMemory.Span,
			"shared-memory has no meaning with ipc = \"host\": the host's is used")
	}
	c.HostPID, c.HostIPC, c.HostCgroup = d.PID.IsSet(), d.IPC.IsSet(), d.Cgroup.IsSet()
	r.groups(s, d, in)
	r.tables(c, d, in)
}

// known returns a text that is set and whose references are all known.
func (r *resolver) known(t declare.Text, in *scope) (Value, bool) {
	if !t.IsSet() {
		return Value{}, false
	}
	v := r.expand(t, in)
	return v, !v.Unknown
}

// words returns a list whose order counts; nil where none is declared. It may hold a secret.
func (r *resolver) words(s *Service, key string, list []declare.Text, in *scope) []secret.Text {
	if list == nil {
		return nil
	}
	out := []secret.Text{}
	for _, t := range list {
		if !t.IsSet() {
			continue
		}
		if v := r.expandSecret(t, in); !v.Unknown && !r.notHere(v) {
			s.place(key, strconv.Itoa(len(out)), t.Part(0, len(t.Value)))
			out = append(out, v.all())
		}
	}
	return out
}

func (r *resolver) size(in *scope, own, otherwise declare.Text) int64 {
	v, ok := r.known(own, in)
	if !own.IsSet() {
		v, ok = r.known(otherwise, r.labScope)
	}
	if !ok {
		return 0
	}
	n, err := declare.ParseSize(v.Text)
	if err != nil {
		r.syntaxOnce(err, v)
	}
	return n
}

func (r *resolver) cpus(c *Settings, own, otherwise declare.Text) {
	t := own
	if !t.IsSet() {
		t = otherwise
	}
	if !t.IsSet() {
		return
	}
	n, err := strconv.ParseFloat(strings.ReplaceAll(t.Value, "_", ""), 64)
	if err != nil || n <= 0 || n > 1024 {
		r.once("value-grammar", t.Span, "cpus is a number above 0, such as 1.5")
		return
	}
	c.CPUs = n
}

// groups looks further groups up on the host.
func (r *resolver) groups(s *Service, d *declare.Settings, in *scope) {
	for _, t := range d.ExtraGroups {
		v, ok := r.known(t, in)
		if !ok {
			continue
		}
		if _, err := strconv.ParseInt(v.Text, 10, 64); err == nil {
			gid, err := number(v.Text)
			if err != nil {
				r.problem("value-grammar", v.Part(0, len(v.Text)), "a gid is a whole number from 0 to %d",
					uint32(math.MaxUint32))
				continue
			}
			s.Settings.Groups = append(s.Settings.Groups, itoa(gid))
			continue
		}
		host := s.Stack.Host
		if host == nil || host.Survey == nil || host.Survey.Groups == nil {
			continue
		}
		if g, ok := host.Survey.Group(v.Text); ok {
			s.Settings.Groups = append(s.Settings.Groups, itoa(g.GID))
			continue
		}
		var names []string
		for _, g := range host.Survey.Groups {
			names = append(names, g.Name)
		}
		r.nameUnknown(v.Part(0, len(v.Text)), v.Text, names, "%s has no group %s", host.Name, v.Text)
	}
	slices.Sort(s.Settings.Groups)
	s.Settings.Groups = slices.Compact(s.Settings.Groups)
}

// labels works out labels, sorted by name.
func (r *resolver) labels(list []declare.Named, in *scope) []Pair {
	kept := make([]declare.Named, 0, len(list))
	for _, n := range list {
		if n.Name == "" || strings.HasPrefix(n.Name, ownLabels) {
			r.problem("value-grammar", n.At, "labels that begin with %s are lantern's own", ownLabels)
			continue
		}
		kept = append(kept, n)
	}
	return r.pairs(kept, in)
}

// tables works out what is declared by names.
func (r *resolver) tables(c *Settings, d *declare.Settings, in *scope) {
	for _, n := range d.Sysctls {
		if !strings.Contains(n.Name, ".") {
			r.problem("value-grammar", n.At, "%q is no kernel setting, such as net.core.somaxconn", n.Name)
		} else if v, ok := r.known(n.Text, in); ok {
			c.Sysctls = append(c.Sysctls, Pair{n.Name, v.Text})
		}
	}
	c.Labels = r.labels(d.Labels, in)
	for _, n := range d.AddressBook {
		if _, err := declare.ParseHostname(n.Name); err != nil {
			r.problem("value-grammar", n.At, "%s", err)
		} else if v, ok := r.known(n.Text, in); ok {
			address, err := declare.ParseAddress(v.Text)
			if err != nil {
				r.syntax(err, v)
				continue
			}
			c.AddressBook = append(c.AddressBook, Pair{n.Name, address})
		}
	}
	for _, n := range d.Ulimits {
		if !slices.Contains(declare.UlimitNames, n.Name) {
			p := r.problem("value-grammar", n.At, "%q is no limit of a process; there are %s", n.Name,
				strings.Join(declare.UlimitNames, ", "))
			if near := declare.Nearest(n.Name, declare.UlimitNames); near != "" {
				p.Message = strconv.Quote(n.Name) + " is no limit of a process; " + near + " is one"
				// The name may be there already, or be meant twice. A table with one key twice can't be read
				// at all.
				meant := func(o declare.Named) bool { return declare.Nearest(o.Name, declare.UlimitNames) == near }
				if first := slices.IndexFunc(d.Ulimits, meant); !slices.ContainsFunc(d.Ulimits[first+1:], meant) {
					p.Mend = declare.Meant(n.At, n.Name, declare.UlimitNames, "is one")
				}
			}
		} else if v, ok := r.known(n.Text, in); ok {
			limit, err := declare.ParseUlimit(n.Name, v.Text)
			if err != nil {
				r.syntax(err, v)
				continue
			}
			c.Ulimits = append(c.Ulimits, limit)
		}
	}
	byName := func(a, b Pair) int { return cmp.Compare(a.Name, b.Name) }
	slices.SortFunc(c.Sysctls, byName)
	slices.SortFunc(c.AddressBook, byName)
	slices.SortFunc(c.Ulimits, func(a, b declare.Ulimit) int { return cmp.Compare(a.Name, b.Name) })
}
