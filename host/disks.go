package host

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"net/netip"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"

	"github.com/moby/sys/mountinfo"
	"github.com/pkg/xattr"
	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"

	"proudlantern.example/lantern/core/survey"
)

// readFileSystems reads the file systems that hold the paths, and those above them that the machine's table has and that are not mounted now.
func readFileSystems(s *survey.Survey, paths []string, fstab string) {
	mounts, err := mountinfo.GetMounts(nil)
	if err != nil {
		s.Unknown["filesystems"] = "the table of mounts cannot be read"
		return
	}
	seen := map[string]bool{}
	for _, p := range paths {
		var holds *mountinfo.Info
		for _, m := range mounts {
			below := m.Mountpoint == "/" || p == m.Mountpoint || strings.HasPrefix(p, m.Mountpoint+"/")
			if below && (holds == nil || len(m.Mountpoint) >= len(holds.Mountpoint)) {
				holds = m
			}
		}
		if holds == nil || seen[holds.Mountpoint] {
			continue
		}
		seen[holds.Mountpoint] = true
		var st unix.Statfs_t
		if unix.Statfs(holds.Mountpoint, &st) != nil {
			continue
		}
		s.FileSystems = append(s.FileSystems, survey.FileSystem{
			Mount: holds.Mountpoint, Kind: holds.FSType, Mounted: true, Options: options(holds),
			Size: int64(st.Blocks) * int64(st.Bsize), Free: int64(st.Bavail) * int64(st.Bsize),
		})
	}
	for _, f := range notMounted(fstab, mounts) {
		if slices.ContainsFunc(paths, func(p string) bool { return p == f.Mount || strings.HasPrefix(p, f.Mount+"/") }) {
			s.FileSystems = append(s.FileSystems, f)
		}
	}
}

// options returns what a file system is mounted with. It is read-only as a whole, or for this one mount.
func options(m *mountinfo.Info) []string {
	all := strings.Split(m.Options, ",")
	if slices.Contains(strings.Split(m.VFSOptions, ","), "ro") && !slices.Contains(all, "ro") {
		all = append(all, "ro")
	}
	return all
}

// notMounted returns what a table of file systems (fstab(5)) has and the machine has not mounted. What is mounted on demand does not count.
func notMounted(fstab string, mounts []*mountinfo.Info) []survey.FileSystem {
	text, err := os.ReadFile(fstab)
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
		at, options := path.Clean(strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`).Replace(f[1])), strings.Split(f[3], ",")
		onDemand := slices.Contains(options, "noauto") || slices.Contains(options, "x-systemd.automount")
		mounted := slices.ContainsFunc(mounts, func(m *mountinfo.Info) bool { return m.Mountpoint == at })
		if path.IsAbs(at) && at != "/" && f[2] != "swap" && !onDemand && !mounted {
			missing = append(missing, survey.FileSystem{Mount: at, Kind: f[2], Options: options})
		}
	}
	return missing
}

// mostEntries is how many entries of a folder are looked at.
const mostEntries = 200

// inside sums up what is right inside a folder, by owner, mode and kind. Entries with an access control list are left out: their mode does not say it all.
func inside(folder string) []survey.Inside {
	f, err := os.Open(folder)
	if err != nil {
		return nil
	}
	defer f.Close()
	names, _ := f.Readdirnames(mostEntries) // as far as it goes
	slices.Sort(names)
	var all []survey.Inside
	for _, name := range names {
		p := path.Join(folder, name)
		info, err := os.Lstat(p)
		if err != nil || !info.IsDir() && !info.Mode().IsRegular() {
			continue
		}
		st, ok := info.Sys().(*syscall.Stat_t)
		if _, err := xattr.LGet(p, "system.posix_acl_access"); err == nil || !ok {
			continue
		}
		one := survey.Inside{UID: int(st.Uid), GID: int(st.Gid), Mode: fmt.Sprintf("%04o", st.Mode&0o7777), Kind: kindOf(info.Mode()), Count: 1, Example: name}
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
func readDevices(s *survey.Survey, paths []string) {
	slices.Sort(paths)
	for _, p := range slices.Compact(paths) {
		d := survey.DeviceFile{Path: p, Missing: true}
		if info, err := os.Stat(p); err == nil {
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				d = survey.DeviceFile{Path: p, UID: int(st.Uid), GID: int(st.Gid), Mode: fmt.Sprintf("%04o", st.Mode&0o7777)}
			}
		} else if !os.IsNotExist(err) {
			continue // may not be seen
		}
		s.Devices = append(s.Devices, d)
	}
}

// readRoutes reads the ways to other machines but the default one.
func readRoutes(s *survey.Survey) {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return
	}
	lines, _ := proc.NetRoute() // a machine without a network has none
	for _, l := range lines {
		var to [4]byte
		binary.NativeEndian.PutUint32(to[:], l.Destination)
		if ones := bits.OnesCount32(l.Mask); ones > 0 {
			s.Routes = append(s.Routes, survey.Route{Subnet: netip.PrefixFrom(netip.AddrFrom4(to), ones).String(), Device: l.Iface})
		}
	}
}
