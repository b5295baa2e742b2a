package deploy

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/wiring"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// Member is a host of a cluster.
type Member struct {
	Host   string
	Engine *engine.Engine // nil where it does not answer
	Node   string         // its id in the cluster; "" for one that is not in it, or does not answer
	Err    error          // why it does not answer
}

// Cluster deploys to a cluster. Its Deployer has the engine of a manager, and the cluster's name as that of the host.
type Cluster struct {
	*Deployer
	Members []Member
}

// prove is an observer of a member.
func (c *Cluster) on(m Member) *observe.Observer {
	o := c.Observer
	o.Engine, o.Host, o.FromInside, o.Resources = m.Engine, m.Host, true, nil
	return &o
}

// memberOf returns the member that is a node.
func (c *Cluster) memberOf(node string) (Member, bool) {
	for _, m := range c.Members {
		if m.Node == node && node != "" {
			return m, true
		}
	}
	return Member{}, false
}

// hostOf names the host of a node, as the lab calls it.
func (c *Cluster) hostOf(node string) string {
	if m, ok := c.memberOf(node); ok {
		return m.Host
	}
	return "a host that does not answer"
}

// services returns what the cluster runs of a stack.
func (c *Cluster) services(ctx context.Context, stack string) ([]engine.ClusterService, error) {
	return c.Engine.ClusterServices(ctx, c.Lab, stack)
}

// Plan compares a stack with what the cluster runs.
func (c *Cluster) Plan(ctx context.Context, stack *lab.Stack, only []string) (plan.Stack, error) {
	p, _, err := c.planNow(ctx, stack)
	if err != nil {
		return p, err
	}
	return p.Only(only)
}

func (c *Cluster) planNow(ctx context.Context, stack *lab.Stack) (plan.Stack, []engine.ClusterService, error) {
	if who := observe.UnknownIdentity(stack); who != "" {
		return plan.Stack{}, nil, errors.New(who)
	}
	services, err := c.services(ctx, stack.Name)
	if err != nil {
		return plan.Stack{}, nil, err
	}
	p := plan.MakeOnCluster(stack, running(services))
	locks, err := c.locks(ctx, stack.Name)
	p.Unfinished = len(locks) > 0
	return p, services, err
}

// running is what is compared of services.
func running(services []engine.ClusterService) (all []plan.ClusterRunning) {
	for _, s := range services {
		all = append(all, plan.ClusterRunning{
			ID: s.ID, Service: s.Labels[plan.LabelService], Digest: s.Labels[plan.LabelDigest], Salt: s.Labels[plan.LabelSalt],
			Remembered: s.Labels[plan.LabelContainer], ByHand: s.Labels[plan.LabelSpec] != engine.SpecDigest(s.Spec),
		})
	}
	return all
}

// before is what a deploy found, kept in its lock: all that it takes to bring it back.
type before struct {
	Services map[string]engine.Spec // those that were there, by name
	Proofs   map[string]string            // how they show that they do their work
}

// clusterLock is the right to change a stack on a cluster: a text that the cluster keeps under a name that is there once.
type clusterLock struct {
	engine.StoredConfig
	entry int
	was   before
}

// locks returns what the cluster keeps of deploys of a stack that are under way, or died.
func (c *Cluster) locks(ctx context.Context, stack string) ([]clusterLock, error) {
	all, err := c.Engine.Configs(ctx, c.Lab)
	if err != nil {
		return nil, err
	}
	var locks []clusterLock
	for _, k := range all {
		if k.Name != c.markName(stack, plan.SuffixLock) && k.Name != c.markName(stack, plan.SuffixProven) {
			continue
		}
		l := clusterLock{StoredConfig: k, entry: number(k.Labels[plan.LabelEntry])}
		if len(k.Data) > 0 {
			if err := json.Unmarshal(k.Data, &l.was); err != nil {
				return nil, fmt.Errorf("the lock %s cannot be read: %w", k.Name, err)
			}
		}
		locks = append(locks, l)
	}
	return locks, nil
}

// state is a lock as one of a single host, for what asks who holds it.
func (l clusterLock) state() engine.State { return engine.State{Name: l.Name, Labels: l.Labels} }

// Deploy brings a stack to what is declared on every copy, or puts back what ran before; see [Deployer.Deploy].
func (c *Cluster) Deploy(ctx context.Context, stack *lab.Stack, o Options) (Outcome, error) {
	c = &Cluster{c.during(o), c.Members}
	if held, err := c.recover(ctx, stack.Name); err != nil || held.Result != "" {
		return held, err
	}
	p, services, err := c.planNow(ctx, stack)
	if err == nil {
		p, err = p.Only(o.Only)
	}
	if err != nil {
		return Outcome{}, err
	}
	if !p.Changes() {
		return Outcome{Result: NothingToDo}, nil
	}
	lock, held, err := c.lock(ctx, p, services)
	if err != nil || held.Result != "" {
		return held, err
	}
	defer c.holds(false)
	// Only what is planned under the lock holds.
	again, now, err := c.planNow(ctx, stack)
	if err == nil {
		again, err = again.Only(o.Only)
	}
	if err == nil && fmt.Sprint(versions(now)) != fmt.Sprint(versions(services)) {
		err = errors.New("somebody has changed the stack meanwhile; try again")
	}
	if err != nil {
		return Outcome{}, errors.Join(err, c.Engine.RemoveConfig(context.WithoutCancel(ctx), lock.ID))
	}
	return c.underLock(ctx, again, lock), nil
}

func versions(services []engine.ClusterService) map[string]string {
	all := map[string]string{}
	for _, s := range services {
		all[s.ID] = s.Labels[plan.LabelMade]
	}
	return all
}

// lock takes the lock of a stack.
func (c *Cluster) lock(ctx context.Context, p plan.Stack, services []engine.ClusterService) (*clusterLock, Outcome, error) {
	l := &clusterLock{entry: c.options.After, was: before{map[string]engine.Spec{}, map[string]string{}}}
	for _, s := range services {
		l.entry = max(l.entry, number(s.Labels[plan.LabelEntry]))
		l.was.Services[s.Name], l.was.Proofs[s.Name] = s.Spec, s.Labels[plan.LabelProof]
	}
	l.entry++
	most := time.Minute
	for _, s := range p.Services {
		if s.Service != nil {
			most += time.Duration(max(s.Container.Copies, len(c.Members))) * (s.Service.ReadyWithin + s.Service.StopWithin)
		}
	}
	data, err := json.Marshal(l.was)
	if err != nil {
		return nil, Outcome{}, err
	}
	l.Name = c.markName(p.Stack.Name, plan.SuffixLock)
	l.Labels = c.placeholderLabels(p.Stack.Name, most, map[string]string{plan.LabelEntry: strconv.Itoa(l.entry)})
	l.ID, err = c.Engine.CreateConfig(ctx, l.Name, l.Labels, data)
	if errors.Is(err, engine.ErrNameTaken) {
		holder := "another deploy, which has just ended; try again"
		if locks, err := c.locks(ctx, p.Stack.Name); err == nil && len(locks) > 0 {
			holder = c.holder(locks[0].state())
		}
		return nil, Outcome{Result: Refused, Holder: holder}, nil
	}
	if err == nil {
		c.holds(true)
	}
	return l, Outcome{}, err
}

// recover finishes or undoes what a deploy has left behind that is no longer alive.
func (c *Cluster) recover(ctx context.Context, stack string) (Outcome, error) {
	locks, err := c.locks(ctx, stack)
	if err != nil || len(locks) == 0 {
		return Outcome{}, err
	}
	for _, l := range locks {
		if c.alive(l.state()) {
			return Outcome{Result: Refused, Holder: c.holder(l.state())}, nil
		}
	}
	proven := slices.IndexFunc(locks, func(l clusterLock) bool { return strings.HasSuffix(l.Name, plan.SuffixProven) })
	held := slices.IndexFunc(locks, func(l clusterLock) bool { return strings.HasSuffix(l.Name, plan.SuffixLock) })
	switch {
	case proven >= 0:
		if out := c.commit(ctx, stack, locks[proven].Labels[labelGoes]); out.Result != Done {
			return out, nil
		}
	case held >= 0:
		c.event(stack, "", StepPutBack, EventBegun, "a deploy by "+locks[held].Labels[labelWho]+" died in the middle")
		if out := c.putBack(ctx, stack, &locks[held]); out.Result != PutBack {
			return out, nil
		}
	}
	return Outcome{}, nil
}

// Leftover reports whether a deploy of the stack died in the middle; see [Deployer.Leftover].
func (c *Cluster) Leftover(ctx context.Context, stack string) (string, error) {
	locks, err := c.locks(ctx, stack)
	if err != nil || len(locks) == 0 {
		return "", err
	}
	what := ""
	for _, l := range locks {
		switch {
		case c.alive(l.state()):
			return "", nil
		case strings.HasSuffix(l.Name, plan.SuffixProven):
			what = "a deploy by " + l.Labels[labelWho] + " died after everything was proven; what is left to do is to clear away what ran before"
		case what == "":
			what = "a deploy by " + l.Labels[labelWho] + " died in the middle; undoing it brings back what ran before"
		}
	}
	return what, nil
}

// Recover finishes or undoes what a deploy that died has left; see [Deployer.Recover].
func (c *Cluster) Recover(ctx context.Context, stack string) (Outcome, error) {
	out, err := c.recover(ctx, stack)
	if err == nil && out.Result == "" {
		out.Result = Done
	}
	return out, err
}

// underLock carries a plan out, proves it, and makes it the one that counts, or puts back what ran before.
func (c *Cluster) underLock(ctx context.Context, p plan.Stack, lock *clusterLock) Outcome {
	stack := p.Stack.Name
	out := Outcome{Entry: lock.entry, Plan: &p}
	out.Failure = c.carryOut(ctx, p, lock)
	ctx = context.WithoutCancel(ctx) // half a commit or half a way back must not be left behind
	if out.Failure == nil {
		var goes []string
		for _, s := range p.Services {
			if s.Action == plan.Remove {
				goes = append(goes, s.Running.Name)
			}
		}
		labels := maps.Clone(lock.Labels)
		labels[labelGoes] = strings.Join(goes, " ")
		// From here on there is only forward.
		if _, err := c.Engine.CreateConfig(ctx, c.markName(stack, plan.SuffixProven), labels, []byte("{}")); err != nil {
			out.Failure = &Failure{Message: err.Error()}
		} else {
			out.end(c.commit(ctx, stack, labels[labelGoes]))
			return out
		}
	}
	out.end(c.putBack(ctx, stack, lock))
	return out
}

// carryOut creates and updates services level by level.
func (c *Cluster) carryOut(ctx context.Context, p plan.Stack, lock *clusterLock) *Failure {
	if err := c.networks(ctx, p.Stack, lock); err != nil {
		return &Failure{Message: err.Error()}
	}
	for level := 0; ; level++ {
		later := false
		for _, s := range p.Services {
			later = later || s.Level > level
			if s.Level != level || s.Action == plan.Remove || s.Action == plan.Keep {
				continue
			}
			if f := c.bring(ctx, p.Stack, s, lock); f != nil {
				return f
			}
		}
		if !later {
			return nil
		}
	}
}

func (c *Cluster) networks(ctx context.Context, stack *lab.Stack, lock *clusterLock) error {
	for _, n := range wiring.NetworksOf(stack) {
		labels := map[string]string{plan.LabelLab: c.Lab}
		if !n.Shared {
			labels[plan.LabelStack], labels[plan.LabelEntry] = stack.Name, strconv.Itoa(lock.entry)
		}
		if n.Existing {
			continue
		}
		n.Name = plan.ClusterNetwork(n.Name)
		if _, err := c.Engine.CreateOverlay(ctx, n, labels); err != nil {
			return fmt.Errorf("the network %s: %w", n.Name, err)
		}
	}
	return nil
}

// bring creates or updates one service and proves each of its copies.
func (c *Cluster) bring(ctx context.Context, stack *lab.Stack, s plan.Service, lock *clusterLock) *Failure {
	name := stack.Name
	step := StepCreate
	c.event(name, s.Name, step, EventBegun, s.Container.Image)
	spec, err := c.spec(ctx, stack, s, lock)
	if err != nil {
		c.event(name, s.Name, step, EventFailed, err.Error())
		return &Failure{Service: s.Name, Message: err.Error()}
	}
	id := ""
	if s.Action == plan.Create {
		id, err = c.Engine.CreateClusterService(ctx, spec)
	} else {
		id = s.Running.ID
		err = c.Engine.UpdateClusterService(ctx, c.Lab, id, func(engine.ClusterService) engine.Spec { return engine.Resume(spec, 1) })
	}
	if err != nil {
		c.event(name, s.Name, step, EventFailed, err.Error())
		return &Failure{Service: s.Name, Message: err.Error()}
	}
	c.event(name, s.Name, step, EventDone, "")
	return c.proveCopies(ctx, name, s.Name, id, plan.ProofOf(s.Service), s.Action != plan.Create)
}

// spec puts a service into the terms of the cluster, and brings what it needs there.
func (c *Cluster) spec(ctx context.Context, stack *lab.Stack, s plan.Service, lock *clusterLock) (engine.Spec, error) {
	salt := ""
	if s.Running != nil {
		salt = s.Running.Salt
	}
	if salt == "" {
		b := make([]byte, 16)
		rand.Read(b)
		salt = hex.EncodeToString(b)
	}
	made := make([]byte, 8)
	rand.Read(made)
	complete, missing := s.Complete(nil)
	if missing != nil {
		return engine.Spec{}, notKnown(missing)
	}
	labels := map[string]string{
		plan.LabelLab: c.Lab, plan.LabelStack: stack.Name, plan.LabelService: s.Name, plan.LabelEntry: strconv.Itoa(lock.entry),
		plan.LabelFrom: c.From, plan.LabelSecret: namesLabel(s.Container.Secret), plan.LabelDigest: s.Container.Digest(salt), plan.LabelSalt: salt,
		plan.LabelProof: plan.ProofOf(s.Service).Label(), plan.LabelMade: hex.EncodeToString(made), plan.LabelRestart: s.Container.Restart.String(),
	}
	r := engine.ClusterRequest{
		Name: plan.ClusterName(stack.Name, s.Name), Container: complete, Labels: labels, Copies: complete.Copies, Each: complete.Each,
		Beside: s.Service.Overlap,
	}
	if len(complete.On) > 0 {
		label := plan.OnLabel(complete.On)
		for _, host := range complete.On {
			i := slices.IndexFunc(c.Members, func(m Member) bool { return m.Host == host && m.Node != "" })
			if i < 0 {
				continue // it does not answer; the others may do
			}
			if err := c.Engine.LabelNode(ctx, c.Members[i].Node, label, "1"); err != nil {
				return engine.Spec{}, err
			}
		}
		r.Only = []string{label + "=1"}
	}
	var err error
	if r.Files, err = c.files(ctx, stack.Name, complete.Files, salt, lock); err != nil {
		return engine.Spec{}, err
	}
	spec := engine.ServiceSpec(r)
	spec.Labels[plan.LabelContainer] = s.Container.Remember(salt)
	spec.Labels[plan.LabelSpec] = engine.SpecDigest(spec)
	return spec, nil
}

// files brings the files of a service into the cluster, each under a name that says what is in it.
func (c *Cluster) files(ctx context.Context, stack string, files []plan.File, salt string, lock *clusterLock) ([]engine.ClusterFile, error) {
	if len(files) == 0 {
		return nil, nil
	}
	configs, err := c.Engine.Configs(ctx, c.Lab)
	if err != nil {
		return nil, err
	}
	secrets, err := c.Engine.Secrets(ctx, c.Lab)
	if err != nil {
		return nil, err
	}
	var all []engine.ClusterFile
	for _, f := range files {
		text := f.Content.Reveal()
		if text == "" {
			text = "\n" // a cluster keeps nothing that is empty
		}
		mac := hmac.New(sha256.New, []byte(salt))
		mac.Write([]byte(text))
		one := engine.ClusterFile{File: f, Name: stack + "." + hex.EncodeToString(mac.Sum(nil))[:24], Secret: f.Content.Secret()}
		known, create := configs, c.Engine.CreateConfig
		if one.Secret {
			known, create = secrets, c.Engine.CreateSecret
		}
		if i := slices.IndexFunc(known, func(k engine.StoredConfig) bool { return k.Name == one.Name }); i >= 0 {
			one.ID = known[i].ID
		} else {
			labels := map[string]string{plan.LabelLab: c.Lab, plan.LabelStack: stack, plan.LabelEntry: strconv.Itoa(lock.entry)}
			if one.ID, err = create(ctx, one.Name, labels, []byte(text)); err != nil {
				return nil, err
			}
			known = append(known, engine.StoredConfig{ID: one.ID, Name: one.Name})
			if one.Secret {
				secrets = known
			} else {
				configs = known
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// Bounds of waiting for a cluster.
const (
	taskEvery = 300 * time.Millisecond
	// placedWithin is how long a cluster may look for a host for a copy before it counts as having none.
	placedWithin = 15 * time.Second
	// preparedWithin is how long a host may take for an image, and to start.
	preparedWithin = 10 * time.Minute
)

// copies are the copies of a service that is being brought to what is declared.
type copies struct {
	*Cluster
	stack, service, id string
	proof              plan.Proof
	updating           bool
	proven             map[string]bool // tasks
	began              time.Time
	batch              int
	waits              string // what is waited for
}

// proveCopies waits until every copy runs as the service says now, and is ready; while it is updated, it lets the cluster go on
// when those that are there are.
func (c *Cluster) proveCopies(ctx context.Context, stack, service, id string, proof plan.Proof, updating bool) *Failure {
	p := &copies{Cluster: c, stack: stack, service: service, id: id, proof: proof, updating: updating, proven: map[string]bool{}, began: time.Now(), batch: 1}
	c.event(stack, service, StepProve, EventBegun, "")
	told := time.Now()
	for {
		done, f := p.look(ctx)
		if f != nil {
			c.event(stack, service, StepProve, EventFailed, f.Message)
			return f
		}
		if done {
			c.event(stack, service, StepProve, EventDone, fmt.Sprintf("ready on every copy after %s", time.Since(p.began).Round(100*time.Millisecond)))
			return nil
		}
		if ctx.Err() != nil {
			return &Failure{Service: service, Message: "interrupted while it was waited for"}
		}
		if time.Since(told) > tellEvery {
			told = time.Now()
			c.Report(Event{Time: told.UTC(), Host: c.Host, Stack: stack, Service: service, Step: StepProve, State: EventProgress, Detail: p.waits})
		}
		select {
		case <-ctx.Done():
		case <-time.After(taskEvery):
		}
	}
}

// look looks once at the copies.
func (p *copies) look(ctx context.Context) (done bool, f *Failure) {
	s, err := p.Engine.ClusterService(ctx, p.id)
	if err != nil {
		return false, p.lost(ctx, err)
	}
	tasks, err := p.Engine.Tasks(ctx, []string{p.id})
	if err != nil {
		return false, p.lost(ctx, err)
	}
	var fresh, old []engine.Task
	for _, t := range tasks {
		switch {
		case engine.SameTask(t, s.Spec):
			fresh = append(fresh, t)
		case t.Wanted == "running" && t.State != "shutdown":
			old = append(old, t)
		}
	}
	ready := 0
	for _, t := range fresh {
		switch {
		case p.proven[t.ID] && t.Wanted == "running":
			ready++
		case t.Wanted != "running" && t.Wanted != "ready" && t.State != "failed" && t.State != "rejected" && t.State != "complete":
			// it is being moved away
		case t.State == "complete" && (p.proof.Done || !p.proof.Declared()):
			p.proven[t.ID] = true
			ready++
		case t.State == "failed" || t.State == "rejected" || t.State == "complete":
			if p.nodeIsGone(ctx, t) {
				continue // the cluster starts another one elsewhere
			}
			return false, p.failed(ctx, t)
		case t.State != "running":
			waited := time.Since(t.CreatedAt)
			if t.State == "pending" && t.Error != "" && waited > placedWithin {
				return false, &Failure{Service: p.service, Message: "the cluster finds no host for a copy: " + t.Error}
			}
			if waited > preparedWithin {
				return false, &Failure{Service: p.service, Message: fmt.Sprintf("a copy on %s has not started within %s: %s", p.hostOf(t.Node), preparedWithin, t.State)}
			}
			p.waits = fmt.Sprintf("a copy on %s is %s", p.hostOf(t.Node), t.State)
		default:
			if f := p.prove(ctx, t); f != nil {
				return false, f
			}
			if p.proven[t.ID] {
				ready++
			}
		}
	}
	wanted := p.wanted(ctx, s)
	switch {
	case ready >= wanted && len(old) == 0:
		return true, nil
	case p.updating && ready == len(live(fresh)) && ready > 0 && len(old) > 0:
		// Those that are there do their work: the next batch.
		p.batch++
		err := p.Engine.UpdateClusterService(ctx, p.Lab, p.id, func(now engine.ClusterService) engine.Spec { return engine.Resume(now.Spec, p.batch) })
		if err != nil {
			return false, p.lost(ctx, err)
		}
		p.waits = fmt.Sprintf("%d of %d copies are ready", ready, wanted)
	}
	return false, nil
}

// live returns the tasks that are to run.
func live(tasks []engine.Task) []engine.Task {
	return slices.DeleteFunc(slices.Clone(tasks), func(t engine.Task) bool { return t.Wanted != "running" && t.Wanted != "ready" })
}

// wanted is how many copies there are to be.
func (p *copies) wanted(ctx context.Context, s engine.ClusterService) int {
	if r := s.Spec.Mode.Replicated; r != nil && r.Replicas != nil {
		return int(*r.Replicas)
	}
	nodes, err := p.Engine.Nodes(ctx)
	if err != nil {
		return len(p.Members)
	}
	n := 0
	for _, node := range nodes {
		fits := node.Ready && !node.Drained
		if pl := s.Spec.TaskTemplate.Placement; pl != nil {
			for _, c := range pl.Constraints {
				name, value, _ := strings.Cut(strings.TrimPrefix(c, "node.labels."), "==")
				fits = fits && node.Labels[name] == value
			}
		}
		if fits {
			n++
		}
	}
	return max(n, 1)
}

// nodeIsGone reports whether the node of a task does not answer the managers any more.
func (p *copies) nodeIsGone(ctx context.Context, t engine.Task) bool {
	nodes, err := p.Engine.Nodes(ctx)
	return err == nil && slices.ContainsFunc(nodes, func(n engine.Node) bool { return n.ID == t.Node && !n.Ready })
}

// prove looks whether a copy that runs is ready.
func (p *copies) prove(ctx context.Context, t engine.Task) *Failure {
	m, ok := p.memberOf(t.Node)
	if !ok || m.Engine == nil {
		p.waits = fmt.Sprintf("a copy runs on %s, and cannot be asked there", p.hostOf(t.Node))
		if time.Since(t.UpdatedAt) > p.proof.Within {
			return &Failure{Service: p.service, Message: fmt.Sprintf("a copy runs on %s, which does not answer: whether it is ready cannot be seen", p.hostOf(t.Node))}
		}
		return nil
	}
	o := p.on(m)
	waiting, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	c, err := m.Engine.Inspect(waiting, t.Container)
	if err != nil || !c.Running {
		return nil // the managers hear of it
	}
	ready, how := false, ""
	switch {
	case p.proof.Done:
	case p.proof.Log != "":
		ready = o.Said(waiting, c, p.proof.Log)
	case !p.proof.Declared():
		ready = time.Since(c.Started) >= observe.Steady && o.Lives(waiting, c)
	default:
		ready, how = o.Ready(waiting, c, p.proof, nil, c.Started)
	}
	if ready && p.proof.PagePort > 0 {
		a := o.Ask(waiting, c, p.proof.PageTLS, p.proof.PagePort, p.proof.Page)
		ready = a.Status > 0 && a.Status < 500 || a.Listens
		how = fmt.Sprintf("its page on port %d does not answer", p.proof.PagePort)
	}
	if ready {
		o.Leave(context.WithoutCancel(ctx), c.ID)
		p.proven[t.ID] = true
		p.event(p.stack, p.service, StepProve, EventProgress, "a copy on "+m.Host+" is ready")
		return nil
	}
	p.waits = fmt.Sprintf("waits for a copy on %s: %s", m.Host, observe.NotReady(p.proof, how))
	within := p.proof.Within
	if !p.proof.Declared() {
		within = observe.Steady + time.Minute
	}
	if time.Since(c.Started) > within && !p.proof.Done {
		f := &Failure{Service: p.service, Message: fmt.Sprintf("a copy on %s was not ready within %s: %s", m.Host, within, observe.NotReady(p.proof, how))}
		return p.logged(ctx, f, m, c.ID)
	}
	return nil
}

// failed is the failure of a copy that has ended.
func (p *copies) failed(ctx context.Context, t engine.Task) *Failure {
	why := t.Error
	if why == "" {
		why = fmt.Sprintf("it ended with exit code %d", t.ExitCode)
	}
	f := &Failure{Service: p.service, Message: fmt.Sprintf("a copy on %s: %s", p.hostOf(t.Node), why)}
	if m, ok := p.memberOf(t.Node); ok && m.Engine != nil && t.Container != "" {
		return p.logged(ctx, f, m, t.Container)
	}
	return f
}

func (p *copies) logged(ctx context.Context, f *Failure, m Member, id string) *Failure {
	d := *p.Deployer
	d.Engine = m.Engine
	return d.withLog(ctx, id, f)
}

// lost waits out a manager that does not answer for a moment; the failure says that it has been too long.
func (p *copies) lost(ctx context.Context, err error) *Failure {
	if errors.Is(err, context.Canceled) {
		return &Failure{Service: p.service, Message: "interrupted while it was waited for"}
	}
	if p.another(ctx) {
		return nil
	}
	return &Failure{Service: p.service, Message: "no manager of the cluster answers: " + err.Error()}
}

// another turns to another manager, where the one at hand does not answer.
func (c *Cluster) another(ctx context.Context) bool {
	for until := time.Now().Add(c.ReconnectTimeout); time.Now().Before(until) && ctx.Err() == nil; time.Sleep(probeEvery) {
		for _, m := range c.Members {
			if m.Engine == nil {
				continue
			}
			asking, cancel := context.WithTimeout(ctx, 5*time.Second)
			_, err := m.Engine.Nodes(asking)
			cancel()
			if err == nil {
				c.Engine = m.Engine
				return true
			}
		}
	}
	return false
}

// putBack brings every service back to what it was before, and proves it.
func (c *Cluster) putBack(ctx context.Context, stack string, l *clusterLock) Outcome {
	out := &wayBack{Outcome{Result: PutBack}}
	c.event(stack, "", StepPutBack, EventBegun, "")
	try := func(f func() error) error {
		err := f()
		if errors.Is(err, engine.ErrUnknownOutcome) && c.another(ctx) {
			err = f()
		}
		return err
	}
	var services []engine.ClusterService
	if err := try(func() (err error) { services, err = c.services(ctx, stack); return err }); err != nil {
		out.needs("no manager of the cluster answers (%s); run lantern deploy %s once one does: it first brings back what ran before", err, stack)
		return out.Outcome
	}
	for _, s := range services {
		was, ran := l.was.Services[s.Name]
		service := s.Labels[plan.LabelService]
		switch {
		case !ran:
			if err := try(func() error { return c.Engine.RemoveClusterService(ctx, c.Lab, s.ID) }); err != nil {
				out.needs("remove the service %s by hand: %s", s.Name, err)
				continue
			}
			c.event(stack, service, StepRemove, EventDone, "the new service")
		case s.Labels[plan.LabelMade] != was.Labels[plan.LabelMade]:
			err := try(func() error {
				return c.Engine.UpdateClusterService(ctx, c.Lab, s.ID, func(now engine.ClusterService) engine.Spec {
					return engine.AllAtOnce(was)
				})
			})
			if err != nil {
				out.needs("bring the service %s back by hand: %s", s.Name, err)
				continue
			}
			if f := c.proveCopies(ctx, stack, service, s.ID, plan.ReadProof(l.was.Proofs[s.Name]), false); f != nil {
				out.needs("look at %s: it runs again as before, but %s", s.Name, f.Message)
				continue
			}
			c.event(stack, service, StepPutBack, EventDone, "old version restored")
		}
	}
	if err := c.clear(ctx, stack); err != nil {
		out.needs("remove by hand: %s", err)
	}
	if out.Result == PutBack && l.ID != "" {
		if err := try(func() error { return c.Engine.RemoveConfig(ctx, l.ID) }); err != nil {
			out.needs("remove the config %s of the cluster by hand: %s", l.Name, err)
		}
	}
	state := EventDone
	if out.Result != PutBack {
		state = EventFailed
	}
	c.event(stack, "", StepPutBack, state, strings.Join(out.ManualSteps, "; "))
	return out.Outcome
}

// commit removes what is no longer declared, and what nothing needs any more. Every step can be made again.
func (c *Cluster) commit(ctx context.Context, stack, goes string) Outcome {
	again := func(err error) Outcome {
		return Outcome{Result: NeedsManual, Failure: &Failure{Message: err.Error()},
			ManualSteps: []string{"everything is proven and runs, but something of before is still there: run the same command again"}}
	}
	for _, name := range strings.Fields(goes) {
		if err := c.Engine.RemoveClusterService(ctx, c.Lab, name); err != nil {
			return again(err)
		}
		c.event(stack, strings.TrimPrefix(name, plan.ClusterName(stack, "")), StepRemove, EventDone, "")
	}
	if err := c.clear(ctx, stack); err != nil {
		c.event(stack, "", StepRemove, EventProgress, "left alone: "+err.Error())
	}
	locks, err := c.locks(ctx, stack)
	if err != nil {
		return again(err)
	}
	// The lock first: as long as the other one is there, it is known that all is proven.
	slices.SortFunc(locks, func(a, b clusterLock) int { return strings.Compare(a.Name, b.Name) })
	for _, l := range locks {
		if err := c.Engine.RemoveConfig(ctx, l.ID); err != nil {
			return again(err)
		}
	}
	return Outcome{Result: Done}
}

// clear removes the files and networks of a stack that none of its services uses.
func (c *Cluster) clear(ctx context.Context, stack string) error {
	all, err := c.Engine.ClusterServices(ctx, c.Lab, "")
	if err != nil {
		return err
	}
	used, networks := map[string]bool{}, map[string]bool{}
	for _, s := range all {
		if spec := s.Spec.TaskTemplate.ContainerSpec; spec != nil {
			for _, k := range spec.Configs {
				used[k.ConfigID] = true
			}
			for _, k := range spec.Secrets {
				used[k.SecretID] = true
			}
		}
		if was, ok := plan.Recall(s.Labels[plan.LabelContainer]); ok {
			for _, n := range was.Networks {
				networks[n.Network] = true
			}
		}
	}
	configs, err := c.Engine.Configs(ctx, c.Lab)
	if err != nil {
		return err
	}
	secrets, err := c.Engine.Secrets(ctx, c.Lab)
	if err != nil {
		return err
	}
	var problems []error
	marks := []string{c.markName(stack, plan.SuffixLock), c.markName(stack, plan.SuffixProven)}
	for _, k := range configs {
		if k.Labels[plan.LabelStack] == stack && !used[k.ID] && !slices.Contains(marks, k.Name) {
			problems = append(problems, c.Engine.RemoveConfig(ctx, k.ID))
		}
	}
	for _, k := range secrets {
		if k.Labels[plan.LabelStack] == stack && !used[k.ID] {
			problems = append(problems, c.Engine.RemoveSecret(ctx, k.ID))
		}
	}
	list, err := c.Engine.Networks(ctx, c.Lab)
	if err != nil {
		return errors.Join(append(problems, err)...)
	}
	for _, n := range list {
		if n.Stack == stack && !networks[n.Name] && n.Overlay {
			problems = append(problems, c.removeNetwork(ctx, n.Name))
		}
	}
	return errors.Join(problems...)
}

// removeNetwork removes a network once the copies that were on it have gone, which takes a cluster a moment.
func (c *Cluster) removeNetwork(ctx context.Context, name string) (err error) {
	for until := time.Now().Add(30 * time.Second); ; time.Sleep(probeEvery) {
		if err = c.Engine.RemoveNetwork(ctx, name, c.Lab); err == nil || time.Now().After(until) {
			return err
		}
	}
}

// Retiring returns the names of what a retirement of a stack would remove.
func (c *Cluster) Retiring(ctx context.Context, stack string) (services, networks []string, err error) {
	list, err := c.services(ctx, stack)
	if err != nil {
		return nil, nil, err
	}
	for _, s := range list {
		services = append(services, s.Name)
	}
	all, err := c.Engine.Networks(ctx, c.Lab)
	for _, n := range all {
		if n.Stack == stack && n.Overlay {
			networks = append(networks, n.Name)
		}
	}
	return services, networks, err
}

// Retire takes a stack away from the cluster, under its lock.
func (c *Cluster) Retire(ctx context.Context, stack string, o Options) (Outcome, error) {
	c = &Cluster{c.during(o), c.Members}
	if held, err := c.recover(ctx, stack); err != nil || held.Result != "" {
		return held, err
	}
	services, err := c.services(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	if len(services) == 0 {
		return Outcome{Result: NothingToDo}, c.clear(ctx, stack)
	}
	p := plan.Stack{Stack: &lab.Stack{Name: stack}}
	lock, held, err := c.lock(ctx, p, services)
	if err != nil || held.Result != "" {
		return held, err
	}
	defer c.holds(false)
	out := &wayBack{Outcome{Result: Done, Entry: lock.entry, Plan: &p}}
	for _, s := range slices.Backward(services) {
		service := s.Labels[plan.LabelService]
		p.Services = append(p.Services, plan.Service{Name: service, Action: plan.Remove})
		if err := c.Engine.RemoveClusterService(ctx, c.Lab, s.ID); err != nil {
			out.needs("the service %s is still there (%s); run lantern retire %s again", s.Name, err, stack)
			continue
		}
		c.event(stack, service, StepRemove, EventDone, "")
	}
	ctx = context.WithoutCancel(ctx)
	if err := c.clear(ctx, stack); err != nil {
		out.needs("%s; run lantern retire %s again", err, stack)
	}
	if err := c.Engine.RemoveConfig(ctx, lock.ID); err != nil {
		out.needs("remove the config %s of the cluster by hand: %s", lock.Name, err)
	}
	return out.Outcome, nil
}
