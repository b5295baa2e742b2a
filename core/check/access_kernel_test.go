package check

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/pkg/xattr"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// kernelAsk is what a child process is to ask the kernel: as whom it runs is set from outside.
const kernelAsk = "LANTERN_TEST_KERNEL_ASK"

// TestMain answers for the child process of TestAccessAgreesWithTheKernel.
func TestMain(m *testing.M) {
	if root := os.Getenv(kernelAsk); root != "" {
		answers := map[string]rights{}
		entries, _ := os.ReadDir(root)
		for _, e := range entries {
			path := filepath.Join(root, e.Name())
			for bit, mode := range map[rights]uint32{mayRead: unix.R_OK, mayWrite: unix.W_OK, mayEnter: unix.X_OK} {
				if unix.Faccessat(unix.AT_FDCWD, path, mode, unix.AT_EACCESS) == nil {
					answers[e.Name()] |= bit
				}
			}
		}
		json.NewEncoder(os.Stdout).Encode(answers)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// The reckoning is the kernel's: 500 random folders with owners, modes and access control lists, asked by random identities.
func TestAccessAgreesWithTheKernel(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("giving folders away and becoming others needs root")
	}
	const folders, identities = 500, 40
	random := rand.New(rand.NewPCG(1911, 41))
	root := t.TempDir()
	for dir := root; dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	var paths []survey.Path
	for i := range folders {
		p := survey.Path{Path: strconv.Itoa(i), Kind: survey.Folder, UID: 1311 + random.IntN(4), GID: 1400 + random.IntN(4)}
		mode := random.Uint32N(0o1000)
		full := filepath.Join(root, p.Path)
		require.NoError(t, os.Mkdir(full, 0o700))
		require.NoError(t, os.Chown(full, p.UID, p.GID))
		require.NoError(t, os.Chmod(full, os.FileMode(mode)))
		if random.IntN(2) == 0 {
			p.ACL = randomACL(t, random, full, mode)
		}
		var st syscall.Stat_t
		require.NoError(t, syscall.Stat(full, &st))
		p.Mode = fmt.Sprintf("%04o", st.Mode&0o7777)
		paths = append(paths, p)
	}
	test, err := os.Executable()
	require.NoError(t, err)
	// The test program lies in a folder that others may not enter.
	program := filepath.Join(t.TempDir(), "ask")
	text, err := os.ReadFile(test)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, text, 0o755))
	for dir := filepath.Dir(program); dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	disagreements := 0
	for range identities {
		id := lab.Identity{UID: 1311 + random.IntN(5), GID: 1400 + random.IntN(5)}
		groups := []int{1400 + random.IntN(5), 1400 + random.IntN(5)}[:random.IntN(3)]
		var supplementary []uint32
		for _, g := range groups {
			supplementary = append(supplementary, uint32(g))
		}
		child := exec.Command(program)
		child.Env = []string{kernelAsk + "=" + root}
		child.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(id.UID), Gid: uint32(id.GID), Groups: supplementary}}
		out, err := child.Output()
		require.NoError(t, err)
		kernel := map[string]rights{}
		require.NoError(t, json.Unmarshal(out, &kernel))
		for _, p := range paths {
			got, why := access(p, id, groups, mayRead|mayWrite|mayEnter)
			if got != kernel[p.Path] {
				if disagreements++; disagreements > 5 {
					continue
				}
				t.Errorf("uid %d gid %d groups %v on %d:%d %s %v: reckoned %s (%s), the kernel says %s", id.UID, id.GID, groups, p.UID, p.GID, p.Mode, p.ACL, got, why, kernel[p.Path])
			}
		}
	}
	t.Logf("%d questions, %d disagreements", folders*identities, disagreements)
	require.Zero(t, disagreements)
}

// randomACL gives a folder an access control list and returns it as a survey writes it.
func randomACL(t *testing.T, random *rand.Rand, path string, mode uint32) []string {
	t.Helper()
	b := binary.LittleEndian.AppendUint32(nil, 2)
	add := func(tag uint16, perms uint32, id uint32) {
		b = binary.LittleEndian.AppendUint16(b, tag)
		b = binary.LittleEndian.AppendUint16(b, uint16(perms))
		b = binary.LittleEndian.AppendUint32(b, id)
	}
	const none = ^uint32(0)
	var acl []string
	add(0x01, mode>>6&7, none)
	for _, uid := range random.Perm(5)[:random.IntN(3)] {
		perms := random.Uint32N(8)
		acl = append(acl, fmt.Sprintf("user:%d:%s", 1311+uid, rights(perms)))
	}
	slices.Sort(acl) // by id, as the kernel demands: they all have four digits
	for _, e := range acl {
		add(0x02, uint32(parseRights(e[strings.LastIndexByte(e, ':')+1:])), number(e))
	}
	owning := random.Uint32N(8)
	acl = append(acl, "group::"+rights(owning).String())
	add(0x04, owning, none)
	var groups []string
	for _, gid := range random.Perm(5)[:1+random.IntN(2)] {
		groups = append(groups, fmt.Sprintf("group:%d:%s", 1400+gid, rights(random.Uint32N(8))))
	}
	slices.Sort(groups)
	for _, e := range groups {
		add(0x08, uint32(parseRights(e[strings.LastIndexByte(e, ':')+1:])), number(e))
	}
	mask := random.Uint32N(8)
	add(0x10, mask, none)
	add(0x20, mode&7, none)
	require.NoError(t, xattr.Set(path, "system.posix_acl_access", b))
	return append(append(acl, groups...), "mask::"+rights(mask).String())
}

func number(entry string) uint32 {
	n, _ := strconv.ParseUint(strings.Split(entry, ":")[1], 10, 32)
	return uint32(n)
}
