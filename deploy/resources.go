package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/wiring"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// makeResources makes what the containers of a stack need beside themselves: networks, volumes, folders.
func (d *Deployer) makeResources(ctx context.Context, p plan.Stack, lock *lock) error {
	name := p.Stack.Name
	for _, n := range wiring.NetworksOf(p.Stack) {
		if slices.ContainsFunc(lock.Moves, func(m move) bool { return m.Is.Name == n.Name }) {
			continue // once its members have stopped
		}
		labels := map[string]string{plan.LabelLab: d.Lab}
		if !n.Shared {
			labels[plan.LabelStack], labels[plan.LabelEntry] = name, lock.entry()
		}
		if _, err := d.Engine.CreateNetwork(ctx, n, labels); err != nil {
			return fmt.Errorf("the network %s: %w", n.Name, err)
		}
	}
	for _, v := range plan.VolumesOf(p.Stack) {
		labels := map[string]string{plan.LabelLab: d.Lab, plan.LabelStack: name, plan.LabelEntry: lock.entry()}
		if _, err := d.Engine.CreateVolume(ctx, v, labels); err != nil {
			return fmt.Errorf("the volume %s: %w", v.Name, err)
		}
	}
	made := map[string]bool{}
	for _, s := range p.Services {
		if s.Action != plan.Create && s.Action != plan.Replace {
			continue
		}
		folders, err := plan.FoldersOf(s.Service)
		if err != nil {
			return err
		}
		for _, f := range folders {
			var all []engine.Folder
			for _, path := range f.Paths {
				if made[path] {
					f.Below = path // for another service, and its
					continue
				}
				made[path] = true
				all = append(all, engine.Folder{Path: path, UID: f.UID, GID: f.GID, Mode: f.Mode})
			}
			if all == nil {
				continue
			}
			d.event(name, s.Name, StepCreate, EventBegun, "the folder "+f.Path)
			if err := d.Engine.MakeFolders(ctx, d.markName(name, plan.SuffixFolders), s.Container.Image,
				d.placeholderLabels(name, time.Minute, nil), f.Below, all); err != nil {
				return fmt.Errorf("the folder %s: %w", f.Path, err)
			}
			d.event(name, s.Name, StepCreate, EventDone,
				fmt.Sprintf("the folder %s for %d:%d, mode %04o", f.Path, f.UID, f.GID, f.Mode))
		}
	}
	return nil
}

// unusedNetworks returns the networks of the lab that nothing uses once some containers are gone: the stack's
// own and the shared ones. While another stack is being changed the shared ones stay: it may be about to use
// them.
func (d *Deployer) unusedNetworks(ctx context.Context, stack string, leaving []engine.State) ([]string, error) {
	containers, err := d.Engine.Containers(ctx, d.Lab, "")
	if err != nil {
		return nil, err
	}
	networks, err := d.Engine.Networks(ctx, d.Lab)
	if err != nil {
		return nil, err
	}
	used, othersAtWork := map[string]bool{}, false
	for _, c := range containers {
		if slices.ContainsFunc(leaving, func(l engine.State) bool { return l.ID == c.ID }) {
			continue
		}
		for _, n := range c.Container.Networks {
			used[n.Network] = true
		}
		other := c.Labels[plan.LabelStack] != stack
		othersAtWork = othersAtWork ||
			other && (strings.HasSuffix(c.Name, plan.SuffixLock) || strings.HasSuffix(c.Name, plan.SuffixProven))
	}
	var unused []string
	for _, n := range networks {
		ours := n.Stack == stack || n.Stack == "" && !othersAtWork
		if ours && !used[n.Name] {
			unused = append(unused, n.Name)
		}
	}
	return unused, nil
}

// removeUnused removes networks that nothing uses any more.
func (d *Deployer) removeUnused(ctx context.Context, stack string, leaving []engine.State) error {
	unused, err := d.unusedNetworks(ctx, stack, leaving)
	for _, n := range unused {
		if removing := d.Engine.RemoveNetwork(ctx, n, d.Lab); removing != nil {
			err = errors.Join(err, fmt.Errorf("the network %s: %w", n, removing))
		}
	}
	return err
}

// removeMadeVolumes removes the volumes that a deploy made for images, which is put back. Those that somebody
// declared stay: whatever is in them is not lantern's to judge.
func (d *Deployer) removeMadeVolumes(ctx context.Context, stack string, l *lock) error {
	if l.ID == "" {
		return nil // without the lock it is not sure which deploy that was
	}
	volumes, err := d.Engine.Volumes(ctx)
	for _, v := range volumes {
		if v.Lab == d.Lab && v.Stack == stack && v.Entry == l.entry() && v.ForImage != "" {
			err = errors.Join(err, d.Engine.RemoveVolume(ctx, v.Name, d.Lab, true))
		}
	}
	return err
}

// madeVolumes returns the names of the declared volumes that a deploy has made.
func (d *Deployer) madeVolumes(ctx context.Context, stack string, l *lock) []string {
	volumes, _ := d.Engine.Volumes(ctx) // only for the message
	var made []string
	for _, v := range volumes {
		if v.Lab == d.Lab && v.Stack == stack && v.Entry == l.entry() && v.ForImage == "" {
			made = append(made, v.Name)
		}
	}
	return made
}

// lastEntry returns the highest number of a deploy that anything of a stack bears: also volumes, which
// outlive the containers.
func (d *Deployer) lastEntry(ctx context.Context, stack string, containers []engine.State) (int, error) {
	last := 0
	for _, c := range containers {
		last = max(last, entryOf(c))
	}
	volumes, err := d.Engine.Volumes(ctx)
	if err != nil {
		return 0, err
	}
	for _, v := range volumes {
		if v.Lab == d.Lab && v.Stack == stack {
			last = max(last, number(v.Entry))
		}
	}
	networks, err := d.Engine.Networks(ctx, d.Lab)
	if err != nil {
		return 0, err
	}
	for _, n := range networks {
		if n.Stack == stack {
			last = max(last, number(n.Entry))
		}
	}
	return last, nil
}

// awaitOthers waits for what a service is after in other stacks of the host.
func (d *Deployer) awaitOthers(ctx context.Context, stack string, s *lab.Service) *Failure {
	for _, a := range s.After {
		if a.Service.Stack == s.Stack {
			continue
		}
		other := a.Service
		d.event(stack, s.Name, StepStart, EventProgress, "waits for "+other.FullName())
		proof := plan.ProofOf(other)
		waiting, cancel := context.WithTimeout(ctx, proof.Within)
		defer cancel()
		last := "it is not there: deploy " + other.Stack.Name + " first"
		for ready := false; !ready; {
			c, err := d.Engine.Inspect(waiting, other.ContainerName())
			switch {
			case errors.Is(err, engine.ErrNotFound):
			case err != nil:
				last = err.Error()
			case a.Done:
				ready, last = observe.CompletedJob(c), "it has not ended without an error"
			case !c.Running:
				last = "it does not run"
			case proof.Log != "" || !proof.Declared():
				ready = true // a log is not read again from the start
			default:
				ready, _ = d.Ready(waiting, c, proof, nil, c.Started)
				last = observe.NotReady(proof, "")
			}
			if ready {
				break
			}
			if errors.Is(err, engine.ErrNotFound) || waiting.Err() != nil {
				return &Failure{
					Service: s.Name,
					Message: fmt.Sprintf("it waits for %s, and %s", other.FullName(), last),
				}
			}
			select {
			case <-waiting.Done():
			case <-time.After(probeEvery):
			}
		}
	}
	return nil
}

// Volumes returns the names of the declared volumes that were made for a stack on the host. What the files
// call existing now is somebody else's.
func (d *Deployer) Volumes(ctx context.Context, stack string) ([]string, error) {
	volumes, err := d.Engine.Volumes(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, v := range slices.DeleteFunc(volumes, func(v survey.Volume) bool {
		return v.Lab != d.Lab || v.Stack != stack || v.ForImage != "" || slices.Contains(d.Existing, v.Name)
	}) {
		names = append(names, v.Name)
	}
	return names, nil
}
