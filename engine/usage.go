package engine

import (
	"context"
	"encoding/json"
	"maps"
	"strings"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// Usage is what a container has used since it started; only its memory is that of now.
type Usage struct {
	Time        time.Time     // when it was read
	CPU         time.Duration // of one processor
	Memory      int64         // bytes, without what the kernel keeps of files and gives back when asked
	MemoryLimit int64         // bytes; that of the machine where the container has none
	Networked   bool          // it has a network of its own, and NetIn and NetOut are known
	NetIn       int64         // bytes
	NetOut      int64         // bytes
	Read        int64         // bytes from disks
	Written     int64         // bytes to disks
}

// Usage returns what a container uses now. Errors: [ErrNotFound].
func (e *Engine) Usage(ctx context.Context, id string) (Usage, error) {
	var said container.StatsResponse
	err := e.call(ctx, "stats", 0, func(ctx context.Context) error {
		answer, err := e.api.ContainerStats(ctx, id, client.ContainerStatsOptions{})
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		return json.NewDecoder(answer.Body).Decode(&said)
	})
	if err != nil {
		return Usage{}, err
	}
	u := Usage{
		Time:        said.Read,
		CPU:         time.Duration(said.CPUStats.CPUUsage.TotalUsage),
		Memory:      int64(said.MemoryStats.Usage),
		MemoryLimit: int64(said.MemoryStats.Limit),
		Networked:   len(said.Networks) > 0,
	}
	if u.Time.IsZero() {
		u.Time = time.Now()
	}
	// cgroup v2 and v1 name the pages of files differently that were not used lately.
	for _, name := range []string{"inactive_file", "total_inactive_file"} {
		if cached, ok := said.MemoryStats.Stats[name]; ok && int64(cached) < u.Memory {
			u.Memory -= int64(cached)
			break
		}
	}
	for n := range maps.Values(said.Networks) {
		u.NetIn += int64(n.RxBytes)
		u.NetOut += int64(n.TxBytes)
	}
	// Podman before 4.8 counts as the host sees it: what a container receives as sent. Those after it name interfaces.
	if _, whole := said.Networks["network"]; whole && len(said.Networks) == 1 {
		u.NetIn, u.NetOut = u.NetOut, u.NetIn
	}
	for _, d := range said.BlkioStats.IoServiceBytesRecursive {
		switch strings.ToLower(d.Op) {
		case "read":
			u.Read += int64(d.Value)
		case "write":
			u.Written += int64(d.Value)
		}
	}
	return u, nil
}

// Rates is what a container uses in a second.
type Rates struct {
	CPU     float64 // percent of one processor
	NetIn   float64 // bytes
	NetOut  float64 // bytes
	Read    float64 // bytes
	Written float64 // bytes
}

// Since returns what was used a second since an earlier look; false where there is nothing to compare: no time has
// gone by, or the container has started again meanwhile.
func (u Usage) Since(before Usage) (Rates, bool) {
	seconds := u.Time.Sub(before.Time).Seconds()
	if seconds <= 0 || before.Time.IsZero() || u.CPU < before.CPU || u.NetIn < before.NetIn || u.Read < before.Read {
		return Rates{}, false
	}
	return Rates{
		CPU:     100 * (u.CPU - before.CPU).Seconds() / seconds,
		NetIn:   float64(u.NetIn-before.NetIn) / seconds,
		NetOut:  float64(u.NetOut-before.NetOut) / seconds,
		Read:    float64(u.Read-before.Read) / seconds,
		Written: float64(u.Written-before.Written) / seconds,
	}, true
}
