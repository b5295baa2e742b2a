package plan

import (
	"encoding/json"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

// Labels of services of a cluster.
const (
	LabelContainer = "proudlantern.container" // what it was declared as, see [Container.Remember]
	LabelSpec      = "proudlantern.spec"      // digest of what the cluster was told
)

// ClusterName returns the name of a service in a cluster: managers take no dots. No name of ours has two - in a row.
func ClusterName(stack, service string) string { return stack + "--" + service }

// ClusterNetwork returns the name that a network has on a cluster.
func ClusterNetwork(name string) string { return strings.ReplaceAll(name, ".", "--") }

// OnLabel returns the label of nodes that a service may run on, where it may not run on all: the engine knows "and", and no
// "or". Hosts are sorted.
func OnLabel(hosts []string) string { return "proudlantern-on-" + strings.Join(hosts, "-") }

// DeclareOnCluster is as [Declare], for a service of a cluster.
func DeclareOnCluster(s *lab.Service) Container {
	c := Declare(s)
	c.Copies, c.Each = s.Wanted, s.Each
	c.Networks = slices.Clone(c.Networks)
	for i, n := range c.Networks {
		c.Networks[i].Network = ClusterNetwork(n.Network)
	}
	for _, h := range s.On {
		c.On = append(c.On, h.Name)
	}
	slices.Sort(c.On)
	if s.Declared().Settings == nil || !s.Declared().Settings.Hostname.IsSet() {
		c.Hostname = "" // each copy has its own
	}
	c.Files = slices.DeleteFunc(slices.Clone(c.Files), func(f File) bool { return f.Folder })
	return c
}

// Remember returns the container as the text of a label: secrets as digests, keyed by salt.
func (c Container) Remember(salt string) string {
	c = c.masked(salt)
	type file struct {
		File
		Content string
	}
	var files []file
	for _, f := range c.Files {
		files = append(files, file{f, f.Content.Reveal()})
	}
	text, err := json.Marshal(struct {
		Container
		Contents []file
	}{c, files})
	if err != nil {
		panic("plan: a container without JSON: " + err.Error())
	}
	return string(text)
}

// masked returns the container with digests in the place of secrets, and of what files hold.
func (c Container) masked(salt string) Container {
	hide := func(t secret.Text) secret.Text {
		if !t.Secret() {
			return t
		}
		return secret.Of(t.Digest(salt).String(), true)
	}
	c.sort()
	c.Env, c.Files = slices.Clone(c.Env), slices.Clone(c.Files)
	for i := range c.Env {
		c.Env[i].Value = hide(c.Env[i].Value)
	}
	for i, f := range c.Files {
		c.Files[i].Content = secret.Of(secret.Of(f.Content.Reveal(), true).Digest(salt).String(), true)
	}
	for _, words := range []*[]secret.Text{&c.Settings.Command, &c.Settings.Entrypoint} {
		*words = slices.Clone(*words)
		for i := range *words {
			(*words)[i] = hide((*words)[i])
		}
	}
	return c
}

// Recall reads what Remember wrote; ok is false for what it cannot be.
func Recall(label string) (c Container, ok bool) {
	var all struct {
		Container
		Contents []struct {
			File
			Content string
		}
	}
	if label == "" || json.Unmarshal([]byte(label), &all) != nil {
		return c, false
	}
	c = all.Container
	c.Files = nil
	for _, f := range all.Contents {
		f.File.Content = secret.Of(f.Content, true)
		c.Files = append(c.Files, f.File)
	}
	return c, true
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (v *Variable) UnmarshalJSON(text []byte) error {
	var all struct {
		Name, Value string
		Secret      bool
	}
	err := json.Unmarshal(text, &all)
	v.Name, v.Value = all.Name, secret.Of(all.Value, all.Secret)
	return err
}

// ClusterRunning is a service of a cluster as its managers tell it.
type ClusterRunning struct {
	ID, Service, Digest, Salt, Remembered string
	ByHand                                bool // it is not what the cluster was told by the deploy
}

// MakeOnCluster plans a deploy of a stack to a cluster.
func MakeOnCluster(stack *lab.Stack, running []ClusterRunning) Stack {
	p := Stack{Stack: stack}
	levels := Levels(stack)
	for _, s := range stack.Services {
		v := Service{Name: s.Name, Service: s, Container: DeclareOnCluster(s), Level: levels[s], Action: Create}
		if i := slices.IndexFunc(running, func(r ClusterRunning) bool { return r.Service == s.Name }); i >= 0 {
			r := running[i]
			now, known := Recall(r.Remembered)
			v.Running = &Running{ID: r.ID, Name: ClusterName(stack.Name, s.Name), Service: s.Name, Digest: r.Digest, Salt: r.Salt, Up: true, Container: now}
			v.Action = Keep
			if known {
				v.Differences = Differences(now, v.Container.masked(r.Salt))
			}
			same, comparable := v.Container.SameDigest(r.Digest, r.Salt)
			if r.ByHand {
				v.Differences = append(v.Differences, Difference{"by hand", "what somebody made of it", "as it was deployed"})
			}
			if len(v.Differences) > 0 || !same || !comparable {
				v.Action = Replace
			}
		}
		p.Services = append(p.Services, v)
	}
	slices.SortStableFunc(p.Services, func(a, b Service) int { return a.Level - b.Level })
	for _, r := range running {
		if stack.Service(r.Service) == nil {
			now, _ := Recall(r.Remembered)
			p.Services = append(p.Services, Service{Name: r.Service, Action: Remove, Container: now,
				Running: &Running{ID: r.ID, Name: ClusterName(stack.Name, r.Service), Service: r.Service, Up: true, Container: now}})
		}
	}
	p.ask()
	return p
}
