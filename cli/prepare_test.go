//go:build linux

package cli_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
	"proudlantern.example/lantern/hostconn"
)

// situation is folders below DATA as a script makes them, the mounts of services, and what these have to be able to do
// afterwards: UID GID PATH LETTERS.
type situation struct {
	name, script string
	services     []string // identity, mounts: "1311:1400 a -> /a; b -> /b, read-only"
	needs        []string
	says         string // a part of what is shown
	code         int    // of the program
}

var situations = []situation{
	{"missing, to be created", "", []string{"1311:1400 a/b -> /a, create"}, []string{"1311 1400 a/b rwx"}, "make", 0},
	{"missing, and several above", "", []string{"1311:1400 a/b/c -> /a"}, []string{"1311 1400 a/b/c rwx"}, "it is above", 0},
	{"missing, with a mode", "", []string{"1311:1400 a -> /a, create 0700"}, []string{"1311 1400 a rwx"}, "mode 0700", 0},
	{"wrong owner, empty", "mkdir a", []string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx"}, "owner", 0},
	{"wrong owner, in use", "mkdir a; chown 1399 a; touch a/x; chown 1399 a/x; chmod 700 a",
		[]string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx", "1311 1400 a/x rw"}, "user:1311:rwx", 0},
	{"its own, without rights", "mkdir a; chown 1311 a; chmod 400 a", []string{"1311:1400 a -> /a"},
		[]string{"1311 1400 a rwx"}, "was 0400", 0},
	{"wrong group", "mkdir a; chgrp 1400 a; touch a/x; chown 1399:1400 a a/x; chmod 750 a; chmod 660 a/x", []string{"1311:1400 a -> /a"},
		[]string{"1311 1400 a rwx", "1311 1400 a/x rw"}, "acl", 0},
	{"closed, to be read", "mkdir a; chown 1399 a; chmod 700 a", []string{"1311:1400 a -> /a, read-only"}, []string{"1311 1400 a rx"},
		"user:1311:r-x", 0},
	{"a mask takes rights back", "mkdir a; setfacl -m u:1311:rwx,g:1401:rwx,u:1398:rwx a; setfacl -m m::r-x a",
		[]string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx"}, "acl", 0},
	{"a list that counts for nothing", "mkdir a; setfacl -m u:1398:rwx,g:1401:rwx a; chmod 705 a",
		[]string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx"}, "acl", 0},
	{"two identities", "mkdir a; touch a/x; chmod 640 a/x", []string{"1311:1400 a -> /a", "1312:1401 a -> /a"},
		[]string{"1311 1400 a rwx", "1312 1401 a rwx", "1312 1401 a/x rw"}, "user:1312:rwx", 0},
	{"two identities of a group", "mkdir a", []string{"1311:1400 a -> /a", "1312:1400 a -> /a"},
		[]string{"1311 1400 a rwx", "1312 1400 a rwx"}, "group", 0},
	{"one writes, one reads", "mkdir a; touch a/x; chmod 700 a", []string{"1311:1400 a -> /a", "1312:1401 a -> /a, read-only"},
		[]string{"1311 1400 a rwx", "1312 1401 a rx"}, "user:1312:r-x", 0},
	{"a file to be read", "touch a.conf; chmod 600 a.conf", []string{"1311:1400 a.conf -> /a.conf, read-only"}, []string{"1311 1400 a.conf r"},
		"user:1311:r--", 0},
	{"set-gid stays", "mkdir a; touch a/x; chown 1399:1402 a; chmod 2750 a", []string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx"}, "acl", 0},
	{"sticky stays", "mkdir a; touch a/x; chmod 1755 a", []string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx"}, "acl", 0},
	{"behind a link", "mkdir -p b/c; touch b/c/x; ln -s b/c a", []string{"1311:1400 a -> /a"}, []string{"1311 1400 b/c rwx", "1311 1400 b/c/x rw"}, "acl", 0},
	{"contents left by another", "mkdir -p a/b/c; touch a/b/c/x; chown 1311 a; chmod -R go= a; ln -s /etc/shadow a/link",
		[]string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx", "1311 1400 a/b rwx", "1311 1400 a/b/c rwx", "1311 1400 a/b/c/x rw"}, "cannot use what lies there", 0},
	{"an entry gives less than the group", "mkdir a; chgrp 1400 a; chmod 770 a; setfacl -m u:1311:r-x a", []string{"1311:1400 a -> /a"},
		[]string{"1311 1400 a rwx"}, "was user:1311:r-x", 0},
	{"a default list stays", "mkdir a; touch a/x; setfacl -d -m u:1398:rwx a; chmod 750 a", []string{"1311:1400 a -> /a", "1312:1401 a -> /a"},
		[]string{"1311 1400 a rwx", "1312 1401 a rwx"}, "acl", 0},
	{"root needs nothing", "mkdir a; chmod 0 a", []string{"0:0 a -> /a"}, nil, "nothing to prepare", 0},
	{"all is right", "mkdir a; chown 1311:1400 a; chmod 750 a", []string{"1311:1400 a -> /a"}, []string{"1311 1400 a rwx"}, "nothing to prepare", 0},
	{"a file that is missing", "mkdir b", []string{"1311:1400 a.conf -> /a.conf, read-only"}, nil, "its name is one of a file", 1},
}

// lab writes the lab of a situation, and returns the folder of the data.
func (s situation) lab(t *testing.T, b *bench) string {
	data := filepath.Join(b.data, "prepared")
	require.NoError(t, os.MkdirAll(data, 0o755))
	for dir := data; dir != "/tmp" && dir != "/"; dir = filepath.Dir(dir) { // what others may, the kernel is asked below
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	out, err := exec.Command("/bin/sh", "-ec", "umask 022; cd '"+data+"'; "+cmpOr(s.script, "true")).CombinedOutput()
	require.NoError(t, err, string(out))
	var text strings.Builder
	for i, service := range s.services {
		who, mounts, _ := strings.Cut(service, " ")
		fmt.Fprintf(&text, "[service.s%d]\nimage = %q\nrun-as = %q\nmounts = [", i+1, enginetest.Page, who)
		for _, m := range strings.Split(mounts, ";") {
			fmt.Fprintf(&text, "%q, ", data+"/"+strings.TrimSpace(m))
		}
		text.WriteString("]\n")
	}
	b.write("mast/stack.toml", text.String())
	return data
}

func cmpOr(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

// may asks the kernel what an identity may do with all that lies in a folder: PATH LETTERS, a line each.
func may(t *testing.T, data string, uid, gid uint32) map[string]string {
	var paths []string
	require.NoError(t, filepath.WalkDir(data, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Type()&os.ModeSymlink == 0 {
			below, _ := filepath.Rel(data, path)
			paths = append(paths, below)
		}
		return err
	}))
	ask := exec.Command("/bin/sh", append([]string{"-c", `for p; do for f in r w x; do [ -$f "$p" ] && printf "$f"; done; echo " $p"; done`, "sh"}, paths...)...)
	ask.Dir = data
	ask.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: gid, Groups: []uint32{}}}
	out, err := ask.CombinedOutput()
	require.NoError(t, err, string(out))
	all := map[string]string{}
	for line := range strings.Lines(string(out)) {
		letters, path, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		all[path] = letters
	}
	return all
}

// rightsOf reads all rights below a folder.
func rightsOf(t *testing.T, data string) map[string]hostconn.Rights {
	all := map[string]hostconn.Rights{}
	h, err := hostconn.OpenHandle(data)
	require.NoError(t, err)
	defer h.Close()
	require.NoError(t, h.Walk(func(below string, h *hostconn.Handle) error {
		r, err := h.Rights()
		all[below] = r
		return err
	}))
	return all
}

// bystanders are identities that no service works as.
var bystanders = [][2]uint32{{1399, 1499}, {1398, 1498}, {1397, 1400}, {1396, 1401}, {1395, 1402}, {65534, 65534}}

func prepareBench(t *testing.T) *bench {
	if os.Getuid() != 0 {
		t.Skip("giving folders away needs root")
	}
	for _, tool := range []string{"setfacl"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip("the test needs " + tool)
		}
	}
	_, address := enginetest.StartStandIn(t, standin.Options{})
	b := newBench(t, enginetest.Target{Name: "stand-in", Address: address})
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
	return b
}

// After prepare each service can work, nobody else may do more, and --undo brings back what was.
func TestPrepare(t *testing.T) {
	for _, s := range situations {
		t.Run(s.name, func(t *testing.T) {
			b := prepareBench(t)
			data := s.lab(t, b)
			before := rightsOf(t, data)
			var could []map[string]string
			for _, who := range bystanders {
				could = append(could, may(t, data, who[0], who[1]))
			}
			stdout, stderr := b.run(s.code, "prepare", "--yes")
			assert.Contains(t, stdout+stderr, s.says)
			for _, need := range s.needs {
				var uid, gid uint32
				var path, letters string
				_, err := fmt.Sscan(need, &uid, &gid, &path, &letters)
				require.NoError(t, err)
				got := may(t, data, uid, gid)[path]
				for _, l := range letters {
					assert.Contains(t, got, string(l), need)
				}
			}
			for i, who := range bystanders {
				if strings.Contains(stdout, "all of it may work there") && who[1] == 1400 {
					continue // it was said
				}
				for path, now := range may(t, data, who[0], who[1]) {
					was, there := could[i][path]
					for _, l := range now {
						if there {
							assert.Contains(t, was, string(l), "%v may do more with %s", who, path)
						}
					}
				}
			}
			stdout, _ = b.run(s.code, "prepare", "--yes")
			assert.Contains(t, stdout, "nothing to prepare")
			if s.code == 0 {
				stdout, _ := b.run(0, "check")
				assert.NotRegexp(t, `mount-(contents-)?denied|mount-missing`, stdout)
			}
			if strings.Contains(s.says, "nothing") || s.code != 0 {
				assert.Equal(t, before, rightsOf(t, data))
				return
			}
			b.run(0, "prepare", "--undo", "--yes")
			assert.Equal(t, before, rightsOf(t, data))
			_, stderr = b.run(2, "prepare", "--undo", "--yes")
			assert.Contains(t, stderr, "nothing was prepared that could be undone")
		})
	}
}

// What was killed can be run again, and it can be undone.
func TestPrepareIsKilled(t *testing.T) {
	const folders = 40
	script := "for i in $(seq 40); do mkdir -p d$i/a/b; touch d$i/a/b/x; chmod 700 d$i; done"
	s := situation{script: script}
	for i := range folders {
		s.services = append(s.services, fmt.Sprintf("%d:1400 d%d -> /d; new/%d -> /n, create", 1311+i%3, i+1, i))
	}
	must(program()) // it takes longer than all that follows
	var whole time.Duration
	for n := range 9 {
		b := prepareBench(t)
		data := s.lab(t, b)
		before := rightsOf(t, data)
		ctx, cancel := context.WithCancel(t.Context())
		began := time.Now()
		cmd := exec.CommandContext(ctx, must(program()), "--lab", b.dir, "prepare", "--yes") // killed with SIGKILL
		require.NoError(t, cmd.Start())
		if n == 0 {
			require.NoError(t, cmd.Wait())
			whole = time.Since(began)
		} else {
			time.Sleep(whole * time.Duration(n) / 9)
			cancel()
			cmd.Wait()
		}
		cancel()
		if n%2 == 1 {
			b.run(0, "prepare", "--yes")
			for i := range 3 {
				got := may(t, data, uint32(1311+i), 1400)
				for d := i; d < folders; d += 3 {
					assert.Equal(t, "rwx", got[fmt.Sprintf("d%d/a/b", d+1)], "killed after %d ninths: d%d", n, d+1)
					assert.Equal(t, "rwx", got[fmt.Sprintf("new/%d", d)], "killed after %d ninths: new/%d", n, d)
				}
			}
		}
		if files, _ := filepath.Glob(filepath.Join(b.dir, ".lantern/prepared/*.jsonl")); len(files) > 0 {
			b.run(0, "prepare", "--undo", "--yes")
		}
		assert.Equal(t, before, rightsOf(t, data), "killed after %d ninths", n)
	}
}

// What cannot be undone any more is said, and stays.
func TestUndoPrepared(t *testing.T) {
	b := prepareBench(t)
	s := situation{script: "mkdir a c; touch c/x", services: []string{"1311:1400 a -> /a; b -> /b, create; c -> /c"}}
	data := s.lab(t, b)
	stdout, _ := b.run(0, "prepare", "--dry-run", "--format", "json")
	assert.Contains(t, stdout, `"action": "make"`)
	assert.Contains(t, stdout, `"done": false`)
	assert.NoDirExists(t, filepath.Join(data, "b"))
	b.run(0, "prepare", "--yes")
	require.NoError(t, os.WriteFile(filepath.Join(data, "b/kept"), nil, 0o600))
	require.NoError(t, os.Rename(filepath.Join(data, "c"), filepath.Join(data, "old")))
	require.NoError(t, os.Mkdir(filepath.Join(data, "c"), 0o755))
	stdout, stderr := b.run(1, "prepare", "--undo", "--yes")
	assert.Contains(t, stdout, data+"/b\n")
	assert.Contains(t, stderr, data+"/b stays as it is: something lies in it, so it stays")
	assert.Contains(t, stderr, data+"/c stays as it is: another one is there now")
	assert.FileExists(t, filepath.Join(data, "b/kept"))
	_, stderr = b.run(2, "prepare", "--undo", "mast")
	assert.Contains(t, stderr, "it takes no other words")
	c := b.console(100, 30, "prepare")
	c.shows(regexp.QuoteMeta("Change this?"))
	c.types("n\r")
	c.ends(1)
	require.True(t, slices.ContainsFunc([]string{"c"}, func(n string) bool { return rightsOf(t, data)[n].UID == 0 }))
}
