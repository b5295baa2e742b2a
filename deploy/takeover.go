package deploy

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// A container of somebody else that a service takes the place of bears no labels of ours, and keeps its name until it
// is removed: stopped is what makes it the safety net. The lock tells which ones these are, so that a deploy that died
// can be finished or undone.

// taking returns a deployer that may stop, start and remove these containers, too.
func (d *Deployer) taking(takes []plan.Taking) *Deployer {
	one := *d
	one.takes = map[string]plan.Taking{}
	for _, t := range takes {
		one.takes[t.ID] = t
	}
	return &one
}

// withTaken returns the containers of a stack, with those of somebody else whose place services take. These look as
// what ran before does: with the labels that it would have, and its name.
func (d *Deployer) withTaken(ctx context.Context, stack string) ([]engine.State, error) {
	containers, err := d.Containers(ctx, stack)
	if err != nil {
		return nil, err
	}
	for _, t := range d.takes {
		c, err := d.inspect(ctx, t.ID)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		c.Name = lab.ContainerName(d.Lab, stack, t.Service) + plan.SuffixPrevious
		c.Labels[plan.LabelStack] = stack
		containers = append(containers, c)
	}
	return containers, nil
}

// inspect looks at a container; at one of somebody else whose place a service takes, with the labels that it would have.
func (d *Deployer) inspect(ctx context.Context, id string) (engine.State, error) {
	c, err := d.Engine.Inspect(ctx, id)
	if t, ok := d.takes[id]; ok && err == nil {
		restart := t.Restart
		restart.Policy = cmp.Or(restart.Policy, "no")
		c.Labels = map[string]string{plan.LabelLab: d.Lab, plan.LabelService: t.Service, plan.LabelRestart: restart.String()}
		if c.Check != nil {
			c.Labels[plan.LabelProof] = plan.Proof{Image: true, Within: time.Minute}.Label()
		}
		if t.Restart.Policy == "" {
			c.Container.Restart = restart // the same, said otherwise: it is not to be changed
		}
	}
	return c, err
}

func takesLabel(takes []plan.Taking) string {
	if takes == nil {
		return ""
	}
	text, err := json.Marshal(takes)
	if err != nil {
		panic("deploy: a taking without JSON: " + err.Error()) // it holds only texts and numbers
	}
	return string(text)
}

// readTakes is the way back from a lock's label. What cannot be read is none.
func readTakes(label string) []plan.Taking {
	var takes []plan.Taking
	if label != "" && json.Unmarshal([]byte(label), &takes) != nil {
		return nil
	}
	return takes
}
