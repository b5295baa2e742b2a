package engine

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
)

func frame(kind byte, claims int64, text string) string {
	head := []byte{kind, 0, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint32(head[4:], uint32(claims))
	return string(head) + text
}

func TestLines(t *testing.T) {
	long := strings.Repeat("ä", mostLine) // two bytes each
	for _, c := range []struct {
		name, sent string
		want       []string
		err        string
	}{
		{name: "both streams", sent: frame(1, 4, "one\n") + frame(2, 8, "two\nthre") + frame(1, 2, "e\n"),
			want: []string{"one", "two", "three"}},
		{name: "a line without an end", sent: frame(1, 3, "one"), want: []string{"one"}},
		{name: "the ends of lines elsewhere", sent: frame(1, 5, "one\r\n"), want: []string{"one"}},
		{name: "a claim of 4 GB", sent: frame(1, 0xffffffff, "one\ntwo\n"), want: []string{"one", "two"}},
		{name: "half a head", sent: frame(1, 4, "one\n") + "\x01\x00", want: []string{"one"}},
		{name: "a long line", sent: frame(1, int64(len(long)+4), long+"\ntwo"),
			want: []string{long[:mostLine] + " …", "two"}},
		{name: "no log at all", sent: "HTTP/1.1 200 OK\r\n\r\n", err: "has not the form of one"},
	} {
		for _, from := range []io.Reader{strings.NewReader(c.sent),
			iotest.OneByteReader(strings.NewReader(c.sent))} {
			var got []string
			err := lines(&unframed{from: from}, func(l string) { got = append(got, l) })
			assert.Equal(t, c.want, got, c.name)
			if c.err == "" {
				assert.NoError(t, err, c.name)
			} else {
				assert.ErrorContains(t, err, c.err, c.name)
			}
		}
	}
}

func TestEnding(t *testing.T) {
	e := &ending{most: 5}
	for _, part := range []string{"a", "bcdefghij", "kl", ""} {
		e.Write([]byte(part))
	}
	assert.Equal(t, "hijkl", string(e.text))
	e.Write(bytes.Repeat([]byte("x"), 1<<20))
	assert.Equal(t, "xxxxx", string(e.text))
	assert.Len(t, short(strings.Repeat("ä", 5000)), mostMessage+len(" …"))
}
