//go:build linux

package access

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

// kernelAsk is the question that a child process puts to the kernel.
const kernelAsk = "LANTERN_TEST_KERNEL_ASK"

// question asks what an identity may do in folders. They are opened by the engine, which has all rights of
// its namespace, before the identity is taken on.
type question struct {
	Folders  []string
	UID, GID int
	Groups   []int
}

// unreached is the answer where the engine does not even come to the folder.
const unreached Rights = 8

// TestMain answers for the child process of TestAccessAgreesWithTheKernel.
func TestMain(m *testing.M) {
	text := os.Getenv(kernelAsk)
	if text == "" {
		os.Exit(m.Run())
	}
	var q question
	must := func(err error) {
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	must(json.Unmarshal([]byte(text), &q))
	answers, opened := make([]Rights, len(q.Folders)), make([]int, len(q.Folders))
	for i, folder := range q.Folders {
		var err error
		if opened[i], err = unix.Open(folder, unix.O_PATH, 0); err != nil {
			answers[i] = unreached
		}
	}
	must(syscall.Setgroups(q.Groups))
	must(syscall.Setresgid(q.GID, q.GID, q.GID))
	must(syscall.Setresuid(q.UID, q.UID, q.UID))
	for i, fd := range opened {
		for bit, mode := range map[Rights]uint32{Read: unix.R_OK, Write: unix.W_OK, Enter: unix.X_OK} {
			if answers[i] != unreached && unix.Faccessat(fd, "", mode, unix.AT_EACCESS|unix.AT_EMPTY_PATH) == nil {
				answers[i] |= bit
			}
		}
	}
	must(json.NewEncoder(os.Stdout).Encode(answers))
	os.Exit(0)
}

// The engine without root of the test: its own user is 1311 of group 1400, and inside 1 is 6000 on the host.
var rootless = &survey.Survey{Engine: &survey.Engine{
	Rootless: true, UIDMap: []survey.IDMap{{Inside: 0, Host: 1311, Count: 1}, {Inside: 1, Host: 6000, Count: 3000}},
	GIDMap: []survey.IDMap{{Inside: 0, Host: 1400, Count: 1}, {Inside: 1, Host: 6000, Count: 3000}},
}}

// randomTrees makes folders three deep with owners, modes and access control lists, and returns them, the
// deepest of each tree last. Host says what an id is on the host.
func randomTrees(t *testing.T, random *rand.Rand, n int, host func(survey.ID) survey.ID) (trees [][]survey.Path) {
	root := t.TempDir()
	for dir := root; dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	uids, gids := []survey.ID{1311, 1312, 1313, 7310, 7311}, []survey.ID{1400, 1401, 1402, 7399, 7400}
	for i := range n {
		full := filepath.Join(root, strconv.Itoa(i))
		var tree []survey.Path
		for _, level := range []string{"", "a", "b"} {
			full = filepath.Join(full, level)
			p := survey.Path{
				Path: full,
				Real: full,
				Kind: survey.Folder,
				UID:  host(uids[random.IntN(len(uids))]),
				GID:  host(gids[random.IntN(len(gids))]),
			}
			mode := random.Uint32N(0o1000)
			if level != "b" && random.IntN(3) > 0 {
				mode |= 0o111 // else hardly anybody would come to the end
			}
			require.NoError(t, os.Mkdir(full, 0o700))
			require.NoError(t, os.Chown(full, int(p.UID), int(p.GID)))
			require.NoError(t, os.Chmod(full, os.FileMode(mode)))
			if random.IntN(2) == 0 {
				p.ACL = randomACL(t, random, full, mode, host)
			}
			var st syscall.Stat_t
			require.NoError(t, syscall.Stat(full, &st))
			p.Mode = fmt.Sprintf("%04o", st.Mode&0o7777)
			tree = append(tree, p)
		}
		trees = append(trees, tree)
	}
	return trees
}

// asItIs is what ids are on the host for an engine with root.
func asItIs(id survey.ID) survey.ID { return id }

// The reckoning is the kernel's: 500 random trees, asked by random identities, as an engine with root and as
// one without.
func TestAccessAgreesWithTheKernel(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("giving folders away and becoming others needs root")
	}
	count, identities := 500, 40
	if testing.Short() { // for the race detector
		count, identities = 100, 10
	}
	random := rand.New(rand.NewPCG(1911, 41))
	trees := randomTrees(t, random, count, asItIs)
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
	facts := *rootless
	var q question
	for _, tree := range trees {
		facts.Paths = append(facts.Paths, tree...)
		q.Folders = append(q.Folders, tree[len(tree)-1].Path)
	}
	kernel := func(attr *syscall.SysProcAttr) []Rights {
		asked, err := json.Marshal(q)
		require.NoError(t, err)
		child := exec.Command(program)
		child.Env, child.SysProcAttr, child.Stderr = []string{kernelAsk + "=" + string(asked)}, attr, os.Stderr
		out, err := child.Output()
		require.NoError(t, err)
		var answers []Rights
		require.NoError(t, json.Unmarshal(out, &answers))
		require.Len(t, answers, count)
		return answers
	}
	disagreements, closed := 0, 0
	compare := func(kind string, w Who, p survey.Path, want Rights, said Rights, why string) {
		if said != want {
			if disagreements++; disagreements < 6 {
				t.Errorf("%s: uid %d gid %d groups %v on %d:%d %s %v: reckoned %s (%s), the kernel says %s",
					kind, w.UID, w.GID, w.Groups, p.UID, p.GID, p.Mode, p.ACL, said, why, want)
			}
		}
	}
	for n := range identities {
		id := lab.Identity{UID: 1311 + random.Int64N(5), GID: 1400 + random.Int64N(5)}
		if n%8 == 0 {
			id = lab.Identity{}
		}
		groups := []survey.ID{1400 + random.Int64N(5), 1400 + random.Int64N(5)}[:random.IntN(3)]
		q.UID, q.GID, q.Groups = int(id.UID), int(id.GID), nil
		for _, g := range groups {
			q.Groups = append(q.Groups, int(g))
		}

		answers, w := kernel(nil), asRoot(id, groups)
		for i, tree := range trees {
			p := tree[len(tree)-1]
			got, why := Check(p, w, Read|Write|Enter)
			compare("with root", w, p, answers[i], got, why)
		}

		answers = kernel(&syscall.SysProcAttr{
			Cloneflags: syscall.CLONE_NEWUSER, GidMappingsEnableSetgroups: true, Credential: &syscall.Credential{},
			UidMappings: []syscall.SysProcIDMap{
				{HostID: 1311, Size: 1},
				{ContainerID: 1, HostID: 6000, Size: 3000},
			},
			GidMappings: []syscall.SysProcIDMap{
				{HostID: 1400, Size: 1},
				{ContainerID: 1, HostID: 6000, Size: 3000},
			},
		})
		w, ok := inNamespace(facts.Engine, id, groups)
		require.True(t, ok)
		for i, tree := range trees {
			p := tree[len(tree)-1]
			got, why := Check(p, w, Read|Write|Enter)
			if at, decides, is := ClosedAbove(&facts, p); is {
				closed++
				got, why = unreached, at.Path+": "+decides
			}
			compare("without root", w, p, answers[i], got, why)
		}
	}
	t.Logf("%d questions, %d of them end at a closed folder, %d disagreements",
		2*count*identities, closed, disagreements)
	require.Zero(t, disagreements)
	require.NotZero(t, closed)
}

// randomACL gives a folder an access control list and returns it as a survey writes it.
func randomACL(t *testing.T, random *rand.Rand, path string, mode uint32, host func(survey.ID) survey.ID) []string {
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
	for _, n := range random.Perm(7)[:random.IntN(3)] {
		perms := random.Uint32N(8)
		acl = append(acl,
			fmt.Sprintf("user:%d:%s", host([]survey.ID{1311, 1312, 1313, 1314, 1315, 7310, 7311}[n]), Rights(perms)))
	}
	slices.Sort(acl) // by id, as the kernel demands: they all have the same number of digits
	for _, e := range acl {
		add(0x02, uint32(parseRights(e[strings.LastIndexByte(e, ':')+1:])), number(e))
	}
	owning := random.Uint32N(8)
	acl = append(acl, "group::"+Rights(owning).String())
	add(0x04, owning, none)
	var groups []string
	for _, n := range random.Perm(7)[:1+random.IntN(2)] {
		groups = append(groups,
			fmt.Sprintf("group:%d:%s",
				host([]survey.ID{1400, 1401, 1402, 1403, 1404, 7399, 7400}[n]), Rights(random.Uint32N(8))))
	}
	slices.Sort(groups)
	for _, e := range groups {
		add(0x08, uint32(parseRights(e[strings.LastIndexByte(e, ':')+1:])), number(e))
	}
	mask := random.Uint32N(8)
	add(0x10, mask, none)
	add(0x20, mode&7, none)
	require.NoError(t, xattr.Set(path, "system.posix_acl_access", b))
	return append(append(acl, groups...), "mask::"+Rights(mask).String())
}

func number(entry string) uint32 {
	n, _ := strconv.ParseUint(strings.Split(entry, ":")[1], 10, 32)
	return uint32(n)
}
