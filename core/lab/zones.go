package lab

import (
	_ "embed"
	"slices"
	"strings"
	"sync"
)

//go:embed zones.txt
var zoneText string

// Zones returns the names of the IANA time zone database, sorted (zones.txt, written by scripts/zones).
var Zones = sync.OnceValue(func() []string { return strings.Fields(zoneText) })

// IsZone tells whether name is an IANA time zone, in its right letter case.
func IsZone(name string) bool {
	_, found := slices.BinarySearch(Zones(), name)
	return found
}
