package engine

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// frameOf is a message as engines send it.
func frameOf(stream byte, text string) string {
	head := [8]byte{stream}
	binary.BigEndian.PutUint32(head[4:], uint32(len(text)))
	return string(head[:]) + text
}

// A long line comes in messages that each have a time; both streams have a line open at once; an end in the
// middle loses nothing that came.
func TestLogLines(t *testing.T) {
	const one, two = "2026-11-28T12:00:01.5Z", "2026-11-28T12:00:02Z"
	for name, c := range map[string]struct {
		frames string
		want   []string
	}{
		"plain": {frameOf(1, one+" a\n") + frameOf(2, two+" b\r\n"), []string{"1.5 out a", "2 err b"}},
		"empty": {frameOf(1, one+" \n") + frameOf(1, one+"\n"), []string{"1.5 out ", "1.5 out "}},
		"in parts": {frameOf(1, one+" a") + frameOf(2, two+" x\n") + frameOf(1, two+" b\n"),
			[]string{"2 err x", "1.5 out ab"}},
		"two in one":   {frameOf(1, one+" a\n"+two+" b\n"), []string{"1.5 out a", "2 out b"}},
		"no time":      {frameOf(1, one+" a\n") + frameOf(1, "a b c\n"), []string{"1.5 out a", "1.5 out a b c"}},
		"a long word":  {frameOf(1, strings.Repeat("w", 60)+"\n"), []string{"none out " + strings.Repeat("w", 60)}},
		"ends inside":  {frameOf(1, one+" a")[:len(frameOf(1, one+" a"))-1] + "a", []string{"1.5 out a"}},
		"cut head":     {frameOf(1, one+" a\n") + "\x01\x00", []string{"1.5 out a"}},
		"blanks in it": {frameOf(1, one+"  a  b \n"), []string{"1.5 out  a  b "}},
	} {
		var got []string
		require.NoError(t, logLines(strings.NewReader(c.frames), func(l LogLine) error {
			seconds, stream := "none", "out"
			if !l.Time.IsZero() {
				seconds = fmt.Sprint(l.Time.Sub(time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)).Seconds())
			}
			if l.Stderr {
				stream = "err"
			}
			got = append(got, seconds+" "+stream+" "+l.Text)
			return nil
		}), name)
		assert.Equal(t, c.want, got, name)
	}
	assert.Error(t, logLines(strings.NewReader("no frames at all"), nil))
	// A line without an end costs no more memory than mostLogLine, and says that it was cut.
	var long strings.Builder
	for range mostLogLine>>20 + 1 {
		long.WriteString(frameOf(1, one+" "+strings.Repeat("x", 1<<20)))
	}
	long.WriteString(frameOf(1, one+" end\n") + frameOf(1, two+" next\n"))
	var lines []LogLine
	require.NoError(t, logLines(strings.NewReader(long.String()), func(l LogLine) error {
		lines = append(lines, l)
		return nil
	}))
	require.Len(t, lines, 2)
	assert.Len(t, lines[0].Text, mostLogLine)
	assert.True(t, lines[0].Cut)
	assert.Equal(t, "next", lines[1].Text)
	assert.False(t, lines[1].Cut)
}

func TestStamp(t *testing.T) {
	assert.Equal(t, "1764331201.000000500", stamp(time.Unix(1764331201, 500)))
}
