package deploy

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/plan"
)

// Place returns a digest of this machine and a folder on it: where a lab is deployed from.
func Place(folder string) string {
	machine, err := os.ReadFile("/etc/machine-id") // machine-id(5)
	if err != nil || len(strings.TrimSpace(string(machine))) == 0 {
		name, _ := os.Hostname()
		machine = []byte(name)
	}
	sum := sha256.Sum256([]byte("lantern place\x00" + strings.TrimSpace(string(machine)) + "\x00" + folder))
	return hex.EncodeToString(sum[:16])
}

// Elsewhere is services that were deployed under the lab's name from another place.
type Elsewhere struct {
	Place    string
	Services []string // STACK/SERVICE, sorted
}

// Elsewhere returns what runs under the lab's name and was deployed from places that are not known: another
// clone of this lab, or another lab of the same name.
func (d *Deployer) Elsewhere(ctx context.Context, known []string) ([]Elsewhere, error) {
	containers, err := d.Engine.Containers(ctx, d.Lab, "")
	if err != nil {
		return nil, err
	}
	var all []Elsewhere
	for _, c := range containers {
		from, service := c.Labels[plan.LabelFrom], c.Labels[plan.LabelService]
		if from == "" || from == d.From || service == "" || slices.Contains(known, from) {
			continue
		}
		i := slices.IndexFunc(all, func(e Elsewhere) bool { return e.Place == from })
		if i < 0 {
			i = len(all)
			all = append(all, Elsewhere{Place: from})
		}
		all[i].Services = append(all[i].Services, c.Labels[plan.LabelStack]+"/"+service)
	}
	return all, nil
}
