package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/backup"
)

// BackedUp is what backup says.
type BackedUp struct {
	Lantern int      `json:"lantern"`
	File    string   `json:"file"`
	Stack   string   `json:"stack"`
	Entries int      `json:"entries"`
	Bytes   int64    `json:"bytes"`
	Stopped float64  `json:"stopped"` // seconds that something stood still
	Removed []string `json:"removed,omitempty"`
	Notes   []string `json:"notes"` // what is not in it, and what changed while it was read
}

// NewBackedUp returns the document of a backup.
func NewBackedUp(b *app.Backup) BackedUp {
	return BackedUp{
		first, b.File, b.Stack, b.Entries, b.Bytes, b.Stood.Round(time.Millisecond).Seconds(), b.Pruned, append([]string{}, b.Notes...),
	}
}

// Verified is what restore --verify and --list say.
type Verified struct {
	Lantern int             `json:"lantern"`
	Stack   string          `json:"stack"`
	Taken   time.Time       `json:"taken"`
	Entries []backup.Member `json:"entries"`
	Damaged []string        `json:"damaged"` // paths of what is not what was written
	Because string          `json:"because,omitempty"`
}

// NewVerified returns the document of a backup that was read.
func NewVerified(a backup.About, entries []backup.Member, r backup.Report) Verified {
	v := Verified{first, a.Stack, a.Taken, entries, append([]string{}, r.Damaged...), ""}
	if r.Err != nil {
		v.Because = r.Err.Error()
	}
	return v
}

// BackupEntry writes a line of a list: a member by what it is of.
func BackupEntry(w io.Writer, p Paint, e backup.Member, a backup.About) {
	name := e.Path
	for n, r := range a.Roots {
		if rest, ok := strings.CutPrefix(e.Path, backup.RootName(n)); ok && (rest == "" || rest[0] == '/') {
			name = r.String() + rest
		}
	}
	if e.Target != "" {
		name += " -> " + e.Target
	}
	fmt.Fprintf(w, "%-9s  %s  %6d:%-6d  %12d  %s\n", e.Kind, e.Octal, e.UID, e.GID, e.Size, p.Look(Harmless(name)))
}

// RestoreSteps writes what a restore is going to do.
func RestoreSteps(w io.Writer, p Paint, r *app.Restoring) {
	fmt.Fprintf(w, "%s\n", p.Head(Harmless(r.About.Stack)))
	for _, s := range r.Steps {
		how := "comes back"
		if s.There {
			how = "takes the place of what is there, which is kept beside"
		}
		fmt.Fprintf(w, "  %s  %s\n", p.Look(Harmless(s.Name)), how)
	}
	for path := range r.Files {
		fmt.Fprintf(w, "  %s  is written into the lab\n", p.Look(Harmless(path)))
	}
	for _, n := range r.Notes {
		for _, row := range p.Lines(Harmless(n), 2) {
			fmt.Fprintln(w, "  "+row)
		}
	}
}
