package observe

import (
	"context"
	"slices"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// Made reads the values that other services have made for some of a stack, out of their containers. Those that cannot
// be had, or are not there yet, are left out.
func (o *Observer) Made(ctx context.Context, services []*lab.Service, containers []engine.State) map[*lab.Later]string {
	made, texts := map[*lab.Later]string{}, map[string]string{}
	for _, s := range services {
		for _, v := range s.Env {
			for _, l := range v.Later {
				if l.From == nil {
					continue
				}
				at := l.From.ContainerName() + l.File
				text, read := texts[at]
				if !read {
					text = o.textInside(ctx, l, containers)
					texts[at] = text
				}
				if value, ok := l.Find(text); ok {
					made[l] = value
				}
			}
		}
	}
	if o.Learn != nil {
		for _, value := range made {
			o.Learn(value)
		}
	}
	return made
}

// textInside returns the text of the file that a value is in; "" where there is none, or it is too large.
func (o *Observer) textInside(ctx context.Context, l *lab.Later, containers []engine.State) string {
	name := l.From.ContainerName()
	i := slices.IndexFunc(containers, func(c engine.State) bool { return c.Name == name })
	var c engine.State
	if i >= 0 {
		c = containers[i]
	} else { // of another stack, or made a moment ago
		found, err := o.Engine.Inspect(ctx, name)
		if err != nil {
			return ""
		}
		c = found
	}
	if c.Labels[plan.LabelLab] != o.Lab {
		return ""
	}
	text, err := o.Engine.ReadInside(ctx, c.ID, l.File, lab.MostRead)
	if err != nil {
		return ""
	}
	return text
}
