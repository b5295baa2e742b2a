package engine

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/survey"
)

// libpodInfo is where Podman's service tells of itself what the common API leaves out: the oldest version of that API
// which Podman still answers.
const libpodInfo = "/v4.0.0/libpod/info"

// libpod is what Podman's service tells of itself. The zero value is that of any other engine.
type libpod struct {
	Host struct {
		Security struct {
			Rootless bool `json:"rootless"`
			// Capabilities are those that its containers have where nothing is said, as CAP_A,CAP_B.
			Capabilities string `json:"capabilities"`
		} `json:"security"`
		// Controllers are the kinds of limits that it can set (cgroups(7)).
		Controllers []string `json:"cgroupControllers"`
		IDMappings  struct {
			UID []libpodMap `json:"uidmap"`
			GID []libpodMap `json:"gidmap"`
		} `json:"idMappings"`
	} `json:"host"`
}

type libpodMap struct {
	Inside survey.ID `json:"container_id"`
	Host   survey.ID `json:"host_id"`
	Count  survey.ID `json:"size"`
}

// mostInfo is how much of what it tells is read, in bytes.
const mostInfo = 1 << 20

// askLibpod asks for it. Any other engine does not know the question.
func (e *Engine) askLibpod(ctx context.Context) (said libpod) {
	e.raw(ctx, http.MethodGet, libpodInfo, func(answer *http.Response) error {
		if answer.StatusCode != http.StatusOK {
			return nil
		}
		var heard libpod
		err := json.NewDecoder(io.LimitReader(answer.Body, mostInfo)).Decode(&heard)
		if err == nil {
			said = heard
		}
		return err
	})
	return said
}

// lacks returns what an engine without root cannot do, in keys of a service.
func (l libpod) lacks() (keys []string) {
	if !l.Host.Security.Rootless {
		return nil
	}
	keys = []string{"ulimits"} // it takes them, and gives its own
	for key, controller := range map[string]string{"memory": "memory", "cpus": "cpu"} {
		if !slices.Contains(l.Host.Controllers, controller) {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

// notGiven returns those of some capabilities that no container has there unless it asks for them.
func (l libpod) notGiven(capabilities []string) (names []string) {
	if l.Host.Security.Capabilities == "" {
		return nil // another engine, which tells only what was asked for
	}
	usual := strings.Split(l.Host.Security.Capabilities, ",")
	for _, c := range capabilities {
		if !slices.Contains(usual, "CAP_"+c) {
			names = append(names, c)
		}
	}
	return names
}

func idMaps(maps []libpodMap) (all []survey.IDMap) {
	for _, m := range maps {
		all = append(all, survey.IDMap(m))
	}
	return all
}
