package render

import (
	"fmt"
	"io"
	"strings"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/tags"
)

// UpdateTable writes what registries have of the images of services.
func UpdateTable(w io.Writer, p Paint, list []app.Update) {
	var rows [][]string
	moved, newer, skipped := 0, 0, 0
	for _, u := range list {
		tag, near, far, note := p.Faint("unchanged"), []string{}, "", ""
		switch {
		case u.Skipped != "":
			skipped++
			tag, note = "", p.Look("skipped: "+u.Skipped)
		case u.Moved:
			moved++
			tag = p.Look("moved")
		case u.Registry == "":
			tag = p.Faint("pinned")
		case u.Deployed && u.Runs != u.Image:
			tag, note = p.Faint("files changed"), p.Faint(shortImage(u.Runs)+" runs")
		case !u.Deployed:
			tag = p.Faint("not deployed")
		case u.Running == "":
			tag = p.Faint("not from a registry")
		}
		for _, n := range u.Newer {
			if n.Change == tags.Major {
				far = p.Look(n.Tag)
			} else {
				near = append(near, n.Tag+" "+p.Faint(n.Change))
			}
		}
		if len(u.Newer) > 0 {
			newer++
		}
		rows = append(rows, []string{u.Host, u.Name(), shortImage(u.Image), tag, strings.Join(near, ", "), far, note})
	}
	if len(rows) == 0 {
		fmt.Fprintln(w, p.Faint("no images are declared there"))
		return
	}
	columns(w, p, []string{"host", "service", "image", "tag", "newer", "new leading number", "note"}, rows)
	fmt.Fprintf(w, "%s checked: %d moved, %d with newer tags, %d skipped\n",
		declare.Counted(len(list), "service"), moved, newer, skipped)
}
