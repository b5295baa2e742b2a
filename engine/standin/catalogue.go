// Package standin is a container engine that runs nothing: it serves the engine API over a unix socket from
// memory, for the demo, for tests and for trying things without an engine. Published ports are really
// listened on (on loopback), pages answer, a port in use is the same error as a real engine's, and what an
// image declares and how it behaves stands in a catalogue.
package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"github.com/pelletier/go-toml/v2"
)

// Catalogue says which images there are, by reference.
type Catalogue struct {
	Image map[string]Image `toml:"image"`
}

// Image is what an image declares, and how a container of it behaves.
type Image struct {
	Present    bool              `toml:"present"` // on the host already; others have to be pulled
	Platform   string            `toml:"platform"`
	Ports      []string          `toml:"ports"` // "80/tcp"; the container listens on them
	Volumes    []string          `toml:"volumes"`
	User       string            `toml:"user"`
	Env        map[string]string `toml:"env"`
	Labels     map[string]string `toml:"labels"`
	Layers     []int64           `toml:"layers"` // sizes in bytes, for pulls
	ReadyAfter Duration          `toml:"ready-after"`
	Page       map[string]string `toml:"page"` // by container port; before ready-after they answer 503
	// a variable that says on which port it has its page, where it is set
	PagePort string   `toml:"page-port"`
	Echo     bool     `toml:"echo"`     // pages tell user and environment instead, as JSON
	Log      []string `toml:"log"`      // said when it starts; the last line when it is ready
	Errors   []string `toml:"errors"`   // said to standard error when it starts
	Programs []string `toml:"programs"` // that can be run inside; they end with 0 once it is ready, else with 1
	// what a command line says that is run inside; it ends with 0
	Says       map[string]string `toml:"says"`
	Check      []string          `toml:"check"` // the image's own check
	Exits      *int              `toml:"exits"`
	ExitsAfter Duration          `toml:"exits-after"`
	NeverReady bool              `toml:"never-ready"`
	// what files inside hold, by their paths; MADE is a word by chance of each container
	Files map[string]string `toml:"files"`

	made bool // by a build
}

// Duration is a time.Duration that reads "300ms".
type Duration struct{ time.Duration }

// UnmarshalText reads a duration as package time writes it.
func (d *Duration) UnmarshalText(text []byte) (err error) {
	d.Duration, err = time.ParseDuration(string(text))
	return err
}

// ParseCatalogue reads a catalogue.
func ParseCatalogue(text []byte) (Catalogue, error) {
	var c Catalogue
	if err := toml.Unmarshal(text, &c); err != nil {
		return c, fmt.Errorf("image catalogue: %w", err)
	}
	return c, nil
}

// id returns the id of an image: a digest of all that is said of it. That of one that was built does not depend on its name.
func (i Image) id(reference string) string {
	if i.made {
		reference = ""
	}
	sum := sha256.Sum256([]byte(fmt.Sprintf("%s %+v %v", reference, i, i.Exits != nil)))
	return "sha256:" + hex.EncodeToString(sum[:])
}
