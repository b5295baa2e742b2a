// Package observe looks at what runs on a host, beside what is declared, and never changes it.
package observe

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
)

// Observer looks at one host.
type Observer struct {
	Engine *engine.Engine
	Lab    string
	Host   string

	// Resources are what was found on the host a moment ago, for several looks in a row: some engines take long to
	// list networks. nil: each look asks for them.
	Resources *Resources

	// Inside asks where nobody else can; nil: then it is enough that something listens there.
	Inside *Inside

	// Learn is told secrets that come to light; nil: nobody is.
	Learn func(secrets ...string)
}

// Resources are networks and volumes of a host.
type Resources struct {
	Networks []survey.Network // of the lab
	Volumes  []survey.Volume  // of all

	Lab []engine.State // all containers of the lab; nil: not asked for
}

// FindResources asks the engine for them.
func (o *Observer) FindResources(ctx context.Context) (*Resources, error) {
	found := &Resources{}
	var errs [2]error
	var wait sync.WaitGroup
	wait.Go(func() { found.Networks, errs[0] = o.Engine.Networks(ctx, o.Lab) })
	wait.Go(func() { found.Volumes, errs[1] = o.Engine.Volumes(ctx) })
	wait.Wait()
	return found, errors.Join(errs[:]...)
}

// FindAll asks the engine for them and for all containers of the lab at the same time: for a look at many stacks.
func (o *Observer) FindAll(ctx context.Context) (*Resources, error) {
	var containers []engine.State
	var err error
	var wait sync.WaitGroup
	wait.Go(func() { containers, err = o.Engine.Containers(ctx, o.Lab, "") })
	wait.Go(func() { o.Engine.Rootless(ctx) }) // which ports can be asked depends on it
	found, lost := o.FindResources(ctx)
	wait.Wait()
	found.Lab = append([]engine.State{}, containers...)
	return found, errors.Join(err, lost)
}

// Containers returns the containers of a stack of this lab.
func (o *Observer) Containers(ctx context.Context, stack string) ([]engine.State, error) {
	if o.Resources != nil && o.Resources.Lab != nil {
		return slices.DeleteFunc(slices.Clone(o.Resources.Lab), func(c engine.State) bool {
			return c.Labels[plan.LabelStack] != stack
		}), nil
	}
	return o.Engine.Containers(ctx, o.Lab, stack)
}

// Stacks returns the names of the lab's stacks that seem to have containers on the host, sorted.
func (o *Observer) Stacks(ctx context.Context) ([]string, error) {
	if o.Resources == nil || o.Resources.Lab == nil {
		return o.Engine.Stacks(ctx, o.Lab)
	}
	var names []string
	for _, c := range o.Resources.Lab {
		names = append(names, c.Labels[plan.LabelStack])
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// Plan compares a stack with what runs; only the named services and what they need, where there are names. Images
// of services to refresh count as their registries have them now.
func (o *Observer) Plan(ctx context.Context, stack *lab.Stack, only, refresh []string) (plan.Stack, error) {
	found, err := o.Snapshot(ctx, stack)
	if err != nil {
		return plan.Stack{}, err
	}
	unasked := o.askRegistries(ctx, stack, refresh, found.Images)
	p, err := o.PlanFrom(stack, found)
	p.Unasked = unasked
	if err != nil {
		return p, err
	}
	return p.Only(only)
}

// askRegistries finds out which images that are fetched at each deploy, or are to be refreshed, have moved since,
// without fetching them: in a plan they count as what they will be. It returns those of which it is not known.
func (o *Observer) askRegistries(ctx context.Context, stack *lab.Stack, refresh []string,
	images map[string]survey.Image) (unasked []string) {
	var references []string
	for _, s := range stack.Services {
		if s.Fetch == "each-deploy" || slices.Contains(refresh, s.Name) {
			references = append(references, plan.Fetched(s)...)
		}
	}
	slices.Sort(references)
	for _, reference := range slices.Compact(references) {
		here, known := images[reference]
		if !known {
			continue
		}
		digest, err := o.Engine.RemoteDigest(ctx, reference)
		switch {
		case err != nil:
			unasked = append(unasked, reference)
		case digest != here.ID &&
			!slices.ContainsFunc(here.Digests, func(d string) bool { return strings.HasSuffix(d, "@"+digest) }):
			here.ID = digest
			images[reference] = here
		}
	}
	return unasked
}

// Snapshot is what the engine shows that a plan rests on.
type Snapshot struct {
	Resources
	Containers []engine.State
	Images     map[string]survey.Image // that are on the host, by reference and by id
	Made       map[*lab.Later]string   // values that services have made for others
	Files      map[string][]plan.File  // what containers have of the files that are declared, by id
	Taken      map[string]engine.State // containers of somebody else whose place services take, by service
}

// Snapshot asks the engine for all of it at the same time.
func (o *Observer) Snapshot(ctx context.Context, stack *lab.Stack) (Snapshot, error) {
	found := Snapshot{Images: map[string]survey.Image{}}
	var errs [3]error
	var wait sync.WaitGroup
	wait.Go(func() {
		if found.Containers, errs[0] = o.Containers(ctx, stack.Name); errs[0] == nil {
			found.Taken, errs[0] = o.taken(ctx, stack, found.Containers)
		}
		if errs[0] == nil {
			found.Files, errs[0] = o.filesInside(ctx, stack, found.Containers)
		}
	})
	if o.Resources != nil {
		found.Resources = *o.Resources
	} else {
		wait.Go(func() {
			resources, err := o.FindResources(ctx)
			found.Resources, errs[1] = *resources, err
		})
	}
	wait.Go(func() {
		var references []string
		for _, s := range stack.Services {
			references = append(references, s.Image.Text)
			if s.Build != nil {
				references = append(references, s.Build.Bases()...)
			}
		}
		errs[2] = o.addImages(ctx, found.Images, references)
	})
	wait.Wait()
	if err := errors.Join(errs[:]...); err != nil {
		return found, err
	}
	// Mostly these are the same images.
	var older []string
	for _, c := range slices.Concat(found.Containers, slices.Collect(maps.Values(found.Taken))) {
		if _, ok := found.Images[c.ImageID]; !ok {
			older = append(older, c.ImageID)
		}
	}
	found.Made = o.Made(ctx, stack.Services, found.Containers)
	return found, o.addImages(ctx, found.Images, older)
}

// taken returns the containers of somebody else whose place services of a stack take: only that of a service which
// has no container of its own yet.
func (o *Observer) taken(ctx context.Context, stack *lab.Stack, own []engine.State) (map[string]engine.State, error) {
	all := map[string]engine.State{}
	for _, s := range stack.Services {
		deployed := slices.ContainsFunc(own, func(c engine.State) bool { return c.Labels[plan.LabelService] == s.Name })
		if s.TakesOver == "" || deployed {
			continue
		}
		c, err := o.Engine.Inspect(ctx, s.TakesOver)
		switch {
		case errors.Is(err, engine.ErrNotFound):
		case err != nil:
			return nil, err
		case c.Name == s.TakesOver && c.Labels[plan.LabelLab] != o.Lab: // an engine also finds by the beginning of an id
			all[s.Name] = c
		}
	}
	return all, nil
}

// filesInside reads what containers have of the files that are declared for their services, by their ids.
func (o *Observer) filesInside(ctx context.Context, stack *lab.Stack,
	containers []engine.State) (map[string][]plan.File, error) {
	files := make([][]plan.File, len(containers))
	var work errgroup.Group
	for i, c := range containers {
		s := stack.Service(c.Labels[plan.LabelService])
		if s == nil || len(s.Files) == 0 || IsTransitional(c) {
			continue
		}
		work.Go(func() (err error) {
			files[i], err = o.Engine.ReadFiles(ctx, c.ID, plan.Declare(s).Files)
			if errors.Is(err, engine.ErrNotFound) { // it has gone meanwhile
				err = nil
			}
			return err
		})
	}
	err := work.Wait()
	found := map[string][]plan.File{}
	for i, c := range containers {
		found[c.ID] = files[i]
	}
	return found, err
}

// addImages adds those images that are on the host.
func (o *Observer) addImages(ctx context.Context, to map[string]survey.Image, references []string) error {
	slices.Sort(references)
	references = slices.Compact(references)
	found, errs := make([]survey.Image, len(references)), make([]error, len(references))
	var wait sync.WaitGroup
	for i, r := range references {
		wait.Go(func() { found[i], errs[i] = o.Engine.Image(ctx, r) })
	}
	wait.Wait()
	for i, r := range references {
		switch {
		case errs[i] == nil:
			to[r], to[found[i].ID] = found[i], found[i]
		case !errors.Is(errs[i], engine.ErrNotFound):
			return errs[i]
		}
	}
	return nil
}

// PlanFrom compares a stack with what the engine shows.
func (o *Observer) PlanFrom(stack *lab.Stack, seen Snapshot) (plan.Stack, error) {
	if who := unknownIdentity(stack); who != "" {
		return plan.Stack{}, errors.New(who)
	}
	found := plan.Found{Lab: o.Lab, Networks: seen.Networks, Volumes: seen.Volumes, Made: seen.Made, Images: seen.Images}
	unfinished := false
	for _, c := range seen.Containers {
		service := c.Labels[plan.LabelService]
		if IsTransitional(c) {
			unfinished = true
			continue
		}
		var declared plan.Container
		if s := stack.Service(service); s != nil {
			declared = plan.Declare(s)
		}
		running, known := seen.readBack(c, declared)
		running.Files = seen.Files[c.ID]
		found.Running = append(found.Running, plan.Running{
			Done: CompletedJob(c), ImageUnknown: !known,
			ID: c.ID, Name: c.Name, Service: service, Digest: c.Labels[plan.LabelDigest],
			Salt:    c.Labels[plan.LabelSalt],
			ImageID: c.ImageID, Up: c.Running, Container: running,
		})
	}
	for service, c := range seen.Taken {
		c.Container.Mounts = slices.Concat(c.Container.Mounts, c.Unnamed)
		running, known := seen.readBack(c, plan.Declare(stack.Service(service)))
		found.Running = append(found.Running, plan.Running{
			Taken: true, Fleeing: c.Fleeing, ImageUnknown: !known, ID: c.ID, Name: c.Name, Service: service, ImageID: c.ImageID, Up: c.Running,
			Container: running,
		})
	}
	p := plan.Make(stack, found, func(reference string) string { return seen.Images[reference].ID })
	p.Unfinished = unfinished
	return p, p.BuildProblem
}

// readBack returns a container in the words of a declaration: without what only its image says. Without its
// image it is not known what the image said; then only its fingerprint counts, and known is false.
func (s Snapshot) readBack(c engine.State, declared plan.Container) (running plan.Container, known bool) {
	for _, o := range s.Containers {
		if c.Container.NetworkOf == "container:"+o.ID {
			c.Container.NetworkOf = o.Labels[plan.LabelService]
		}
	}
	for service, o := range s.Taken {
		if c.Container.NetworkOf == "container:"+o.ID {
			c.Container.NetworkOf = service
		}
	}
	image, known := s.Images[c.ImageID]
	return engine.WithoutImage(c.Container, image, declared), known
}

// IsTransitional reports whether a container shows that a deploy is at work, or died: a mark, or one that has
// not got its name yet or no longer.
func IsTransitional(c engine.State) bool {
	return c.Labels[plan.LabelService] == "" || c.Name != lab.ContainerName(c.Labels[plan.LabelLab], c.Labels[plan.LabelStack], c.Labels[plan.LabelService])
}

func IsLock(c engine.State) bool {
	stack := lab.EngineName(c.Labels[plan.LabelLab], c.Labels[plan.LabelStack])
	return c.Name == stack+plan.SuffixLock || c.Name == stack+plan.SuffixProven
}

// unknownIdentity names an account that could not be looked up; what is started with it would run as somebody
// else.
func unknownIdentity(stack *lab.Stack) string {
	for _, s := range stack.Services {
		if s.RunAs != nil && !s.RunAs.Known {
			return fmt.Sprintf(
				"%s runs as %s, and the accounts of %s could not be looked up: declare UID:GID",
				s.FullName(), s.RunAs.Name, stack.Host.Name)
		}
	}
	return ""
}
