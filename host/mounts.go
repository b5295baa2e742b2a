package host

import (
	"fmt"
	"strconv"
	"strings"
)

// mount is a line of a table of mounts.
type mount struct {
	at, kind       string
	options, super []string // of this mount, and of the file system as a whole
}

// readMounts reads a table of mounts of a Linux machine (proc_pid_mountinfo(5)), wherever lantern runs.
func readMounts(text string) ([]mount, error) {
	var mounts []mount
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		end := 0
		for i := 6; i < len(f) && end == 0; i++ { // before it are any number of optional fields
			if f[i] == "-" {
				end = i
			}
		}
		if end == 0 || len(f) < end+4 {
			return nil, fmt.Errorf("%q is no line of a table of mounts", strings.TrimSpace(line))
		}
		mounts = append(mounts, mount{
			at: unescaped(f[4]), kind: f[end+1],
			options: strings.Split(f[5], ","), super: strings.Split(f[end+3], ","),
		})
	}
	return mounts, nil
}

// unescaped replaces the octal numbers that stand for blanks and backslashes.
func unescaped(s string) string {
	before, after, ok := strings.Cut(s, `\`)
	if !ok {
		return s
	}
	if len(after) >= 3 {
		if n, err := strconv.ParseUint(after[:3], 8, 8); err == nil {
			return before + string([]byte{byte(n)}) + unescaped(after[3:])
		}
	}
	return before + `\` + unescaped(after)
}
