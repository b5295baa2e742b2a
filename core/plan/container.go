// Package plan compares what is declared with what runs and says what a deploy would do, in which order.
package plan

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/wiring"
)

// Labels that lantern puts on what it makes. Nothing without LabelLab and the lab's own name in it is ever
// changed.
const (
	LabelLab     = "proudlantern.lab"
	LabelStack   = "proudlantern.stack"
	LabelService = "proudlantern.service"
	LabelEntry   = "proudlantern.entry"   // number of the deploy that made it
	LabelDigest  = "proudlantern.digest"  // of the declaration, see [Container.Digest]
	LabelSalt    = "proudlantern.salt"    // key of the secrets in the digest
	LabelRestart = "proudlantern.restart" // the declared restart policy: during a deploy another one may be set
	LabelProof   = "proudlantern.proof"   // how it shows that it does its work, see [Proof]
	// a word by chance that no other container has, nor any image: what inherits our labels is known by it
	LabelMade = "proudlantern.made"
	// fields that held a secret when it was made, as JSON of []string: what is in them is never shown
	LabelSecret = "proudlantern.secret"
	// names of the volumes that were made for what its image declares and the files do not, as JSON of []string
	LabelVolumes = "proudlantern.volumes"
	// digest of the machine and the folder that it was deployed from: two labs can have one name
	LabelFrom = "proudlantern.from"
	// its networks and its names there, as JSON of []Attachment: not every engine tells them
	LabelNames = "proudlantern.names"
)

// LabelBuild is on an image of the lab's own: what it was made of, see [Fingerprint]. What rests on such an image inherits it.
const LabelBuild = "proudlantern.build"

// LabelForImage is on a volume that was made for a mount that an image declares and the files do not: the
// mount's path. Only such a volume may ever be swept.
const LabelForImage = "proudlantern.for-image"

// Container is what a service becomes on an engine, in the engine's terms but without its types.
type Container struct {
	Image      string
	User       string // "uid:gid"; "" for the image's own
	Env        []Variable
	Ports      []Port
	Mounts     []Mount
	Networks   []Attachment // none with NetworkMode or Shares
	Mode       string       // host or none instead of networks; else ""
	NetworkOf  string       `json:"Shares"` // the service in whose network it lives
	Hostname   string
	Settings   lab.Settings
	Restart    declare.Restart
	LogLimit   declare.LogLimit
	StopWithin time.Duration
	Files      []File `json:",omitempty"` // that are put into it; a folder comes before what is in it

	// fields that hold a secret, in the words of stack.toml; nil read back: not known
	Secret      []string `json:"-"`
	ForImage    []string `json:"-"` // read back: volumes that were made for what its image declares
	NotReported []string `json:"-"` // read back: fields that this engine does not show
	NotGiven    []string `json:"-"` // read back: capabilities that it lacks because its engine gives them to nobody
}

// Variable is an environment variable.
type Variable struct {
	Name  string
	Value secret.Text
	Later []*lab.Later // values in it that come to light only at a deploy
}

// lacks reports whether a value in it is not known yet.
func (v Variable) lacks() bool {
	return slices.ContainsFunc(v.Later, func(l *lab.Later) bool { return l.Lacks(v.Value.Reveal()) })
}

// spent reports whether the service does without the variable once it was deployed.
func (v Variable) spent() bool {
	return len(v.Later) > 0 && !slices.ContainsFunc(v.Later, func(l *lab.Later) bool { return !l.Once })
}

// MarshalJSON writes the form that fingerprints are made of.
func (v Variable) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Name   string
		Value  secret.Text
		Secret bool
	}{v.Name, v.Value, v.Value.Secret()})
}

// Port is one published port.
type Port struct {
	Address   string // of the host; "" for all
	Host      int    // 0: the engine picks one
	Container int
	Protocol  string
}

func (p Port) String() string {
	host := "any"
	if p.Host > 0 {
		host = fmt.Sprint(p.Host)
	}
	if p.Address != "" {
		address := p.Address
		if strings.Contains(address, ":") {
			address = "[" + address + "]"
		}
		host = address + ":" + host
	}
	s := fmt.Sprintf("%s -> %d", host, p.Container)
	if p.Protocol != "tcp" {
		s += "/" + p.Protocol
	}
	return s
}

// SharesHostPort reports whether two containers publish the same port of the host, on whatever address.
func (c Container) SharesHostPort(o Container) bool {
	return slices.ContainsFunc(c.Ports, func(a Port) bool {
		return a.Host > 0 &&
			slices.ContainsFunc(o.Ports, func(b Port) bool { return a.Host == b.Host && a.Protocol == b.Protocol })
	})
}

// Attachment is a network that a container is on, and the names that it answers to there.
type Attachment = wiring.Attachment

// Network is one that a stack needs.
type Network = wiring.Network

// Mount is something mounted inside a container.
type Mount struct {
	Kind       declare.MountKind
	Source     string // a path of the host, or a volume's name on the engine; "" for memory and the engine's socket
	Target     string
	ReadOnly   bool
	Shared     bool  // what is mounted below it later is seen on both sides
	StartEmpty bool  `json:"-"` // a new volume is not filled from the image; of one that is there it says nothing
	Size       int64 // of memory, in bytes; 0 for the engine's default
}

// String returns the mount in the words of stack.toml.
func (m Mount) String() string {
	return declare.Mount{
		Kind:       m.Kind,
		Source:     m.Source,
		Target:     m.Target,
		ReadOnly:   m.ReadOnly,
		Shared:     m.Shared,
		StartEmpty: m.StartEmpty,
		Size:       m.Size,
	}.String()
}

// Declare returns the container that a service becomes. All lists are sorted, so that equal declarations are
// equal values.
func Declare(s *lab.Service) Container {
	c := Container{
		Image: s.Image.Text, Mode: s.NetworkMode, Hostname: s.Hostname, Settings: s.Settings,
		Restart: s.Restart, LogLimit: s.LogLimit, StopWithin: s.StopWithin,
	}
	if c.Networks = wiring.Attachments(s); s.NetworkOf != nil {
		c.NetworkOf = s.NetworkOf.Name
	}
	if s.RunAs != nil {
		c.User = fmt.Sprintf("%d:%d", s.RunAs.UID, s.RunAs.GID)
	} else if s.InsideUser != "" {
		c.User = s.InsideUser
	}
	for _, v := range s.Env {
		c.Env = append(c.Env, Variable{v.Name, v.Value, v.Later})
	}
	for _, p := range s.Ports {
		addresses := []string{""}
		if len(p.Addresses) > 0 {
			addresses = nil
			for _, a := range p.Addresses {
				addresses = append(addresses, a.String())
			}
		}
		for _, address := range addresses {
			for _, proto := range p.Protocols {
				for i := range p.Container.Count() {
					port := Port{Address: address, Container: p.Container.First + i, Protocol: proto}
					if p.Host.First > 0 {
						port.Host = p.Host.First + i
					}
					c.Ports = append(c.Ports, port)
				}
			}
		}
	}
	for _, m := range s.Mounts {
		mount := Mount{
			Kind:       m.Kind,
			Source:     m.Source,
			Target:     m.Target,
			ReadOnly:   m.ReadOnly,
			Shared:     m.Shared,
			StartEmpty: m.StartEmpty,
			Size:       m.Size,
		}
		if m.Volume != nil {
			mount.Source = m.Volume.EngineName
		}
		c.Mounts = append(c.Mounts, mount)
	}
	for _, f := range s.Files {
		for _, e := range f.Entries {
			c.Files = append(c.Files, File{Target: e.Path, Folder: e.Folder, Mode: e.Mode, UID: f.UID, GID: f.GID, Content: e.Content})
		}
	}
	c.sort()
	c.Secret = c.secretFields()
	return c
}

// secretFields names the fields that hold a secret.
func (c Container) secretFields() []string {
	fields := []string{}
	if secret.Any(c.Settings.Command) {
		fields = append(fields, "command")
	}
	if secret.Any(c.Settings.Entrypoint) {
		fields = append(fields, "entrypoint")
	}
	for _, v := range c.Env {
		if v.Value.Secret() {
			fields = append(fields, "env."+v.Name)
		}
	}
	return fields
}

// HideSecrets marks what is secret in a container that was read back: variables by their names, and the
// fields that it was made with a secret in.
func (c *Container) HideSecrets() {
	for i, v := range c.Env {
		c.Env[i].Value = secret.Of(v.Value.Reveal(), declare.IsSecret(v.Name) || c.hides("env."+v.Name))
	}
	for field, words := range map[string]*[]secret.Text{
		"command":    &c.Settings.Command,
		"entrypoint": &c.Settings.Entrypoint,
	} {
		*words = secret.Words(secret.Reveal(*words), c.hides(field))
	}
}

// hides reports whether a field holds a secret. Of what was made before that was remembered, everything counts
// that may hold one.
func (c Container) hides(field string) bool {
	if c.Secret == nil {
		return slices.Contains([]string{"command", "entrypoint", "labels", "hostname"}, field)
	}
	return slices.Contains(c.Secret, field)
}

func (c *Container) sort() {
	slices.SortFunc(c.Env, func(a, b Variable) int { return cmp.Compare(a.Name, b.Name) })
	slices.SortFunc(c.Ports, func(a, b Port) int {
		return cmp.Or(cmp.Compare(a.Container, b.Container), cmp.Compare(a.Protocol, b.Protocol),
			cmp.Compare(a.Host, b.Host), cmp.Compare(a.Address, b.Address))
	})
	slices.SortFunc(c.Mounts, func(a, b Mount) int { return cmp.Compare(a.Target, b.Target) })
	slices.SortFunc(c.Files, func(a, b File) int { return cmp.Compare(a.Target, b.Target) })
	slices.SortFunc(c.Networks, func(a, b Attachment) int { return cmp.Compare(a.Network, b.Network) })
	for _, n := range c.Networks {
		slices.Sort(n.Aliases)
	}
}

// digestVersion is that of the way in which [Container.Digest] computes. A field that is added leaves out its
// default from JSON: then all that is deployed keeps its fingerprint. Where that cannot be, the version
// rises, and what bears another one is compared by its fields alone.
const digestVersion = "1:"

// SameDigest reports whether a label holds the fingerprint of the declaration. Known is false for one that was
// computed in another way.
func (c Container) SameDigest(label, salt string) (same, known bool) {
	if !strings.Contains(label, ":") {
		label = digestVersion + label // of the time before there were versions
	}
	return label == c.Digest(salt), strings.HasPrefix(label, digestVersion)
}

// Digest returns a fingerprint of the declaration, with the version of how it was computed. Secrets go in as
// digests of their own, keyed by salt, so that the label that holds the fingerprint gives nothing away to
// somebody who guesses.
func (c Container) Digest(salt string) string {
	c.sort()
	env := slices.Clone(c.Env)
	for i, v := range env {
		env[i].Value = v.Value.Digest(salt)
		if len(v.Later) > 0 { // what comes to light is compared by itself
			env[i].Value = secret.Of("", true)
		}
	}
	c.Env = env
	keyed := func(words []secret.Text) []secret.Text {
		if !secret.Any(words) {
			return words
		}
		var all strings.Builder
		for _, w := range secret.Reveal(words) {
			fmt.Fprintf(&all, "%d:%s", len(w), w)
		}
		return []secret.Text{secret.Of(all.String(), true).Digest(salt)}
	}
	c.Settings.Command, c.Settings.Entrypoint = keyed(c.Settings.Command), keyed(c.Settings.Entrypoint)
	text, err := json.Marshal(c)
	if err != nil {
		panic("plan: a container without JSON: " + err.Error()) // it holds only texts and numbers
	}
	sum := sha256.Sum256(text)
	return digestVersion + hex.EncodeToString(sum[:])
}

// Difference is one field that is declared otherwise than it runs, in the words of stack.toml.
type Difference struct {
	Field    string `json:"field"`
	Running  string `json:"running,omitempty"`
	Declared string `json:"declared,omitempty"`
}

// Differences compares the container that runs, as read back from the engine, with the declared one.
func Differences(running, declared Container) []Difference {
	running.sort()
	declared.sort()
	var d []Difference
	text := func(field, a, b string) {
		if a != b {
			d = append(d, Difference{field, a, b})
		}
	}
	text("image", running.Image, declared.Image)
	text("run-as", running.User, declared.User)
	env := func(list []Variable, name string) (secret.Text, bool) {
		i := slices.IndexFunc(list, func(v Variable) bool { return v.Name == name })
		if i < 0 {
			return secret.Text{}, false
		}
		return list[i].Value, true
	}
	for _, v := range declared.Env {
		old, was := env(running.Env, v.Name)
		if v.lacks() && (was || v.spent()) {
			continue // what it has, it keeps
		}
		if v.lacks() {
			v.Value = secret.Of("", true)
		}
		if !was || !old.Same(v.Value) {
			// a secret of today was probably one before anybody said so
			old = secret.Of(old.Reveal(), old.Secret() || v.Value.Secret())
			d = append(d, Difference{"env." + v.Name, old.String(), v.Value.String()})
		}
	}
	for _, v := range running.Env {
		if _, is := env(declared.Env, v.Name); !is {
			d = append(d, Difference{"env." + v.Name, v.Value.String(), ""})
		}
	}
	d = append(d, settingsDifferences(running, declared)...)
	d = append(d, listDifferences("ports", running.Ports, declared.Ports)...)
	d = append(d, listDifferences("mounts", kept(running.Mounts), kept(declared.Mounts))...)
	d = append(d, fileDifferences(running, declared)...)
	text("restart", running.Restart.String(), declared.Restart.String())
	if !slices.Contains(running.NotReported, "log-limit") {
		text("log-limit", logLimit(running.LogLimit), logLimit(declared.LogLimit))
	}
	text("stop-within", running.StopWithin.String(), declared.StopWithin.String())
	return d
}

// kept returns mounts as they count for one that is there already.
func kept(mounts []Mount) []Mount {
	out := slices.Clone(mounts)
	for i := range out {
		out[i].StartEmpty = false
	}
	return out
}

// listDifferences names what one list has and the other has not.
func listDifferences[T interface {
	comparable
	String() string
}](field string, running, declared []T) []Difference {
	var d []Difference
	for _, r := range running {
		if !slices.Contains(declared, r) {
			d = append(d, Difference{field, r.String(), ""})
		}
	}
	for _, v := range declared {
		if !slices.Contains(running, v) {
			d = append(d, Difference{field, "", v.String()})
		}
	}
	return d
}

func logLimit(l declare.LogLimit) string {
	if l.Files == 0 {
		return "none"
	}
	return fmt.Sprintf("%d x %dB", l.Files, l.Size)
}
