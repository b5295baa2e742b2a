package plan

import (
	"slices"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

// fill puts values that have come to light into the environment.
func (c *Container) fill(values map[*lab.Later]string) {
	c.Env = slices.Clone(c.Env)
	for i, v := range c.Env {
		for _, l := range v.Later {
			if value, ok := values[l]; ok {
				v.Value = secret.Of(l.Fill(v.Value.Reveal(), value), true)
			}
		}
		c.Env[i] = v
	}
}

// Complete returns the container as it can be made: with values that services have made by now, and with what the one
// that runs has already. What a service does without later is left out of it then. Missing is a value that is not
// known, nil where all are.
func (s Service) Complete(made map[*lab.Later]string) (c Container, missing *lab.Later) {
	c = s.Container
	c.fill(made)
	c.Env = slices.DeleteFunc(c.Env, func(v Variable) bool { return s.Running != nil && v.lacks() && v.spent() })
	for i, v := range c.Env {
		if s.Running != nil && v.lacks() {
			for _, r := range s.Running.Container.Env {
				if r.Name == v.Name {
					c.Env[i].Value = secret.Of(r.Value.Reveal(), true)
				}
			}
		}
		for _, l := range c.Env[i].Later {
			if l.Lacks(c.Env[i].Value.Reveal()) {
				return c, l
			}
		}
	}
	return c, nil
}

// ask notes what a person has to say before services can be deployed.
func (p *Stack) ask() {
	for i := range p.Services {
		s := &p.Services[i]
		if s.Action != Create && s.Action != Replace {
			continue
		}
		made := map[*lab.Later]string{}
		for _, v := range s.Container.Env {
			for _, l := range v.Later {
				if l.From != nil {
					made[l] = "later" // the deploy finds it
				}
			}
		}
		for {
			_, l := s.Complete(made)
			if l == nil {
				break
			}
			made[l] = "asked"
			s.Asks = append(s.Asks, l)
		}
	}
}

// Asked returns the values that a person has to give before the stack can be deployed, each once.
func (p Stack) Asked() []*lab.Later {
	var all []*lab.Later
	for _, s := range p.Services {
		for _, l := range s.Asks {
			if !s.LeftOut && !slices.ContainsFunc(all, func(o *lab.Later) bool { return o.Name == l.Name && o.Ask == l.Ask }) {
				all = append(all, l)
			}
		}
	}
	return all
}
