package standin

import (
	"encoding/json"
	"hash/fnv"
	"maps"
	"net/http"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/events"
)

// tellOf tells those who listen for events what has happened to a container.
func (s *Server) tellOf(b *simulatedContainer, what events.Action) {
	m := events.Message{
		Type: events.ContainerEventType, Action: what, TimeNano: time.Now().UnixNano(),
		Actor: events.Actor{ID: b.id, Attributes: maps.Clone(b.config.Labels)},
	}
	s.hearers.Range(func(hearer, _ any) bool {
		select {
		case hearer.(chan events.Message) <- m:
		default: // one that does not listen must not hold up all others
		}
		return true
	})
}

// events streams what happens to containers with the labels that are asked for.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	labels, err := labelFilter(r)
	if err != nil {
		http.Error(w, `{"message":"the filter cannot be read"}`, http.StatusBadRequest)
		return
	}
	hearer := make(chan events.Message, 256)
	s.hearers.Store(hearer, true)
	defer s.hearers.Delete(hearer)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(200)
	out := http.NewResponseController(w)
	for out.Flush() == nil {
		select {
		case m := <-hearer:
			if matches(labels, m.Actor.Attributes) {
				json.NewEncoder(w).Encode(m)
			}
		case <-r.Context().Done():
			return
		}
	}
}

// stats tells what a container uses: made-up figures that follow from its name and how long it runs.
func (s *Server) stats(b *simulatedContainer, _ *http.Request) (int, any, error) {
	answer := container.StatsResponse{ID: b.id, Name: "/" + b.name, Read: time.Now()}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.run == nil {
		return 200, answer, nil
	}
	h := fnv.New32a()
	h.Write([]byte(b.config.Image))
	size := uint64(h.Sum32()%900) + 100
	started, _ := time.Parse(time.RFC3339Nano, b.state.StartedAt)
	ran := uint64(time.Since(started).Milliseconds())
	answer.CPUStats.CPUUsage.TotalUsage = ran * size * 100
	answer.MemoryStats.Usage, answer.MemoryStats.Limit = size<<18, 8<<30
	if len(b.networks) > 0 {
		answer.Networks = map[string]container.NetworkStats{"eth0": {RxBytes: ran * size / 9, TxBytes: ran * size / 70}}
	}
	answer.BlkioStats.IoServiceBytesRecursive = []container.BlkioStatEntry{
		{Op: "read", Value: size << 12}, {Op: "write", Value: ran * size / 70},
	}
	return 200, answer, nil
}
