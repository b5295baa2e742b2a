package deploy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/wiring"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// move is a network that is made again under its name, and who was on it. It goes along with the lock, so that
// there is a way back after a death at any moment.
type move struct {
	Was, Is plan.Network
	Stack   string // whose own it is; "" for a shared one
	Entry   string
	Members []member
}

// member is a container on a network.
type member struct {
	ID, Name string
	Aliases  []string
}

// attachments is the text of [plan.LabelNames].
func attachments(on []plan.Attachment) string {
	text, err := json.Marshal(on)
	if err != nil {
		panic("deploy: names without JSON: " + err.Error()) // it holds only texts
	}
	return string(text)
}

// aliases returns the names of a container on a network: those that it was made with, else those that the
// engine shows.
func aliases(c engine.State, network string) []string {
	var on []plan.Attachment
	if json.Unmarshal([]byte(c.Labels[plan.LabelNames]), &on) != nil {
		on = c.Container.Networks
	}
	for _, a := range on {
		if a.Network == network {
			return a.Aliases
		}
	}
	return nil
}

// moves returns the networks that a plan makes again.
func (d *Deployer) moves(ctx context.Context, p plan.Stack) ([]move, error) {
	var all []move
	for _, n := range wiring.NetworksOf(p.Stack) {
		if !slices.ContainsFunc(p.Networks, func(r plan.Resource) bool {
			return r.Name == n.Name && r.Action == plan.Replace
		}) {
			continue
		}
		networks, err := d.Engine.Networks(ctx, d.Lab)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(networks, func(f survey.Network) bool { return f.Name == n.Name })
		if i < 0 {
			continue
		}
		was := networks[i]
		m := move{Was: n, Is: n, Stack: was.Stack, Entry: was.Entry}
		m.Was.Internal, m.Was.Subnet = was.Internal, ""
		if len(was.Subnets) > 0 {
			m.Was.Subnet = was.Subnets[0]
		}
		containers, err := d.Engine.Containers(ctx, d.Lab, "")
		if err != nil {
			return nil, err
		}
		for _, c := range containers {
			if observe.OnNetwork(c, n.Name) {
				m.Members = append(m.Members, member{c.ID, c.Name, aliases(c, n.Name)})
			}
		}
		all = append(all, m)
	}
	return all, nil
}

func movesLabel(moves []move) string {
	if moves == nil {
		return ""
	}
	text, err := json.Marshal(moves)
	if err != nil {
		panic("deploy: a move without JSON: " + err.Error()) // it holds only texts
	}
	return string(text)
}

// readMoves is the way back from a lock's label. What cannot be read is no move.
func readMoves(label string) []move {
	var moves []move
	if label != "" && json.Unmarshal([]byte(label), &moves) != nil {
		return nil
	}
	return moves
}

// move makes a network what it shall be, with all its members on it. It can be run again from any point, in
// either direction.
func (d *Deployer) move(ctx context.Context, stack string, m move, want plan.Network) error {
	networks, err := d.Engine.Networks(ctx, d.Lab)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(networks, func(n survey.Network) bool { return n.Name == want.Name })
	as := i >= 0 && networks[i].Internal == want.Internal &&
		(want.Subnet == "" || slices.Contains(networks[i].Subnets, want.Subnet))
	if i >= 0 && !as {
		d.event(stack, "", StepStop, EventBegun, "the network "+want.Name)
		for _, c := range m.Members {
			now, err := d.Engine.Inspect(ctx, c.ID)
			if errors.Is(err, engine.ErrNotFound) || err == nil && !observe.OnNetwork(now, want.Name) {
				continue
			}
			if err == nil {
				err = d.disconnect(ctx, c.ID, want.Name)
			}
			if err != nil {
				return fmt.Errorf("%s cannot be taken off the network %s: %w", c.Name, want.Name, err)
			}
		}
		if err := d.Engine.RemoveNetwork(ctx, want.Name, d.Lab); err != nil {
			return fmt.Errorf("the network %s: %w", want.Name, err)
		}
	}
	if !as {
		labels := map[string]string{plan.LabelLab: d.Lab}
		if m.Stack != "" {
			labels[plan.LabelStack], labels[plan.LabelEntry] = m.Stack, m.Entry
		}
		if _, err := d.Engine.CreateNetwork(ctx, want, labels); err != nil {
			return fmt.Errorf("the network %s: %w", want.Name, err)
		}
	}
	for _, c := range m.Members {
		now, err := d.Engine.Inspect(ctx, c.ID)
		if errors.Is(err, engine.ErrNotFound) || err == nil && observe.OnNetwork(now, want.Name) {
			continue
		}
		if err == nil {
			err = d.connect(ctx, c.ID, plan.Attachment{Network: want.Name, Aliases: c.Aliases})
		}
		if err != nil {
			return fmt.Errorf("%s cannot be put on the network %s: %w", c.Name, want.Name, err)
		}
	}
	if !as {
		d.event(stack, "", StepCreate, EventDone, "the network "+want.Name)
	}
	return nil
}

// obstacle says what keeps a plan from being carried out at all, so that nothing is begun; "" when nothing
// does.
func (d *Deployer) obstacle(ctx context.Context, p plan.Stack) (string, error) {
	for _, t := range p.Takings() {
		if name := p.Stack.Service(t.Service).ContainerName(); name == t.Name {
			return fmt.Sprintf("the container that is to be taken over has the very name that the new one gets, %s: "+
				"give the stack or the service another name", name), nil
		}
	}
	for _, v := range p.Services {
		if v.Running != nil && v.Running.Fleeing && v.Action == plan.Replace {
			return fmt.Sprintf("the engine removes the container %s as soon as it ends, so there would be no way back: "+
				"end it yourself first", v.Running.Name), nil
		}
	}
	for _, v := range p.Volumes {
		if v.Action == plan.Replace {
			return fmt.Sprintf(
				"the volume %s is there with another %s than declared, and what it holds does not move by "+
					"itself: declare the volume under another name, or as it was",
				v.Name, v.Differences[0].Field), nil
		}
	}
	for _, n := range p.Networks {
		if n.Action != plan.Replace {
			continue
		}
		others, err := d.Engine.Survey(ctx)
		if err != nil {
			return "", err
		}
		for _, c := range others {
			switch {
			case !slices.Contains(c.Networks, n.Name):
			case c.Lab != d.Lab:
				return fmt.Sprintf(
					"the network %s has to be made again, and the container %s is on it, which is not of "+
						"this lab: take it off first", n.Name, c.Name), nil
			case c.Stack != p.Stack.Name && slices.ContainsFunc(others, func(o survey.Container) bool {
				return o.Lab == d.Lab && o.Stack == c.Stack && o.Service == ""
			}):
				return fmt.Sprintf(
					"the network %s has to be made again, and %s on it is being deployed: try "+
						"again when that has ended", n.Name, c.Stack), nil
			}
		}
	}
	return "", nil
}
