package sites

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"
	"time"
)

// Access is a line of a gate's access log: a request and what was answered.
type Access struct {
	Time     time.Time `json:"time"`
	Site     string    `json:"site"`    // domain and path, as it is declared; "" for none
	Service  string    `json:"service"` // STACK/SERVICE
	Client   string    `json:"client"`  // its address, or its network
	Method   string    `json:"method"`
	Host     string    `json:"host"`
	Path     string    `json:"path"` // without its question
	Protocol string    `json:"protocol"`
	Status   int       `json:"status"`
	Bytes    int64     `json:"bytes"`
	Ms       float64   `json:"ms"`
	Referrer string    `json:"referrer,omitempty"`
	Agent    string    `json:"agent,omitempty"`
	User     string    `json:"user,omitempty"`
	Broken   bool      `json:"broken,omitempty"` // the service broke off in the middle
}

// ReadAccess reads a line of a gate's log; false for what is no access to a site.
func ReadAccess(line string) (a Access, ok bool) {
	if json.Unmarshal([]byte(line), &a) != nil || a.Site == "" || a.Status == 0 {
		return Access{}, false
	}
	return a, true
}

// Visits is what an access log tells of a site.
type Visits struct {
	Site      string         `json:"site"`
	Requests  int            `json:"requests"`
	Bytes     int64          `json:"bytes"`
	Visitors  int            `json:"visitors"` // addresses, or networks where they are shortened
	Statuses  map[string]int `json:"statuses"`
	Paths     []PathCount    `json:"paths"` // the most asked for, first
	Referrers []Referrer     `json:"referrers"`
	Hours     [24]int        `json:"hours"` // requests by the hour of the day

	Errors int       `json:"-"` // answers from 500 on
	First  time.Time `json:"-"`
	Last   time.Time `json:"-"`
}

// PathCount is how often a path was asked for.
type PathCount struct {
	Path     string `json:"path"`
	Requests int    `json:"requests"`
}

// Referrer is how often visitors came from a page.
type Referrer struct {
	Referrer string `json:"referrer"`
	Requests int    `json:"requests"`
}

// Counter counts accesses by sites. However many different visitors and paths there are, it stays small.
type Counter struct {
	zone *time.Location
	all  map[string]*counts
}

type counts struct {
	Visits
	visitors, paths, referrers map[string]int
}

const (
	mostDifferent = 100_000 // visitors, paths or referrers of a site that are told apart
	mostTop       = 10
)

// NewCounter counts with the hours of a time zone.
func NewCounter(zone *time.Location) *Counter { return &Counter{zone, map[string]*counts{}} }

// Add counts an access.
func (c *Counter) Add(a Access) {
	v := c.all[a.Site]
	if v == nil {
		v = &counts{Visits: Visits{Site: a.Site, Statuses: map[string]int{}}, visitors: map[string]int{}, paths: map[string]int{}, referrers: map[string]int{}}
		c.all[a.Site] = v
	}
	v.Requests++
	v.Bytes += a.Bytes
	if a.Status >= 500 {
		v.Errors++
	}
	v.Statuses[statusText(a.Status)]++
	v.Hours[a.Time.In(c.zone).Hour()]++
	if v.First.IsZero() || a.Time.Before(v.First) {
		v.First = a.Time
	}
	if a.Time.After(v.Last) {
		v.Last = a.Time
	}
	count(v.visitors, a.Client)
	count(v.paths, a.Path)
	if a.Referrer != "" {
		count(v.referrers, a.Referrer)
	}
}

func statusText(status int) string {
	text, _ := json.Marshal(status)
	return string(text)
}

func count(in map[string]int, key string) {
	if _, there := in[key]; there || len(in) < mostDifferent {
		in[key]++
	}
}

// Visits returns what was counted, by site; also of those sites that nobody has visited.
func (c *Counter) Visits(sites []string) []Visits {
	out := []Visits{}
	for _, site := range sites {
		v := c.all[site]
		if v == nil {
			v = &counts{Visits: Visits{Site: site, Statuses: map[string]int{}}}
		}
		v.Visitors = len(v.visitors)
		v.Paths, v.Referrers = []PathCount{}, []Referrer{}
		for _, key := range top(v.paths) {
			v.Paths = append(v.Paths, PathCount{key, v.paths[key]})
		}
		for _, key := range top(v.referrers) {
			v.Referrers = append(v.Referrers, Referrer{key, v.referrers[key]})
		}
		out = append(out, v.Visits)
	}
	return out
}

func top(in map[string]int) []string {
	keys := slices.Collect(maps.Keys(in))
	slices.SortFunc(keys, func(a, b string) int { return cmp.Or(in[b]-in[a], cmp.Compare(a, b)) })
	return keys[:min(len(keys), mostTop)]
}
