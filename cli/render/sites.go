package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/chart"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/sites"
)

// SiteList is what sites writes for programs.
type SiteList struct {
	Version   int              `json:"version"`
	Sites     []app.SiteStatus `json:"sites"`
	Unreached []UnreachedHost  `json:"unreached,omitempty"`
}

// NewSiteList is as [NewStates].
func NewSiteList(list []app.SiteStatus, unreached []UnreachedHost) SiteList {
	return SiteList{first, append([]app.SiteStatus{}, list...), unreached}
}

// VisitList is what sites --visits writes for programs.
type VisitList struct {
	Version   int             `json:"version"`
	Visits    []sites.Visits  `json:"visits"`
	Unreached []UnreachedHost `json:"unreached,omitempty"`
}

// NewVisitList is as [NewStates].
func NewVisitList(list []sites.Visits, unreached []UnreachedHost) VisitList {
	return VisitList{first, append([]sites.Visits{}, list...), unreached}
}

// AuthorityList is what sites --trust writes for programs.
type AuthorityList struct {
	Version     int             `json:"version"`
	Authorities []app.Authority `json:"authorities"`
}

// NewAuthorityList is as [NewStates].
func NewAuthorityList(list []app.Authority) AuthorityList {
	return AuthorityList{first, append([]app.Authority{}, list...)}
}

// Sites writes how it stands with sites.
func Sites(w io.Writer, p Paint, all []app.SiteStatus, now time.Time) {
	if len(all) == 0 {
		fmt.Fprintln(w, p.Faint("no service has a site: sites = [\"DOMAIN -> PORT\"] in its part of stack.toml makes one"))
		return
	}
	var rows [][]string
	for _, s := range all {
		site := s.URL
		if site == "" {
			site = s.Site
		}
		errs := ""
		if s.Errors > 0 {
			errs = p.Bad(fmt.Sprint(s.Errors))
		}
		rows = append(rows, []string{
			site, s.Stack + "/" + s.Service + " " + p.Faint(fmt.Sprint(s.Port)), answersOf(p, s), certificateOf(p, s.Certificate, now), s.SignIn,
			fmt.Sprint(s.Requests), errs,
		})
	}
	columns(w, p, []string{"site", "leads to", "answers", "certificate", "sign-in", "requests in 24 h", "errors"}, rows)
	said := false
	for _, s := range all {
		for _, why := range []string{s.Answers.Problem, s.Certificate.Problem} {
			if why == "" {
				continue
			}
			if !said {
				fmt.Fprintln(w)
				said = true
			}
			for i, row := range p.Lines(Harmless(why), len(s.Site)+4) {
				name := p.Head(s.Site)
				if i > 0 {
					name = strings.Repeat(" ", len(s.Site))
				}
				fmt.Fprintf(w, "  %s  %s\n", name, row)
			}
		}
	}
}

func answersOf(p Paint, s app.SiteStatus) string {
	a := s.Answers
	switch {
	case a.Here && a.Gate:
		return p.Good("yes") + p.Faint(fmt.Sprintf(", %d", a.Status))
	case a.Gate && s.URL == "":
		return p.Good("the gate") + p.Faint(fmt.Sprintf(", %d", a.Status))
	case a.Gate:
		return p.Look("the gate only")
	}
	return p.Bad("no")
}

func certificateOf(p Paint, c app.SiteCertificate, now time.Time) string {
	kind := map[string]string{"own": "the lab's own", "files": "of your own", "none": "none"}[c.Kind]
	if kind == "" {
		kind = c.Issuer
	}
	if kind == "" {
		kind = c.Kind
	}
	switch {
	case c.Until == nil && c.Problem != "":
		return p.Bad("none yet")
	case c.Until == nil:
		return kind
	case c.Problem != "":
		return kind + p.Bad(" until "+c.Until.Local().Format(time.DateOnly))
	case c.Until.Sub(now) < 7*24*time.Hour && c.Kind == "files":
		return kind + p.Look(" until "+c.Until.Local().Format(time.DateOnly))
	}
	return kind + p.Faint(" until "+c.Until.Local().Format(time.DateOnly))
}

// Visits writes what access logs tell.
func Visits(w io.Writer, p Paint, all []sites.Visits) {
	for i, v := range all {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s  %s\n", p.Head(v.Site), p.Faint(visitsSum(v)))
		if v.Requests == 0 {
			continue
		}
		var answers []string
		for _, status := range sortedKeys(v.Statuses) {
			answers = append(answers, fmt.Sprintf("%s × %d", status, v.Statuses[status]))
		}
		fmt.Fprintf(w, "  %s  %s\n", p.Faint("answers"), strings.Join(answers, ", "))
		fmt.Fprintf(w, "  %s    %s %s\n", p.Faint("hours"), p.Good(hoursLine(v.Hours)), p.Faint("0 to 23 o'clock"))
		var rows [][]string
		for _, path := range v.Paths {
			rows = append(rows, []string{fmt.Sprint(path.Requests), Harmless(path.Path)})
		}
		columns(w, p, []string{"requests", "path"}, rows)
		rows = nil
		for _, r := range v.Referrers {
			rows = append(rows, []string{fmt.Sprint(r.Requests), Harmless(r.Referrer)})
		}
		if rows != nil {
			columns(w, p, []string{"requests", "came from"}, rows)
		}
	}
}

func sortedKeys(m map[string]int) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func visitsSum(v sites.Visits) string {
	if v.Requests == 0 {
		return "nobody was there"
	}
	return fmt.Sprintf("%s, %s, %s, from %s to %s", declare.Counted(v.Requests, "request"), declare.Counted(v.Visitors, "visitor"), chart.Amount(v.Bytes),
		v.First.Local().Format("2006-01-02 15:04"), v.Last.Local().Format("2006-01-02 15:04"))
}

// hoursLine draws 24 numbers as bars of one line.
func hoursLine(hours [24]int) string {
	const bars = "▁▂▃▄▅▆▇█"
	most := slices.Max(hours[:])
	var b strings.Builder
	for _, n := range hours {
		if n == 0 || most == 0 {
			b.WriteRune('·')
			continue
		}
		b.WriteString(string([]rune(bars)[min(7, n*8/(most+1))]))
	}
	return b.String()
}

// DrawVisits lays visits out for [MapSVG] and [MapPNG].
func DrawVisits(lab string, all []sites.Visits) (chart.Drawing, error) {
	f, err := newFonts()
	if err != nil {
		return chart.Drawing{}, err
	}
	var from, to time.Time
	for _, v := range all {
		if v.Requests > 0 && (from.IsZero() || v.First.Before(from)) {
			from = v.First
		}
		if v.Last.After(to) {
			to = v.Last
		}
	}
	when := "nobody was there"
	if !from.IsZero() {
		when = "requests by the hour of the day, from " + from.Local().Format("2006-01-02 15:04") + " to " + to.Local().Format("2006-01-02 15:04")
	}
	return chart.DrawVisits("Visits of "+lab, when, all, f.measure), nil
}

// Trust writes how devices are brought to trust the lab's own authorities.
func Trust(w io.Writer, p Paint, lab string, all []app.Authority) {
	var domains []string
	for _, a := range all {
		domains = append(domains, a.Domains...)
	}
	fmt.Fprintf(w, "%s\n", p.Head("The authority of "+lab+", for "+strings.Join(domains, ", ")+" and nothing else"))
	for _, row := range p.Lines("Who trusts it, sees the lab's sites without a warning. Its certificate is no secret; what it can speak for is "+
		"written into it. Save what follows as "+lab+".pem (lantern sites --trust -o "+lab+".pem does), and bring it to each device.", 0) {
		fmt.Fprintln(w, row)
	}
	fmt.Fprintln(w)
	for _, how := range []struct{ device, steps string }{
		{"Debian and its kin", "as root: cp " + lab + ".pem /usr/local/share/ca-certificates/" + lab + ".crt && update-ca-certificates"},
		{"Fedora and its kin", "as root: cp " + lab + ".pem /etc/pki/ca-trust/source/anchors/ && update-ca-trust"},
		{"a browser on Linux with a store of its own (NSS)", `certutil -d sql:$HOME/.pki/nssdb -A -t "C,," -n ` + lab + " -i " + lab + ".pem (package libnss3-tools)"},
		{"Windows", "double-click the file (named .crt), Install Certificate, Local Machine, and place it into Trusted Root Certification Authorities"},
		{"macOS", "open the file: it goes into the login keychain; there open it, Trust, and set Secure Sockets Layer to Always Trust"},
		{"iPhone and iPad", "open the file, Settings, Profile Downloaded, Install; then General, About, Certificate Trust Settings: switch it on"},
		{"Android", "Settings, Security, Encryption and credentials, Install a certificate, CA certificate, and choose the file"},
		{"one program", "curl --cacert " + lab + ".pem https://…"},
	} {
		fmt.Fprintln(w, p.Head(how.device))
		for _, row := range p.Lines(how.steps, 2) {
			fmt.Fprintln(w, "  "+row)
		}
	}
	fmt.Fprintln(w)
	for _, a := range all {
		fmt.Fprint(w, a.PEM)
	}
}
