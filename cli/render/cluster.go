package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"proudlantern.example/lantern/app"
)

// ClusterList is a cluster for programs.
type ClusterList struct {
	Lantern int           `json:"lantern"`
	Cluster string        `json:"cluster"`
	Formed  bool          `json:"formed"`
	Hosts   []ClusterHost `json:"hosts"`
}

// ClusterHost is a host of a cluster.
type ClusterHost struct {
	Host    string   `json:"host"`
	State   string   `json:"state"`
	Role    string   `json:"role,omitempty"`
	Wanted  string   `json:"wanted-role,omitempty"`
	Leader  bool     `json:"leader,omitempty"`
	Address string   `json:"address,omitempty"`
	Copies  []string `json:"copies"`
	Why     string   `json:"why,omitempty"`
}

// NewClusterList returns a cluster for programs.
func NewClusterList(s app.ClusterState) ClusterList {
	l := ClusterList{first, s.Name, s.Formed, []ClusterHost{}}
	for _, n := range s.Nodes {
		l.Hosts = append(l.Hosts, ClusterHost{n.Host, n.State, n.Role, n.Wanted, n.Leader, n.Address, append([]string{}, n.Copies...), n.Why})
	}
	return l
}

// Cluster writes a cluster as a table.
func Cluster(w io.Writer, p Paint, s app.ClusterState) {
	var rows [][]string
	for _, n := range s.Nodes {
		role := n.Role
		if role == "" {
			role = p.Faint("to be a " + n.Wanted)
		}
		if n.Leader {
			role += ", leads"
		}
		state := p.Good(n.State)
		switch n.State {
		case app.NodeReady:
		case app.NodeDrained:
			state = p.Look(n.State)
		default:
			state = p.Bad(n.State)
		}
		rows = append(rows, []string{n.Host, state, role, n.Address, counted(n.Copies), p.Look(Harmless(n.Why))})
	}
	columns(w, p, []string{"host", "state", "role", "address", "runs", "note"}, rows)
	if !s.Formed {
		fmt.Fprintf(w, "\n  the cluster %s is not formed yet: lantern cluster %s --form\n", s.Name, s.Name)
	}
}

// counted writes each name once, with how often it is there.
func counted(names []string) string {
	var all []string
	for i, n := range names {
		if i > 0 && names[i-1] == n {
			continue
		}
		count := len(slices.DeleteFunc(slices.Clone(names), func(o string) bool { return o != n }))
		if count > 1 {
			n = fmt.Sprintf("%s (%d)", n, count)
		}
		all = append(all, n)
	}
	return strings.Join(all, ", ")
}
