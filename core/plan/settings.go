package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/secret"
)

// settingFields give each setting in the words of stack.toml; "" where nothing is declared.
var settingFields = []struct {
	name  string
	words func(c Container) string
}{
	{"platform", func(c Container) string { return c.Settings.Platform }},
	{"working-dir", func(c Container) string { return c.Settings.WorkingDir }},
	{"hostname", func(c Container) string { return c.Hostname }},
	{"extra-groups", func(c Container) string { return strings.Join(c.Settings.Groups, ", ") }},
	{"network", func(c Container) string { return c.Mode }},
	{"shares-network-with", func(c Container) string { return c.NetworkOf }},
	{"networks", func(c Container) string {
		return each(c.Networks, func(n Attachment) string { return n.Network })
	}},
	{"aliases", func(c Container) string {
		var all []string
		for _, n := range c.Networks {
			all = append(all, n.Aliases...)
		}
		return strings.Join(all, ", ")
	}},
	{"memory", func(c Container) string { return size(c.Settings.Memory) }},
	{"shared-memory", func(c Container) string { return size(c.Settings.SharedMemory) }},
	{"cpus", func(c Container) string { return amount(c.Settings.CPUs) }},
	{"devices", func(c Container) string { return joined(c.Settings.Devices) }},
	{"capabilities", func(c Container) string { return strings.Join(c.Settings.Capabilities, ", ") }},
	{"drop-capabilities", func(c Container) string { return strings.Join(c.Settings.Dropped, ", ") }},
	{"privileged", func(c Container) string { return yes(c.Settings.Privileged, "true") }},
	{"read-only", func(c Container) string { return yes(c.Settings.ReadOnly, "true") }},
	{"init", func(c Container) string { return yes(c.Settings.Init, "true") }},
	{"pid", func(c Container) string { return yes(c.Settings.HostPID, "host") }},
	{"ipc", func(c Container) string { return yes(c.Settings.HostIPC, "host") }},
	{"cgroup", func(c Container) string { return yes(c.Settings.HostCgroup, "host") }},
	{"sysctls", func(c Container) string { return joined(c.Settings.Sysctls) }},
	{"labels", func(c Container) string { return joined(c.Settings.Labels) }},
	{"ulimits", func(c Container) string { return joined(c.Settings.Ulimits) }},
	{"address-book", func(c Container) string { return joined(c.Settings.AddressBook) }},
	{"dns", func(c Container) string { return strings.Join(c.Settings.DNS, ", ") }},
	{"stop-signal", func(c Container) string { return c.Settings.StopSignal }},
}

// settingsDifferences compares settings field by field. What the engine does not show is no difference.
func settingsDifferences(running, declared Container) []Difference {
	var d []Difference
	words := func(field string, a, b []secret.Text) {
		same := slices.EqualFunc(a, b, secret.Text.Same) && (a == nil) == (b == nil)
		if !same && !slices.Contains(running.NotReported, field) {
			// Which of the words that run is the secret, is not remembered; one that the files show is
			// none.
			shown := slices.Clone(a)
			for i, w := range a {
				if plain := secret.Plain(w.Reveal()); slices.Contains(b, plain) {
					shown[i] = plain
				}
			}
			d = append(d, Difference{field, quoted(shown), quoted(b)})
		}
	}
	words("command", running.Settings.Command, declared.Settings.Command)
	words("entrypoint", running.Settings.Entrypoint, declared.Settings.Entrypoint)
	for _, f := range settingFields {
		a, b := f.words(running), f.words(declared)
		if a != b && !slices.Contains(running.NotReported, f.name) {
			d = append(d, Difference{f.name, hidden(a, running.hides(f.name)), hidden(b, declared.hides(f.name))})
		}
	}
	return d
}

// hidden returns what may be shown of a value; that there is one, may.
func hidden(value string, hides bool) string {
	return secret.Of(value, hides).String()
}

func quoted(list []secret.Text) string {
	if list == nil {
		return ""
	}
	return "[" + each(list, func(t secret.Text) string {
		if t.Secret() {
			return t.String()
		}
		return strconv.Quote(t.String())
	}) + "]"
}

func each[T any](list []T, text func(T) string) string {
	words := make([]string, len(list))
	for i, v := range list {
		words[i] = text(v)
	}
	return strings.Join(words, ", ")
}

func joined[T fmt.Stringer](list []T) string {
	return each(list, func(w T) string { return w.String() })
}

func size(n int64) string {
	if n == 0 {
		return ""
	}
	return units.BytesSize(float64(n))
}

func amount(n float64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatFloat(n, 'g', -1, 64)
}

func yes(is bool, word string) string {
	if is {
		return word
	}
	return ""
}
