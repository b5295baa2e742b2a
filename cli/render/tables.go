package render

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
)

// FreePorts are free ports of a host.
type FreePorts struct {
	Host  string `json:"host"`
	Ports []int  `json:"ports"`
}

// Ports writes who has which port, host by host; neighbours of one owner stand on one line.
func Ports(w io.Writer, p Paint, uses []lab.PortUse) {
	if len(uses) == 0 {
		fmt.Fprintln(w, p.Faint("no ports in use there"))
		return
	}
	host := ""
	var rows [][]string
	flush := func() {
		if rows != nil {
			fmt.Fprintln(w, p.Head(host))
			columns(w, p, []string{"port", "address", "whose", "inside", "kind"}, rows)
			rows = nil
		}
	}
	for i := 0; i < len(uses); {
		u := uses[i]
		last := i
		for last+1 < len(uses) && follows(uses[last], uses[last+1]) {
			last++
		}
		if u.Host != host {
			flush()
			if host != "" {
				fmt.Fprintln(w)
			}
			host = u.Host
		}
		inside := ""
		if u.ContainerPort > 0 {
			inside = span(u.ContainerPort, last-i)
		}
		kind := u.Kind
		switch kind {
		case lab.PortDeclared:
			kind = ""
		case lab.PortForeign, lab.PortRunning:
			kind = p.Look(kind)
		default:
			kind = p.Faint(kind)
		}
		rows = append(rows,
			[]string{span(u.Port, last-i) + "/" + u.Protocol, orAll(u.Address), u.Owner, inside, kind})
		i = last + 1
	}
	flush()
}

// follows reports whether a port is the next one of the same owner.
func follows(a, b lab.PortUse) bool {
	next := a
	next.Port++
	if a.ContainerPort > 0 {
		next.ContainerPort++
	}
	return next == b
}

func span(first, more int) string {
	if more == 0 {
		return strconv.Itoa(first)
	}
	return strconv.Itoa(first) + "-" + strconv.Itoa(first+more)
}

func orAll(address string) string {
	if address == "" {
		return "all"
	}
	return address
}

// Free writes free ports.
func Free(w io.Writer, p Paint, hosts []FreePorts) {
	for _, h := range hosts {
		words := make([]string, len(h.Ports))
		for i, n := range h.Ports {
			words[i] = strconv.Itoa(n)
		}
		if len(words) == 0 {
			words = []string{"none"}
		}
		fmt.Fprintf(w, "%s  %s\n", p.Head(h.Host), strings.Join(words, " "))
	}
}

// Router writes what a router has to forward.
func Router(w io.Writer, p Paint, l *lab.Lab, uses []lab.PortUse) {
	var rows [][]string
	for _, u := range uses {
		to := u.Host
		if h := l.Host(u.Host); h != nil && h.Address != "localhost" {
			to = h.Address
		}
		rows = append(rows,
			[]string{u.Protocol + " " + strconv.Itoa(u.Port), to + ":" + strconv.Itoa(u.Port), u.Owner})
	}
	columns(w, p, []string{"from outside", "to", "for"}, rows)
}

// ProcessTable writes what runs inside a service.
func ProcessTable(w io.Writer, p Paint, list []engine.Process) {
	var rows [][]string
	for _, v := range list {
		rows = append(rows, []string{strconv.Itoa(v.PID), v.User, fmt.Sprintf("%.1f %%", v.CPU),
			units.BytesSize(float64(v.Memory)), v.Command})
	}
	columns(w, p, []string{"pid", "user", "processor", "memory", "command"}, rows)
}

// Mounts writes which service uses which folder, as whom.
func Mounts(w io.Writer, p Paint, uses []lab.MountUse) {
	if len(uses) == 0 {
		fmt.Fprintln(w, p.Faint("no service mounts anything there"))
		return
	}
	host, source := "", ""
	var rows [][]string
	flush := func() {
		if rows != nil {
			fmt.Fprintln(w, p.Head(host))
			columns(w, p, []string{"folder", "belongs to", "mode", "service", "inside", "as", "how"}, rows)
			rows = nil
		}
	}
	for _, u := range uses {
		if u.Host != host {
			flush()
			if host != "" {
				fmt.Fprintln(w)
			}
			host, source = u.Host, ""
		}
		row := []string{u.Source, u.Owner, u.Mode, u.Stack + "/" + u.Service, u.Target, u.As, ""}
		if u.Kind == survey.Missing {
			row[1] = p.Bad("missing")
		} else if u.Kind == "volume" {
			row[1] = p.Faint("a volume")
		}
		if u.Source == source && u.Kind != "memory" {
			row[0], row[1], row[2] = "", "", "" // said above
		}
		if u.ReadOnly {
			row[6] = p.Faint("read-only")
		}
		source = u.Source
		rows = append(rows, row)
	}
	flush()
}
