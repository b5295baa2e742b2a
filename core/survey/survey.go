// Package survey is what is true of a host, as data: accounts, ports in use, folders with owner and mode, the
// engine and what it holds. A rule of the check sees nothing of a host but this document.
package survey

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Version is the version of the document that this program writes and the newest that it reads.
const Version = 1

// Survey is the document. Lists that could not be read are nil and have a line in Unknown.
type Survey struct {
	Survey                int       `json:"survey"`
	Host                  string    `json:"host"`
	Taken                 time.Time `json:"taken"`
	Platform              string    `json:"platform,omitempty"` // such as linux/amd64, of the engine
	Timezone              string    `json:"timezone,omitempty"` // IANA name
	Memory                int64     `json:"memory,omitempty"`   // bytes
	CPUs                  int       `json:"cpus,omitempty"`
	UnprivilegedPortStart int       `json:"unprivileged-port-start,omitempty"`

	Engine      *Engine      `json:"engine,omitempty"`
	Accounts    []Account    `json:"accounts,omitempty"`
	Groups      []Group      `json:"groups,omitempty"`
	Listeners   []Listener   `json:"listeners,omitempty"`
	Paths       []Path       `json:"paths,omitempty"`
	FileSystems []FileSystem `json:"filesystems,omitempty"`
	Containers  []Container  `json:"containers,omitempty"`
	Networks    []Network    `json:"networks,omitempty"`
	Volumes     []Volume     `json:"volumes,omitempty"`
	Routes      []Route      `json:"routes,omitempty"`
	Devices     []DeviceFile `json:"devices,omitempty"`
	Images      []Image      `json:"images,omitempty"`

	// Addresses are the machine's own.
	Addresses []string `json:"addresses,omitempty"`
	// Names are those that were asked of the machine's resolver.
	Names []Name `json:"names,omitempty"`

	// Sockets are those of engines that were found on the machine, where none was at the lab's place.
	Sockets []string `json:"sockets,omitempty"`

	// Unknown says what could not be found out, and why, by the name of the list or fact.
	Unknown map[string]string `json:"unknown,omitempty"`

	// Do is what makes the host or its engine answer, where it does not.
	Do string `json:"do,omitempty"`

	byPath, byReference map[string]int // see Index
	indexed             [2]int         // how many paths and images are in there
}

// UnknownACL is the key of Unknown for access control lists: then what a mode does not allow may be allowed all the same.
const UnknownACL = "access-control-lists"

// LacksFillReadOnly is among what an engine lacks that puts no files into a container with a read-only root file system.
const LacksFillReadOnly = "files with read-only"

// Engine is a container engine.
type Engine struct {
	API      string `json:"api"`
	Name     string `json:"name"`
	Version  string `json:"version"`
	Rootless bool   `json:"rootless"`
	Root     string `json:"root,omitempty"` // the folder that holds its data

	// OpensLowPorts reports whether processes that are not root may listen below 1024 inside; nil: not known.
	OpensLowPorts *bool `json:"opens-low-ports,omitempty"`
	// LogLimit reports whether logs without a declared limit have one all the same; nil: not known.
	LogLimit *bool `json:"log-limit,omitempty"`
	// UIDMap and GIDMap say which ids of the host those inside containers are, on an engine without root
	// (user_namespaces(7)). Inside 0 is the engine's own user. Nil on one that runs as root, and where
	// that is not known.
	UIDMap []IDMap `json:"uid-map,omitempty"`
	GIDMap []IDMap `json:"gid-map,omitempty"`
	// Linger tells whether the containers of an engine without root go on when its user has logged out; nil: not known.
	Linger *bool `json:"linger,omitempty"`
	// User is the account that an engine without root runs as; "" where that is not known.
	User string `json:"user,omitempty"`

	// Lacks names keys of a service that this engine cannot honour.
	Lacks []string `json:"lacks,omitempty"`
	// Missing says which calls this engine does not have, and what follows.
	Missing []string `json:"missing,omitempty"`
}

// SeesHolders reports whether it shows all that may hold a port, a name or a volume: the engine with what it
// runs, and the sockets of the machine.
func (s *Survey) SeesHolders() bool {
	return s != nil && s.Engine != nil && s.Unknown["engine"] == "" && s.Unknown["machine"] == "" &&
		s.Unknown["listeners"] == ""
}

// IDMap is a stretch of ids inside containers, and the first id of the host that it stands for.
type IDMap struct {
	Inside ID `json:"inside"`
	Host   ID `json:"host"`
	Count  ID `json:"count"`
}

// HostID returns the id of the host that one inside a container stands for.
func HostID(maps []IDMap, inside ID) (ID, bool) {
	for _, m := range maps {
		if n := inside - m.Inside; n >= 0 && n < m.Count {
			return m.Host + n, true
		}
	}
	return 0, false
}

// InsideID returns what an id of the host is inside containers; known is false for one that none has there.
func InsideID(maps []IDMap, host ID) (inside ID, known bool) {
	for _, m := range maps {
		if host >= m.Host && host < m.Host+m.Count {
			return m.Inside + host - m.Host, true
		}
	}
	return 0, false
}

// HasHostID reports whether an id of the host is any at all inside.
func HasHostID(maps []IDMap, host ID) bool {
	return slices.ContainsFunc(maps, func(m IDMap) bool { return host >= m.Host && host < m.Host+m.Count })
}

// AccountOf returns the account with a uid.
func (s *Survey) AccountOf(uid ID) (Account, bool) {
	return find(s.Accounts, func(a Account) bool { return a.UID == uid })
}

// FileSystemOf returns the mounted file system that holds a path.
func (s *Survey) FileSystemOf(path string) (FileSystem, bool) {
	var holds FileSystem
	for _, f := range s.FileSystems {
		at := strings.TrimSuffix(f.Mount, "/") + "/"
		if f.Mounted && strings.HasPrefix(path+"/", at) && len(f.Mount) > len(holds.Mount) {
			holds = f
		}
	}
	return holds, holds.Mount != ""
}

// ID is a uid or gid: 32 bits without a sign (credentials(7)), which an int of a 32-bit machine does not hold.
type ID = int64

// Account is a user of the host.
type Account struct {
	Name   string `json:"name"`
	UID    ID     `json:"uid"`
	GID    ID     `json:"gid"`
	Groups []ID   `json:"groups,omitempty"` // further groups
}

// Group is a group of the host.
type Group struct {
	Name string `json:"name"`
	GID  ID     `json:"gid"`
}

// Listener is a socket that waits for connections or datagrams.
type Listener struct {
	Protocol  string `json:"protocol"` // tcp or udp
	Address   string `json:"address"`
	Port      int    `json:"port"`
	Process   string `json:"process,omitempty"` // empty: may not be seen without root
	PID       int    `json:"pid,omitempty"`
	Container string `json:"container,omitempty"` // name of the container that it belongs to
}

// Kinds of a [Path].
const (
	Folder  = "folder"
	Regular = "file"
	Socket  = "socket"
	Device  = "device"
	Pipe    = "pipe"
	Missing = "missing"
	Hidden  = "hidden" // may not be seen by the account that made the survey
)

// Path is what stands at a path that the lab asks about.
type Path struct {
	Path   string   `json:"path"`
	Kind   string   `json:"kind"`
	Real   string   `json:"real,omitempty"` // without symbolic links
	UID    ID       `json:"uid"`
	GID    ID       `json:"gid"`
	Mode   string   `json:"mode,omitempty"`   // four octal digits
	ACL    []string `json:"acl,omitempty"`    // POSIX.1e entries beyond the mode: "group:1401:r-x", "mask::r-x"
	Inside []Inside `json:"inside,omitempty"` // what is right inside a folder, summed up
	// for a missing one: names beside where it should be, or whole paths, most alike first
	Near []string `json:"near,omitempty"`
}

// Inside are entries of a folder that are alike.
type Inside struct {
	UID     ID     `json:"uid"`
	GID     ID     `json:"gid"`
	Mode    string `json:"mode"` // four octal digits
	Kind    string `json:"kind"`
	Count   int    `json:"count"`
	Example string `json:"example"` // the name of one
}

// NearPaths returns the paths of Near: names are beside where the missing one should be.
func (p Path) NearPaths() []string {
	all := make([]string, len(p.Near))
	for i, n := range p.Near {
		if all[i] = n; !path.IsAbs(n) {
			all[i] = path.Join(path.Dir(p.Path), n)
		}
	}
	return all
}

// DeviceFile is a device that the lab asks about.
type DeviceFile struct {
	Path    string `json:"path"`
	UID     ID     `json:"uid"`
	GID     ID     `json:"gid"`
	Mode    string `json:"mode,omitempty"` // four octal digits
	Missing bool   `json:"missing,omitempty"`
}

// FileSystem is a mounted file system, or one that the machine's table has and that is not mounted.
type FileSystem struct {
	Mount   string   `json:"mount"`
	Kind    string   `json:"kind"`
	Size    int64    `json:"size"` // bytes
	Free    int64    `json:"free"` // bytes that a process without privileges may take
	Mounted bool     `json:"mounted"`
	Options []string `json:"options,omitempty"`
}

// Container is a container of the engine, made by lantern or not.
type Container struct {
	Name     string   `json:"name"`
	ID       string   `json:"id"`
	Lab      string   `json:"lab,omitempty"`
	Stack    string   `json:"stack,omitempty"`
	Service  string   `json:"service,omitempty"`
	Image    string   `json:"image"`
	State    string   `json:"state"`
	Ports    []string `json:"ports,omitempty"` // "0.0.0.0:8713 -> 80/tcp"
	Mounts   []string `json:"mounts,omitempty"`
	Networks []string `json:"networks,omitempty"`

	Addresses []string `json:"addresses,omitempty"` // its own, on its networks
}

// Network is a network of the engine.
type Network struct {
	Name    string   `json:"name"`
	Subnets []string `json:"subnets,omitempty"`
	Lab     string   `json:"lab,omitempty"`
	Stack   string   `json:"stack,omitempty"`

	Entry    string `json:"-"` // number of the deploy that made it
	Internal bool   `json:"-"` // without a way out
}

// Route is a way to other machines.
type Route struct {
	Subnet string `json:"subnet"`
	Device string `json:"device"`
}

// Volume is a volume of the engine.
type Volume struct {
	Name  string `json:"name"`
	Lab   string `json:"lab,omitempty"`
	Stack string `json:"stack,omitempty"`

	// Root is its root folder; nil where it could not be looked at.
	Root *VolumeRoot `json:"root,omitempty"`

	Place string `json:"-"` // its folder on the engine's machine; "" where it has none
	Entry string `json:"-"`
	// the path that an image declares and that it was made for; "" for one that somebody declared
	ForImage string            `json:"-"`
	Driver   string            `json:"-"`
	Options  map[string]string `json:"-"` // may hold passwords
}

// VolumeRoot is the root folder of a volume. A container fills an empty one from its image, owner and mode
// included.
type VolumeRoot struct {
	UID   ID     `json:"uid"`
	GID   ID     `json:"gid"`
	Mode  string `json:"mode"` // four octal digits
	Empty bool   `json:"empty,omitempty"`
}

// Where the facts of an [Image] come from.
const (
	FromEngine   = "engine"
	FromRegistry = "registry"
	Absent       = "absent" // its registry says that there is none
)

// Image is what an image declares. Of one in its registry that may be nothing but that it is there.
type Image struct {
	Reference string `json:"reference"`
	// the reference with its registry, where it names none and the engine tells
	Name       string            `json:"name,omitempty"`
	Source     string            `json:"source"`
	ID         string            `json:"id,omitempty"`
	Digest     string            `json:"digest,omitempty"`
	Platforms  []string          `json:"platforms,omitempty"`
	Ports      []string          `json:"ports,omitempty"`
	Volumes    []string          `json:"volumes,omitempty"`
	User       string            `json:"user,omitempty"`
	Env        map[string]string `json:"env,omitempty"`
	Entrypoint []string          `json:"entrypoint,omitempty"`
	Command    []string          `json:"command,omitempty"`
	Labels     map[string]string `json:"labels,omitempty"`
	Near       []string          `json:"near,omitempty"` // of one that is absent: tags that are like its own
	// sizes in bytes as they are transferred, by the first 12 digits of their digests
	Layers map[string]int64 `json:"layers,omitempty"`

	WorkingDir string `json:"-"` // for comparing with what runs, which is never done with a saved survey
	StopSignal string `json:"-"`

	Created time.Time `json:"-"` // zero where the image does not say

	Size    int64    `json:"-"` // on the host, in bytes
	Names   []string `json:"-"` // on the host: all that it has, with their tags
	Digests []string `json:"-"` // on the host: REPOSITORY@DIGEST, as registries know it
}

// Declares reports whether it is known what the image declares.
func (i Image) Declares() bool {
	return i.Source == FromEngine || i.Source == FromRegistry && len(i.Platforms) > 0
}

// Ask is what a lab wants to know of a host beyond what is always read.
type Ask struct {
	Paths   []string // absolute
	Images  []string // references
	Built   []string // references of images that are made on the host: no registry has them
	Devices []string // absolute
	Volumes []string // names on the engine
	Names   []string // of domains and machines
}

// Name is what a machine's resolver says of a name.
type Name struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses,omitempty"`
	Problem   string   `json:"problem,omitempty"` // why there are none
}

// Name returns what the resolver said of a name; ok is false where it was not asked.
func (s *Survey) Name(name string) (Name, bool) {
	return find(s.Names, func(n Name) bool { return n.Name == name })
}

// Volume returns the volume of that name.
func (s *Survey) Volume(name string) (Volume, bool) {
	return find(s.Volumes, func(v Volume) bool { return v.Name == name })
}

// Account returns the account of that name.
func (s *Survey) Account(name string) (Account, bool) {
	return find(s.Accounts, func(a Account) bool { return a.Name == name })
}

// Group returns the group of that name.
func (s *Survey) Group(name string) (Group, bool) {
	return find(s.Groups, func(g Group) bool { return g.Name == name })
}

// UserName returns the name of a uid, or "uid N".
func (s *Survey) UserName(uid ID) string {
	if a, ok := s.AccountOf(uid); ok {
		return a.Name + " (uid " + strconv.FormatInt(uid, 10) + ")"
	}
	return "uid " + strconv.FormatInt(uid, 10)
}

// GroupName returns the name of a gid, or "gid N".
func (s *Survey) GroupName(gid ID) string {
	if g, ok := find(s.Groups, func(g Group) bool { return g.GID == gid }); ok {
		return g.Name + " (gid " + strconv.FormatInt(gid, 10) + ")"
	}
	return "gid " + strconv.FormatInt(gid, 10)
}

// Path returns what is known of a path.
func (s *Survey) Path(path string) (Path, bool) {
	s.Index()
	i, ok := s.byPath[path]
	if !ok {
		return Path{}, false
	}
	return s.Paths[i], true
}

// Image returns what is known of an image by its reference as the lab writes it.
func (s *Survey) Image(reference string) (Image, bool) {
	s.Index()
	i, ok := s.byReference[reference]
	if !ok {
		return Image{}, false
	}
	return s.Images[i], true
}

// Index lets Path and Image find what they are asked for. They do so by themselves, but not for several
// goroutines at once: the goroutine that starts them calls it before.
func (s *Survey) Index() {
	if now := [2]int{len(s.Paths), len(s.Images)}; s.indexed != now {
		s.indexed = now
		s.byPath = index(s.Paths, func(p Path) string { return p.Path })
		s.byReference = index(s.Images, func(i Image) string { return i.Reference })
	}
}

func index[T any](list []T, key func(T) string) map[string]int {
	m := make(map[string]int, len(list))
	for i, one := range list {
		if _, seen := m[key(one)]; !seen {
			m[key(one)] = i
		}
	}
	return m
}

func find[T any](list []T, is func(T) bool) (T, bool) {
	if i := slices.IndexFunc(list, is); i >= 0 {
		return list[i], true
	}
	var none T
	return none, false
}

// Parse reads a saved survey.
func Parse(text []byte) (*Survey, error) {
	var head struct {
		Survey *int   `json:"survey"`
		Host   string `json:"host"`
	}
	if err := json.Unmarshal(text, &head); err != nil {
		return nil, fmt.Errorf("this is no survey: %w", err)
	}
	switch {
	case head.Survey == nil || head.Host == "":
		return nil, fmt.Errorf("this is no survey: it has no version or no host")
	case *head.Survey > Version:
		return nil,
			fmt.Errorf("this survey has version %d; this lantern reads surveys up to version %d",
				*head.Survey, Version)
	}
	s := &Survey{}
	if err := json.Unmarshal(text, s); err != nil {
		return nil, fmt.Errorf("this survey cannot be read: %w", err)
	}
	return s, nil
}

// Published is a host port that a container publishes.
type Published struct {
	Protocol  string
	Address   string // "": all
	Port      int
	Container int
}

// Published returns the host ports that a container publishes, those of both address families once.
func (c Container) Published() []Published {
	var all []Published
	for _, p := range c.Ports {
		host, container, protocol := PortOf(p)
		at, err := netip.ParseAddrPort(host)
		if err != nil {
			continue
		}
		one := Published{Protocol: protocol, Port: int(at.Port())}
		one.Container, _ = strconv.Atoi(container)
		if !at.Addr().IsUnspecified() {
			one.Address = at.Addr().String()
		}
		if !slices.Contains(all, one) {
			all = append(all, one)
		}
	}
	return all
}

// PortOf takes a container's port such as "0.0.0.0:8713 -> 80/tcp" apart.
func PortOf(s string) (host, container, protocol string) {
	host, rest, _ := strings.Cut(s, " -> ")
	container, protocol, _ = strings.Cut(rest, "/")
	return host, container, protocol
}
