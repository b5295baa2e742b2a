package declare

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/docker/go-units"
)

// SyntaxError tells which part of a value does not follow its grammar.
type SyntaxError struct {
	Offset, Length int // of the part at fault, in bytes of the value
	Message        string
	Instead        string // what was meant at that part, where only one thing can be
}

func (e *SyntaxError) Error() string { return e.Message }

func syntaxError(offset, length int, format string, args ...any) *SyntaxError {
	return &SyntaxError{Offset: offset, Length: length, Message: fmt.Sprintf(format, args...)}
}

// meant adds what was meant at the part at fault.
func (e *SyntaxError) meant(instead string) *SyntaxError {
	e.Instead = instead
	return e
}

// within moves an error of a part that starts at offset into the whole value.
func within(err error, offset int) error {
	if e, ok := err.(*SyntaxError); ok {
		moved := *e
		moved.Offset += offset
		return &moved
	}
	return err
}

// trimmed returns s without white space around it and how far its start moved.
func trimmed(s string) (string, int) {
	left := strings.TrimLeft(s, " \t")
	return strings.TrimRight(left, " \t"), len(s) - len(left)
}

// ParseSize returns the bytes that a size such as "200kB" or "1 GiB" stands for: kB, MB, GB are powers of
// 1000 (SI), KiB, MiB, GiB of 1024 (IEC 80000-13). The error is a *[SyntaxError].
func ParseSize(s string) (int64, error) {
	t, at := trimmed(s)
	digits := strings.TrimLeft(t, "0123456789.")
	number, unit := t[:len(t)-len(digits)], strings.TrimLeft(digits, " ")
	switch unit {
	case "B", "kB", "MB", "GB":
	case "KiB", "MiB", "GiB":
	default:
		e := syntaxError(at, len(t), "a size is a number with B, kB, MB, GB, KiB, MiB or GiB, such as 10MB")
		// Engines' own commands and other formats count these in powers of two.
		if long := map[string]string{
			"k":  "KiB",
			"m":  "MiB",
			"g":  "GiB",
			"kb": "KiB",
			"mb": "MiB",
			"gb": "GiB",
			"ki": "KiB",
			"mi": "MiB",
			"gi": "GiB",
		}[strings.ToLower(unit)]; number != "" && long != "" {
			e.meant(number + long)
		}
		return 0, e
	}
	parse := units.FromHumanSize
	if strings.HasSuffix(unit, "iB") {
		parse = units.RAMInBytes
	}
	n, err := parse(number + unit)
	if err != nil || number == "" || n < 0 || n == math.MaxInt64 {
		return 0, syntaxError(at, len(number), "%q is no number of bytes", number)
	}
	return n, nil
}

// ParseDuration returns the time that a duration such as "90s" or "1m 30s" stands for; its units are ms, s, m
// and h. The error is a *[SyntaxError].
func ParseDuration(s string) (time.Duration, error) {
	t, at := trimmed(s)
	d, err := time.ParseDuration(strings.ReplaceAll(t, " ", ""))
	if err != nil || d < 0 || strings.ContainsAny(t, "+-.nuµμ") {
		e := syntaxError(at, len(t), "a duration is numbers with ms, s, m or h, such as 90s or 1m 30s")
		if m := wordedTime.FindStringSubmatch(strings.ToLower(t)); m != nil {
			e.meant(m[1] + m[2][:1])
		}
		return 0, e
	}
	return d, nil
}

// wordedTime is a duration whose unit is written out.
var wordedTime = regexp.MustCompile(`^([0-9]+) *(s(?:ecs?|econds?)|m(?:ins?|inutes?)|h(?:rs?|ours?))$`)

// LogLimit bounds what a container's log takes: at most Files files of at most Size bytes. The zero LogLimit
// is no bound.
type LogLimit struct {
	Files int
	Size  int64
}

// ParseLogLimit reads "N x SIZE" or "none". The error is a *[SyntaxError].
func ParseLogLimit(s string) (LogLimit, error) {
	t, at := trimmed(s)
	if t == "none" {
		return LogLimit{}, nil
	}
	left, right, ok := strings.Cut(t, "x")
	if !ok {
		return LogLimit{}, syntaxError(at, len(t), "a log limit is files x size, such as 5 x 10MB, or none")
	}
	count := strings.TrimRight(left, " ")
	files, err := strconv.Atoi(count)
	if err != nil || files < 1 {
		return LogLimit{}, syntaxError(at, len(count), "%q is no number of files", count)
	}
	size, err := ParseSize(right)
	if err != nil {
		return LogLimit{}, within(err, at+len(left)+1)
	}
	if size < 1 {
		return LogLimit{}, syntaxError(at+len(left)+1, len(right), "a log file needs room for more than nothing")
	}
	return LogLimit{files, size}, nil
}

// Restart says when an engine starts a container again.
type Restart struct {
	Policy  string // "no", "on-failure", "unless-stopped" or "always"
	Retries int    // on-failure: at most so often; 0: without end
}

func (r Restart) String() string {
	if r.Retries > 0 {
		return fmt.Sprintf("%s %d", r.Policy, r.Retries)
	}
	return r.Policy
}

// ParseRestart reads a restart policy. The error is a *[SyntaxError].
func ParseRestart(s string) (Restart, error) {
	t, at := trimmed(s)
	policy, count, many := strings.Cut(t, " ")
	switch {
	case !many && (t == "no" || t == "on-failure" || t == "unless-stopped" || t == "always"):
		return Restart{Policy: t}, nil
	case many && policy == "on-failure":
		n, err := strconv.Atoi(strings.TrimSpace(count))
		if err != nil || n < 1 {
			return Restart{},
				syntaxError(at+len(policy)+1, len(count), "%q is no number of tries", strings.TrimSpace(count))
		}
		return Restart{policy, n}, nil
	}
	e := syntaxError(at, len(t), "restart is one of no, on-failure, on-failure N, unless-stopped, always")
	word, tries := strings.ReplaceAll(strings.ReplaceAll(t, "_", "-"), ":", " "), ""
	if name, n, ok := strings.Cut(word, " "); ok {
		word, tries = name, " "+strings.TrimSpace(n)
	}
	if near := Nearest(word, []string{"no", "on-failure", "unless-stopped", "always"}); near != "" &&
		Certain(word, near) && (tries == "" || near == "on-failure") {
		e.meant(near + tries)
	}
	return Restart{}, e
}
