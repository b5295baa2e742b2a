package host

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math/bits"
	"net/netip"
	"path"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

// readFileSystems reads the file systems that hold the paths, and those above them that the machine's table
// has and that are not mounted now.
func readFileSystems(from hostconn.Files, s *survey.Survey, paths []string, fstab string) {
	var mounts []mount
	text, err := from.Read("/proc/self/mountinfo", mostFacts) // proc_pid_mountinfo(5)
	if err == nil {
		mounts, err = readMounts(string(text))
	}
	if err != nil {
		s.Unknown["filesystems"] = "the table of mounts cannot be read"
		return
	}
	seen := map[string]bool{}
	for _, p := range paths {
		var holds *mount
		for i := range mounts {
			m := &mounts[i]
			below := m.at == "/" || p == m.at || strings.HasPrefix(p, m.at+"/")
			if below && (holds == nil || len(m.at) >= len(holds.at)) {
				holds = m
			}
		}
		if holds == nil || seen[holds.at] {
			continue
		}
		seen[holds.at] = true
		size, free, err := from.Space(holds.at)
		if err != nil {
			continue
		}
		s.FileSystems = append(s.FileSystems, survey.FileSystem{
			Mount: holds.at, Kind: holds.kind, Mounted: true, Options: options(holds),
			Size: size, Free: free,
		})
	}
	for _, f := range notMounted(from, fstab, mounts) {
		if slices.ContainsFunc(paths, func(p string) bool {
			return p == f.Mount || strings.HasPrefix(p, f.Mount+"/")
		}) {
			s.FileSystems = append(s.FileSystems, f)
		}
	}
}

// options returns what a file system is mounted with. It is read-only as a whole, or for this one mount.
func options(m *mount) []string {
	all := m.options
	if slices.Contains(m.super, "ro") && !slices.Contains(all, "ro") {
		all = append(all, "ro")
	}
	return all
}

// notMounted returns what a table of file systems (fstab(5)) has and the machine has not mounted. What is
// mounted on demand does not count.
func notMounted(from hostconn.Files, fstab string, mounts []mount) []survey.FileSystem {
	text, err := from.Read(fstab, mostFacts)
	if err != nil {
		return nil
	}
	var missing []survey.FileSystem
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) < 4 || strings.HasPrefix(f[0], "#") {
			continue
		}
		// Blanks are written in octal there.
		at, options := path.Clean(strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`,
			`\`).Replace(f[1])), strings.Split(f[3], ",")
		onDemand := slices.Contains(options, "noauto") || slices.Contains(options, "x-systemd.automount")
		mounted := slices.ContainsFunc(mounts, func(m mount) bool { return m.at == at })
		if path.IsAbs(at) && at != "/" && f[2] != "swap" && !onDemand && !mounted {
			missing = append(missing, survey.FileSystem{Mount: at, Kind: f[2], Options: options})
		}
	}
	return missing
}

// mostEntries is how many entries of a folder are looked at.
const mostEntries = 200

// inside sums up what is right inside a folder, by owner, mode and kind. Entries with an access control list
// are left out: their mode does not say it all.
func inside(from hostconn.Files, folder string) []survey.Inside {
	if _, err := from.ACL(folder, false); errors.Is(err, hostconn.ErrNoACL) {
		return nil // whether one has a list of its own, is not known of any
	}
	names, err := from.Names(folder, mostEntries)
	if err != nil {
		return nil
	}
	var all []survey.Inside
	for _, name := range names {
		p := path.Join(folder, name)
		info, err := from.Lstat(p)
		if err != nil || !info.Mode.IsDir() && !info.Mode.IsRegular() {
			continue
		}
		if _, err := from.ACL(p, false); err == nil {
			continue
		}
		one := survey.Inside{
			UID:     info.UID,
			GID:     info.GID,
			Mode:    fmt.Sprintf("%04o", info.Bits),
			Kind:    kindOf(info.Mode),
			Count:   1,
			Example: name,
		}
		i := slices.IndexFunc(all, func(o survey.Inside) bool {
			return o.UID == one.UID && o.GID == one.GID && o.Mode == one.Mode && o.Kind == one.Kind
		})
		if i < 0 {
			all = append(all, one)
		} else {
			all[i].Count++
		}
	}
	return all
}

// readDevices looks at devices.
func readDevices(from hostconn.Files, s *survey.Survey, paths []string) {
	slices.Sort(paths)
	for _, p := range slices.Compact(paths) {
		info, err := from.Stat(p)
		switch {
		case err == nil:
			s.Devices = append(s.Devices, survey.DeviceFile{
				Path: p,
				UID:  info.UID,
				GID:  info.GID,
				Mode: fmt.Sprintf("%04o", info.Bits),
			})
		case errors.Is(err, fs.ErrNotExist):
			s.Devices = append(s.Devices, survey.DeviceFile{Path: p, Missing: true})
		}
		// Otherwise it may not be seen.
	}
}

// readRoutes reads the ways to other machines but the default one.
func readRoutes(from hostconn.Files, s *survey.Survey) {
	proc, done, err := procOf(from)
	if err != nil {
		return
	}
	defer done()
	lines, _ := proc.NetRoute() // a machine without a network has none
	for _, l := range lines {
		var to [4]byte
		binary.NativeEndian.PutUint32(to[:], l.Destination)
		if ones := bits.OnesCount32(l.Mask); ones > 0 {
			route := survey.Route{Subnet: netip.PrefixFrom(netip.AddrFrom4(to), ones).String(), Device: l.Iface}
			if !slices.Contains(s.Routes, route) { // the kernel may list one twice while others come and go
				s.Routes = append(s.Routes, route)
			}
		}
	}
}
