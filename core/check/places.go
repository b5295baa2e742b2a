package check

import (
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
)

// settingAt returns where a setting of a service stands: the value that says so, else the service's name.
func settingAt(s *lab.Service, key string) source.Span {
	d := s.Declared()
	if d.Settings == nil {
		return s.At
	}
	var text declare.Text
	switch key {
	case "memory":
		text = d.Settings.Memory
	case "cpus":
		text = d.Settings.CPUs
	case "network":
		text = d.Settings.Network
	case "log-limit":
		text = d.LogLimit
	case "ulimits":
		if len(d.Settings.Ulimits) > 0 {
			text = d.Settings.Ulimits[0].Text
		}
	default:
		if at, ok := d.Settings.Switches[key]; ok {
			return at
		}
	}
	return textAt(s, text)
}

// textAt returns where a declared text stands, without its quotes; the service's name where it is not
// declared there.
func textAt(s *lab.Service, t declare.Text) source.Span {
	if !t.IsSet() || t.Span.IsZero() {
		return s.At
	}
	return t.Part(0, len(t.Value))
}
