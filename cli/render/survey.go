package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/survey"
)

// systemAccounts is the highest uid that distributions give to accounts of programs (login.defs(5),
// SYS_UID_MAX).
const systemAccounts = 999

// Survey writes what is true of a host, in tables that answer what people log in for.
func Survey(w io.Writer, p Paint, s *survey.Survey) {
	fmt.Fprintf(w, "%s  %s\n", p.Head(s.Host), p.Faint(strings.Join(machineWords(s), ", ")))
	if s.Engine != nil {
		fmt.Fprintf(w, "  engine %s\n", strings.Join(engineWords(s), ", "))
		for _, m := range s.Engine.Missing {
			fmt.Fprintf(w, "    %s\n", p.Faint(m))
		}
	}
	section := func(title string, heads []string, rows [][]string) {
		if len(rows) > 0 {
			fmt.Fprintf(w, "\n%s\n", p.Head(title))
			columns(w, p, heads, rows)
		}
	}
	section("accounts", []string{"name", "uid", "gid", "group", "also in"}, accountRows(s))
	section("ports in use", []string{"port", "address", "by"}, listenerRows(s))
	section("folders of the lab", []string{"path", "kind", "owner", "group", "mode", "beyond the mode"},
		pathRows(p, s))
	section("devices of the lab", []string{"path", "owner", "group", "mode"}, deviceRows(p, s))
	section("space", []string{"mounted at", "kind", "free", "of", "state"}, spaceRows(p, s))
	section("containers", []string{"name", "state", "image", "ports", "whose"}, containerRows(s))
	section("networks", []string{"name", "subnets", "whose"}, networkRows(s))
	section("volumes", []string{"name", "whose", "owner and mode"}, volumeRows(s))
	section("images of the lab", []string{"image", "where", "made for", "ports", "data paths", "user"},
		imageRows(p, s))
	if len(s.Unknown) > 0 {
		fmt.Fprintf(w, "\n%s\n", p.Head("not known"))
		keys := make([]string, 0, len(s.Unknown))
		for k := range s.Unknown {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			fmt.Fprintf(w, "  %s: %s\n", Harmless(k), Harmless(s.Unknown[k]))
		}
	}
}

func machineWords(s *survey.Survey) []string {
	var words []string
	if s.Platform != "" {
		words = append(words, s.Platform)
	}
	if s.Timezone != "" {
		words = append(words, "time zone "+s.Timezone)
	}
	if s.CPUs > 0 {
		words = append(words, declare.Counted(s.CPUs, "processor"))
	}
	if s.Memory > 0 {
		words = append(words, units.BytesSize(float64(s.Memory))+" of memory")
	}
	return words
}

func engineWords(s *survey.Survey) []string {
	e := s.Engine
	words := []string{e.Name + " " + e.Version, "API " + e.API}
	if e.Rootless {
		without := "without root"
		if len(e.UIDMap) > 0 {
			without += ": root inside is " + s.UserName(e.UIDMap[0].Host)
		}
		for _, m := range e.UIDMap[min(1, len(e.UIDMap)):] {
			without += fmt.Sprintf(", uid %d-%d inside is %d-%d",
				m.Inside, m.Inside+m.Count-1, m.Host, m.Host+m.Count-1)
		}
		words = append(words, without)
	}
	if len(e.Lacks) > 0 {
		words = append(words, "without "+strings.Join(e.Lacks, ", "))
	}
	return words
}

func accountRows(s *survey.Survey) [][]string {
	var rows [][]string
	for _, a := range s.Accounts {
		if a.UID != 0 && a.UID <= systemAccounts || a.UID >= 65534 {
			continue
		}
		var also []string
		for _, g := range a.Groups {
			also = append(also, s.GroupName(g))
		}
		group := ""
		for _, g := range s.Groups {
			if g.GID == a.GID {
				group = g.Name
			}
		}
		rows = append(rows, []string{a.Name, fmt.Sprint(a.UID), fmt.Sprint(a.GID), group, strings.Join(also, ", ")})
	}
	return rows
}

func listenerRows(s *survey.Survey) [][]string {
	sorted := slices.Clone(s.Listeners)
	slices.SortStableFunc(sorted, func(a, b survey.Listener) int {
		return cmp.Or(cmp.Compare(a.Port, b.Port), cmp.Compare(a.Protocol, b.Protocol),
			cmp.Compare(a.Address, b.Address))
	})
	var rows [][]string
	for _, l := range sorted {
		by := "a hidden process"
		switch {
		case l.Container != "":
			by = "container " + l.Container
		case l.Process != "":
			by = fmt.Sprintf("%s (pid %d)", l.Process, l.PID)
		}
		address := l.Address
		if address == "0.0.0.0" || address == "::" {
			address = "all " + map[bool]string{true: "IPv6", false: "IPv4"}[address == "::"]
		}
		rows = append(rows, []string{fmt.Sprintf("%d/%s", l.Port, l.Protocol), address, by})
	}
	return rows
}

func pathRows(p Paint, s *survey.Survey) [][]string {
	var rows [][]string
	for i, f := range s.Paths {
		// The way there is only worth a line where it is not as on every system.
		plain := f.Kind == survey.Folder && f.UID == 0 && f.Mode == "0755" && len(f.ACL) == 0 && f.Real == f.Path
		if parent := strings.TrimSuffix(f.Path, "/") + "/"; plain &&
			slices.ContainsFunc(s.Paths[i+1:], func(o survey.Path) bool {
				return strings.HasPrefix(o.Path, parent)
			}) {
			continue
		}
		switch f.Kind {
		case survey.Missing:
			near := ""
			if len(f.Near) > 0 {
				near = "near: " + strings.Join(f.Near, ", ")
			}
			rows = append(rows, []string{f.Path, p.Bad(f.Kind), "", "", "", near})
		case survey.Hidden:
			rows = append(rows, []string{f.Path, p.Look("not visible"), "", "", "", ""})
		default:
			extra := strings.Join(f.ACL, " ")
			if f.Real != "" && f.Real != f.Path {
				extra = strings.TrimSpace("really " + f.Real + "  " + extra)
			}
			rows = append(rows, []string{f.Path, f.Kind, s.UserName(f.UID), s.GroupName(f.GID), f.Mode, extra})
			for _, e := range f.Inside {
				if e.UID != f.UID || e.GID != f.GID { // else it is as one expects
					rows = append(rows,
						[]string{"  " + e.Example, e.Kind, s.UserName(e.UID), s.GroupName(e.GID), e.Mode,
							p.Faint(insideWords(e))})
				}
			}
		}
	}
	return rows
}

func insideWords(e survey.Inside) string {
	if e.Count == 1 {
		return "inside it"
	}
	return fmt.Sprintf("inside it, and %d more like it", e.Count-1)
}

func deviceRows(p Paint, s *survey.Survey) [][]string {
	var rows [][]string
	for _, d := range s.Devices {
		if d.Missing {
			rows = append(rows, []string{d.Path, p.Bad(survey.Missing), "", ""})
		} else {
			rows = append(rows, []string{d.Path, s.UserName(d.UID), s.GroupName(d.GID), d.Mode})
		}
	}
	return rows
}

func spaceRows(p Paint, s *survey.Survey) [][]string {
	var rows [][]string
	for _, f := range s.FileSystems {
		switch {
		case !f.Mounted:
			rows = append(rows, []string{f.Mount, f.Kind, "", "", p.Bad("not mounted now")})
		case slices.Contains(f.Options, "ro"):
			rows = append(rows,
				[]string{f.Mount, f.Kind, units.HumanSize(float64(f.Free)), units.HumanSize(float64(f.Size)),
					p.Look("read-only")})
		default:
			rows = append(rows,
				[]string{f.Mount, f.Kind, units.HumanSize(float64(f.Free)), units.HumanSize(float64(f.Size)), ""})
		}
	}
	return rows
}

// whose says which lab has made something.
func whose(lab string) string {
	if lab == "" {
		return "not of a lab"
	}
	return lab
}

func networkRows(s *survey.Survey) [][]string {
	var rows [][]string
	for _, n := range s.Networks {
		if len(n.Subnets) > 0 || n.Lab != "" { // host and none are on every engine
			rows = append(rows, []string{n.Name, strings.Join(n.Subnets, ", "), whose(n.Lab)})
		}
	}
	return rows
}

func volumeRows(s *survey.Survey) [][]string {
	var rows [][]string
	for _, v := range s.Volumes {
		root := ""
		if r := v.Root; r != nil {
			root = fmt.Sprintf("%s:%s %s", s.UserName(r.UID), s.GroupName(r.GID), r.Mode)
			if r.Empty {
				root += ", empty"
			}
		}
		rows = append(rows, []string{v.Name, whose(v.Lab), root})
	}
	return rows
}

func containerRows(s *survey.Survey) [][]string {
	var rows [][]string
	for _, c := range s.Containers {
		rows = append(rows, []string{c.Name, c.State, c.Image, strings.Join(c.Ports, ", "), whose(c.Lab)})
	}
	return rows
}

func imageRows(p Paint, s *survey.Survey) [][]string {
	var rows [][]string
	for _, i := range s.Images {
		absent := p.Bad("nowhere")
		if len(i.Near) > 0 {
			absent += "; near: " + strings.Join(i.Near, ", ")
		}
		where := map[string]string{
			survey.FromEngine:   "on the host",
			survey.FromRegistry: "in its registry",
			survey.Absent:       absent,
		}[i.Source]
		user := i.User
		if user == "" && i.Declares() {
			user = "root"
		}
		rows = append(rows,
			[]string{i.Reference, where, strings.Join(i.Platforms, ", "), strings.Join(i.Ports, ", "),
				strings.Join(i.Volumes, ", "), user})
	}
	return rows
}
