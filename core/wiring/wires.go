// Package wiring tells who reaches whom in a lab, on which networks, and by which value.
package wiring

import (
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
)

// Wire is a place in a variable's value that names a machine.
type Wire struct {
	From     *lab.Service
	Variable lab.Variable
	Host     string
	Said     secret.Text // the host, to be shown
	Port     int         // 0: none said
	HostAt   source.Span
	PortAt   source.Span // zero: none said
	With     []Credential
	Paired   bool // the variable holds nothing else, and its port may stand in another one
}

// Credential is something that the other end has to agree to.
type Credential struct {
	What  string // [User], [Password] or [Database]
	Value secret.Text
	At    source.Span
	Name  string // of the variable that says it
}

// What a credential is, in words.
const (
	User, Password, Database = "the user", "the password", "the database"
)

// patterns match URLs; machines with a port; the machine of a connection string; and its other words.
var patterns = sync.OnceValue(func() [5]*regexp.Regexp {
	const words = `(?i)(?:^|[\s;])(port|user|user ?name|user ?id|uid|password|pwd|dbname|database)\s*=\s*(?:'([^']*)'|"([^"]*)"|`
	return [5]*regexp.Regexp{
		regexp.MustCompile(
			`[a-z][a-z0-9+.-]*://(?:([^\s/@:,]*)(?::([^\s/@]*))?@)?["']?(\[[0-9a-fA-F:.]+\]|[^\s/:@?#,\[\]"']+)["']?(?::([0-9]{1,5}))?(?:/([A-Za-z0-9_-]+)(?:[?\s]|$))?`),
		regexp.MustCompile(
			`^\s*["']?([A-Za-z][A-Za-z0-9.-]*|[0-9]+(?:\.[0-9]+){3}|\[[0-9a-fA-F:.]+\])["']?:([0-9]{2,5})(/\S*)?["']?\s*$`),
		regexp.MustCompile(
			`(?i)(?:^|[\s;])(?:host|server)\s*=\s*["']?(?:tcp:)?(\[[0-9a-f:.]+\]|[0-9a-f]*:[0-9a-f:]*:[0-9a-f.]*|[^\s;,:"']+)(?:[,:]([0-9]{2,5}))?["']?`),
		regexp.MustCompile(words + `([^\s"']+))`),
		regexp.MustCompile(words + `([^;"']*[^;"'\s]))`), // where ; ends each of them, blanks are letters
	}
})

// longestValue is how long a value may be to be looked at, in bytes.
const longestValue = 4096

// Of returns all wires of a service.
func Of(s *lab.Service) []Wire {
	r := reading{from: s}
	for _, v := range s.Env {
		r.variable, r.value = v, v.Value.Reveal()
		if len(r.value) > longestValue {
			continue
		}
		if w, ok := paired(s, v); ok {
			r.all = append(r.all, w)
			continue
		}
		// The expressions are slow, and most values have nothing of the kind.
		if !strings.ContainsAny(r.value, ":=") || strings.Contains(r.value, "://") && r.urls() {
			continue
		}
		r.machines()
		if strings.Contains(r.value, "=") {
			r.words()
		}
	}
	return r.all
}

// reading is a service whose variables are being read.
type reading struct {
	from     *lab.Service
	variable lab.Variable
	value    string
	all      []Wire
}

// add adds a wire from a match, by the numbers of its groups; port 0: none.
func (r *reading) add(m []int, host, port int) *Wire {
	v := r.variable
	w := Wire{
		From:     r.from,
		Variable: v,
		Host:     strings.Trim(r.value[m[2*host]:m[2*host+1]], "[]"),
		Said:     v.Cut(m[2*host], m[2*host+1]),
		HostAt:   v.Part(m[2*host], m[2*host+1]),
	}
	if port > 0 && m[2*port] >= 0 {
		w.Port, _ = strconv.Atoi(r.value[m[2*port]:m[2*port+1]])
		w.PortAt = v.Part(m[2*port], m[2*port+1])
	}
	r.all = append(r.all, w)
	return &r.all[len(r.all)-1]
}

// with adds what the other end has to agree to.
func (r *reading) with(w *Wire, what string, start, end int) {
	if start < end {
		v := r.variable
		w.With = append(w.With,
			Credential{what, secret.Of(r.value[start:end], what == Password || v.Cut(start, end).Secret()),
				v.Part(start, end), v.Name})
	}
}

// urls reads URLs; false where there are none.
func (r *reading) urls() bool {
	found := patterns()[0].FindAllStringSubmatchIndex(r.value, -1)
	for _, m := range found {
		w := r.add(m, 3, 4)
		r.with(w, User, m[2], m[3])
		r.with(w, Password, m[4], m[5])
		r.with(w, Database, m[10], m[11])
	}
	return found != nil
}

// machines reads a list of machines with their ports.
func (r *reading) machines() {
	start := 0
	for item := range strings.SplitSeq(r.value, ",") {
		if m := patterns()[1].FindStringSubmatchIndex(item); m != nil {
			for i := range m {
				m[i] += start
			}
			r.add(m, 1, 2)
		}
		start += len(item) + len(",")
	}
}

// words reads a connection string, such as host=store user=tides.
func (r *reading) words() {
	m := patterns()[2].FindStringSubmatchIndex(r.value)
	if m == nil {
		return
	}
	w := r.add(m, 1, 2)
	rest := patterns()[3]
	if strings.Contains(r.value, ";") {
		rest = patterns()[4]
	}
	for _, m := range rest.FindAllStringSubmatchIndex(r.value, -1) {
		from, to := max(m[4], m[6], m[8]), max(m[5], m[7], m[9])
		switch key := strings.ToLower(r.value[m[2]:m[3]]); key {
		case "port":
			w.Port, _ = strconv.Atoi(r.value[from:to])
			w.PortAt = r.variable.Part(from, to)
		case "password", "pwd":
			r.with(w, Password, from, to)
		case "dbname", "database":
			r.with(w, Database, from, to)
		default:
			r.with(w, User, from, to)
		}
	}
}

// hostEnds are how the names of variables end that name a machine; the variables that begin like them say
// more of it.
var hostEnds = []string{"HOSTNAME", "HOST", "SERVER", "ADDRESS", "ADDR"}

// paired reads a variable such as STORE_HOST, with the port, the user and whatever else stands in the
// variables that begin like it.
func paired(s *lab.Service, v lab.Variable) (Wire, bool) {
	for _, end := range hostEnds {
		prefix, ok := strings.CutSuffix(v.Name, end)
		if !ok {
			continue
		}
		w := Wire{From: s, Variable: v, Paired: true}
		value := v.Value.Reveal()
		var from, to int
		if m := patterns()[1].FindStringSubmatchIndex(value); m != nil && m[6] < 0 {
			from, to = m[2], m[3]
			w.Port, _ = strconv.Atoi(value[m[4]:m[5]])
			w.PortAt = v.Part(m[4], m[5])
		} else {
			from = len(value) - len(strings.TrimLeft(value, `"'`))
			to = max(from, len(strings.TrimRight(value, `"'`)))
			if _, err := netip.ParseAddr(value[from:to]); from == to ||
				err != nil && strings.ContainsAny(value[from:to], " /\\:=,;") {
				continue
			}
		}
		w.Host, w.Said, w.HostAt = strings.Trim(value[from:to], "[]"), v.Cut(from, to), v.Part(from, to)
		for _, o := range s.Env {
			rest, ours := strings.CutPrefix(o.Name, prefix)
			if !ours || prefix == "" {
				continue
			}
			what := ""
			switch rest {
			case "PORT":
				if port, err := strconv.Atoi(o.Value.Reveal()); err == nil && w.Port == 0 {
					w.Port, w.PortAt = port, o.At
				}
			case "USER", "USERNAME":
				what = User
			case "PASSWORD", "PASS", "PWD":
				what = Password
			case "NAME", "DATABASE", "DB", "DBNAME", "DB_NAME":
				what = Database
			}
			if what != "" && !o.Value.Empty() {
				w.With = append(w.With,
					Credential{what, secret.Of(o.Value.Reveal(), what == Password || o.Value.Secret()), o.At,
						o.Name})
			}
		}
		return w, true
	}
	return Wire{}, false
}

// Opens reports whether the name of a variable says that its value is what the program itself opens.
func Opens(name string) bool {
	name = strings.ToUpper(name)
	return strings.Contains(name, "LISTEN") || strings.Contains(name, "BIND")
}

// ownWords begin the names of pairs such as SERVER_HOST and SERVER_PORT that may say what a program opens
// itself.
var ownWords = []string{"", "APP", "GRPC", "HTTP", "HTTPS", "LOCAL", "SERVER", "WEB"}

// PortOfAnother reports whether a variable such as STORE_PORT belongs to one that names another machine, or may.
func PortOfAnother(s *lab.Service, v lab.Variable) bool {
	prefix, ok := strings.CutSuffix(v.Name, "PORT")
	if !ok || Opens(prefix) {
		return false
	}
	for _, o := range s.Env {
		end, ours := strings.CutPrefix(o.Name, prefix)
		if !ours || !slices.Contains(hostEnds, end) {
			continue
		}
		host := strings.ToLower(strings.Trim(o.Value.Reveal(), `"'[]`))
		address, err := netip.ParseAddr(host)
		wildcard := host == "*" || err == nil && address.IsUnspecified()
		own := host == s.Name || host == s.Hostname ||
			IsLocal(host) && slices.Contains(ownWords, strings.TrimRight(prefix, "_"))
		return !wildcard && !own
	}
	return false
}

// IsLocal reports whether a name or address stands for the container itself.
func IsLocal(host string) bool {
	a, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && (a.IsLoopback() || a.IsUnspecified())
}
