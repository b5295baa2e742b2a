package history_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/deploy/history"
)

var began = time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)

func entry(stack string, n int) history.Entry {
	return history.Entry{
		Number: n, Kind: history.Deploy, Host: "lamp-room", Stack: stack,
		Began: began.Add(time.Duration(n) * time.Hour), Seconds: 1, Who: "keeper on lamp-room",
		Result: "done",
		Services: []history.Service{{Service: "desk", Action: "create",
			Image: "registry.skerry.example/desk:2.3", ID: "sha256:aa"}},
	}
}

func TestEntries(t *testing.T) {
	lab := t.TempDir()
	b := history.Of(lab)
	list, err := b.List("")
	require.NoError(t, err)
	assert.Empty(t, list, "it need not be there")
	files := func(n int) []history.File {
		return []history.File{
			{Path: "tide-log/stack.toml", Text: fmt.Sprintf("# %d\n", n), Mode: 0o644},
			{Path: "tide-log/tide-log.env", Text: "A=1\n", Mode: 0o600},
		}
	}
	for _, n := range []int{1, 2, 300} {
		require.NoError(t, b.Add(entry("tide-log", n), files(n)))
	}
	require.NoError(t, b.Add(entry("tide", 7), nil))
	list, err = b.List("tide-log")
	require.NoError(t, err)
	assert.Equal(t, []history.Entry{entry("tide-log", 1), entry("tide-log", 2), entry("tide-log", 300)}, list)
	last, err := b.Last("tide")
	require.NoError(t, err)
	assert.Equal(t, 7, last)
	e, kept, err := b.Find("tide-log", 2)
	require.NoError(t, err)
	assert.Equal(t, entry("tide-log", 2), e)
	assert.Equal(t, files(2), kept)
	_, _, err = b.Find("tide-log", 4)
	assert.ErrorIs(t, err, history.ErrNoEntry)

	// One number twice: the later counts.
	again := entry("tide-log", 2)
	again.Began, again.Result = again.Began.Add(time.Minute), "put-back"
	require.NoError(t, b.Add(again, files(9)))
	e, kept, err = b.Find("tide-log", 2)
	require.NoError(t, err)
	assert.Equal(t, again, e)
	assert.Equal(t, files(9), kept)

	for path, mode := range map[string]os.FileMode{filepath.Dir(b.Path): 0o700, b.Path: 0o600} {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, mode, info.Mode().Perm(), path)
	}
}

func TestManyAtOnce(t *testing.T) {
	b := history.Of(t.TempDir())
	var wait sync.WaitGroup
	for n := range 20 {
		wait.Go(func() { assert.NoError(t, b.Add(entry("tide-log", n), nil)) })
	}
	wait.Wait()
	list, err := b.List("")
	require.NoError(t, err)
	assert.Len(t, list, 20)
}

// Whatever stands in the file, an answer or an error comes back.
func TestDamaged(t *testing.T) {
	b := history.Of(t.TempDir())
	for n := range 50 {
		require.NoError(t, b.Add(entry("tide-log", n), []history.File{{Path: "a", Text: fmt.Sprint(n)}}))
	}
	good, err := os.ReadFile(b.Path)
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(1, 2))
	damaged := 0
	for i := range 200 {
		text := append([]byte(nil), good...)
		switch i % 4 {
		case 0:
			text = text[:random.IntN(len(text))]
		case 1:
			clear(text[random.IntN(len(text)):])
		default:
			for range 1 + random.IntN(2000) {
				text[random.IntN(len(text))] = byte(random.Uint32())
			}
		}
		require.NoError(t, os.WriteFile(b.Path, text, 0o600))
		_, listing := b.List("")
		adding := b.Add(entry("tide-log", 99), nil)
		if listing != nil || adding != nil {
			damaged++
		}
	}
	assert.Greater(t, damaged, 100)
	require.NoError(t, os.WriteFile(b.Path, []byte("not a logbook"), 0o600))
	assert.ErrorIs(t, b.Add(entry("tide-log", 99), nil), history.ErrDamaged)
}
