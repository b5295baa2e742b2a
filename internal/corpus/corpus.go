// Package corpus keeps what fuzzing has found worth trying: a file for each target, an input a line, its
// texts quoted as in Go with tabs between. scripts/fuzz writes these files.
package corpus

import (
	"os"
	"strconv"
	"strings"
	"testing"
)

// Add gives the inputs of testdata/corpus/TARGET.txt to a fuzz target.
func Add(f *testing.F) {
	f.Helper()
	text, err := os.ReadFile("testdata/corpus/" + f.Name() + ".txt")
	if err != nil {
		f.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		var args []any
		for _, quoted := range strings.Split(strings.TrimSuffix(line, "\n"), "\t") {
			s, err := strconv.Unquote(quoted)
			if err != nil {
				f.Fatalf("testdata/corpus/%s.txt: %s: %v", f.Name(), quoted, err)
			}
			args = append(args, s)
		}
		f.Add(args...)
	}
}
