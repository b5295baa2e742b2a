package labdir

import (
	"crypto/sha256"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/lab"
)

func TestFacts(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	for _, version := range []string{"2", "4"} {
		repository := t.TempDir()
		dir := filepath.Join(repository, "skerry-light")
		git := func(args ...string) {
			t.Helper()
			c := exec.Command("git", append([]string{"-C", repository}, args...)...)
			c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
			out, err := c.CombinedOutput()
			require.NoError(t, err, string(out))
		}
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "tide-log"), 0o755))
		files := []string{"lab.toml", "tide-log/stack.toml", "tide-log/tide-log.env",
			"tide-log/tide-log-2.env", "a-name-that-is-longer-than-the-others.env"}
		for _, f := range files {
			require.NoError(t, os.WriteFile(filepath.Join(dir, f), []byte("A=b\n"), 0o640))
		}
		git("init", "-q")
		git("config", "index.version", version)
		git("add", "skerry-light/lab.toml", "skerry-light/tide-log/stack.toml",
			"skerry-light/tide-log/tide-log.env")
		git("add", "--intent-to-add", "skerry-light/a-name-that-is-longer-than-the-others.env")
		require.NoError(t, os.Chmod(filepath.Join(dir, "tide-log/tide-log-2.env"), 0o604))
		facts := Facts(dir, append(files, "gone.env"))
		assert.Equal(t, map[string]lab.FileFact{
			"lab.toml": {Mode: 0o640,
				Tracked: true}, "tide-log/stack.toml": {Mode: 0o640,
				Tracked: true}, "tide-log/tide-log.env": {Mode: 0o640, Tracked: true},
			"tide-log/tide-log-2.env":                   {Mode: 0o604},
			"a-name-that-is-longer-than-the-others.env": {Mode: 0o640, Tracked: true},
		}, facts, "version "+version)
	}
	assert.Equal(t, map[string]lab.FileFact{}, Facts(t.TempDir(), []string{"lab.toml"}))
}

// How many letters of the name before do not count is a number without an end: one that overflows is no index.
func TestOddGitIndex(t *testing.T) {
	index := append([]byte("DIRC\x00\x00\x00\x04\x00\x00\x00\x02"), make([]byte, 62)...)
	index = append(index, "\x00a\x00"...)
	index = append(index, make([]byte, 62)...)
	for _, drop := range []string{"\xff\xff\xff\xff\xff\xff\xff\xff\xff\x7f",
		"\x81\x80\x80\x80\x80\x80\x80\x80\x80\x00", "\x02", "\xff"} {
		_, err := gitIndex(append(append([]byte{}, index...), drop+"b\x00"...))
		assert.ErrorIs(t, err, errIndex, "%q", drop)
	}
	names, err := gitIndex(append(append([]byte{}, index...), "\x01b\x00"...))
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, names)
}

// A further working tree has a file in place of .git, and a repository of the newer kind longer names of
// objects and another sum at its end.
func TestOtherRepositories(t *testing.T) {
	index := []byte("DIRC\x00\x00\x00\x02\x00\x00\x00\x02")
	for _, name := range []string{"lab.toml", "tide-log/tide-log.env"} {
		entry := append(make([]byte, 42+sha256.Size), name...)
		index = append(index, append(entry, make([]byte, 8-len(entry)%8)...)...)
	}
	sum := sha256.Sum256(index)
	dir, elsewhere := t.TempDir(), t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "tide-log"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tide-log/tide-log.env"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(elsewhere, "index"), append(index, sum[:]...), 0o600))
	relative, err := filepath.Rel(dir, elsewhere)
	require.NoError(t, err)
	for _, text := range []string{"gitdir: " + elsewhere + "\n", "gitdir: " + relative + "\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".git"), []byte(text), 0o600))
		assert.Equal(t, map[string]lab.FileFact{"tide-log/tide-log.env": {Mode: 0o600, Tracked: true}},
			Facts(dir, nil), text)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".git"), []byte("something else"), 0o600))
	assert.False(t, Facts(dir, nil)["tide-log/tide-log.env"].Tracked)
}

func FuzzGitIndex(f *testing.F) {
	f.Add([]byte("DIRC\x00\x00\x00\x02\x00\x00\x00\x01"))
	f.Add(append([]byte("DIRC\x00\x00\x00\x04\x00\x00\x00\x02"), make([]byte, 140)...))
	f.Fuzz(func(t *testing.T, text []byte) {
		names, err := gitIndex(text)
		if err != nil && names != nil {
			t.Fatal("names beside an error")
		}
	})
}
