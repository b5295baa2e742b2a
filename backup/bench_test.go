package backup

import (
	"fmt"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// data makes a folder with so many megabytes, half of them noise and half of them words: 1 MB in each file, but for the
// first, which has half of it all.
func data(b *testing.B, megabytes int) string {
	b.Helper()
	dir := filepath.Join(b.TempDir(), "data")
	require.NoError(b, os.Mkdir(dir, 0o755))
	r := rand.New(rand.NewSource(1911))
	half := make([]byte, 1<<20)
	r.Read(half[:1<<19])
	for i := 1 << 19; i < len(half); i++ {
		half[i] = "high at four, low at ten\n"[r.Intn(4)*6+i%6]
	}
	big, err := os.Create(filepath.Join(dir, "big"))
	require.NoError(b, err)
	for i := range megabytes / 2 {
		r.Read(half[:1<<19])
		_, err := big.Write(half)
		require.NoError(b, err)
		require.NoError(b, os.WriteFile(filepath.Join(dir, strconv.Itoa(i)), half, 0o644))
	}
	require.NoError(b, big.Close())
	return dir
}

// A backup is taken, read to its end, and unpacked; beside that, tar and zstd do the same with the same level and as many
// threads. LANTERN_BENCH_MEGABYTES says how much it is.
func BenchmarkBackup(b *testing.B) {
	megabytes := 256
	if n, err := strconv.Atoi(os.Getenv("LANTERN_BENCH_MEGABYTES")); err == nil {
		megabytes = n
	}
	dir := data(b, megabytes)
	work := b.TempDir()
	file := filepath.Join(work, "a.tar.zst")
	peak := func(b *testing.B) {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		b.ReportMetric(float64(m.Sys)/1e6, "MB-of-memory")
	}
	run := func(name string, f func()) {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(megabytes) << 20)
			for b.Loop() {
				b.StopTimer()
				os.RemoveAll(filepath.Join(work, "to"))
				if name == "take" || name == "floor/take" {
					os.Remove(file)
				}
				b.StartTimer()
				f()
			}
			peak(b)
		})
	}
	shell := func(format string, args ...any) {
		out, err := exec.Command("sh", "-c", fmt.Sprintf(format, args...)).CombinedOutput()
		require.NoError(b, err, "%s", out)
	}
	run("floor/take", func() { shell("tar -C %s -cf - . | zstd -q -3 -T2 -o %s", dir, file) })
	run("floor/verify", func() { shell("zstd -q -t %s", file) })
	run("floor/unpack", func() { shell("mkdir %s/to && zstd -q -dc %s | tar -C %s/to -xf -", work, file, work) })
	run("take", func() {
		w, err := Create(file, About{Backup: Version, Roots: []Root{{Path: dir}}}, nil)
		require.NoError(b, err)
		require.NoError(b, w.Root(b.Context(), 0, dir))
		require.NoError(b, w.Close())
	})
	run("verify", func() {
		r, err := Open(file, nil)
		require.NoError(b, err)
		defer r.Close()
		require.True(b, r.Verify(b.Context(), nil).Whole())
	})
	run("unpack", func() {
		require.NoError(b, os.Mkdir(filepath.Join(work, "to"), 0o700))
		r, err := Open(file, nil)
		require.NoError(b, err)
		defer r.Close()
		require.NoError(b, r.Unpack(b.Context(), &Unpacking{Owners: os.Getuid() == 0, Place: func(n int) string {
			return filepath.Join(work, "to", strconv.Itoa(n))
		}}))
	})
}
