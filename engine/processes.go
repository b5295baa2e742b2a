package engine

import (
	"context"
	"strconv"
	"strings"

	"github.com/moby/moby/client"
)

// Process is one that runs inside a container.
type Process struct {
	PID     int     `json:"pid"` // on the host
	User    string  `json:"user"`
	Command string  `json:"command"`
	CPU     float64 `json:"cpu"`    // percent of one processor, over its whole life
	Memory  int64   `json:"memory"` // bytes that it holds in memory
}

// Processes returns what runs inside a container. Errors: [ErrNotFound].
func (e *Engine) Processes(ctx context.Context, id string) ([]Process, error) {
	var top client.ContainerTopResult
	err := e.call(ctx, "top", 0, func(ctx context.Context) (err error) {
		top, err = e.api.ContainerTop(ctx, id, client.ContainerTopOptions{
			Arguments: e.can.processes,
		})
		return err
	})
	if err != nil {
		return nil, err
	}
	list := []Process{}
	for _, row := range top.Processes {
		p := Process{}
		for i, field := range row {
			if i >= len(top.Titles) {
				break
			}
			switch strings.ToUpper(top.Titles[i]) {
			case "PID", "HPID":
				p.PID, _ = strconv.Atoi(field)
			case "USER":
				p.User = short(field)
			case "%CPU":
				p.CPU, _ = strconv.ParseFloat(field, 64)
			case "RSS":
				kib, _ := strconv.ParseInt(field, 10, 64)
				p.Memory = kib << 10
			case "COMMAND", "CMD":
				p.Command = short(strings.Join(row[i:], " "))
			}
		}
		list = append(list, p)
	}
	return list, nil
}
