package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
)

// Networks returns the networks of a lab; with "" those of the engine, made by lantern or not. Podman's service
// looks at all containers for each network: it is asked for no more than is needed.
func (e *Engine) Networks(ctx context.Context, lab string) ([]survey.Network, error) {
	list, err := e.networks(ctx, lab)
	networks := []survey.Network{}
	for _, n := range list {
		networks = append(networks, survey.Network{
			Name:     n.Name,
			Lab:      n.Labels[plan.LabelLab],
			Stack:    n.Labels[plan.LabelStack],
			Entry:    n.Labels[plan.LabelEntry],
			Subnets:  subnets(n),
			Internal: n.Internal,
		})
	}
	return networks, err
}

func (e *Engine) networks(ctx context.Context, lab string) ([]network.Summary, error) {
	var list client.NetworkListResult
	var options client.NetworkListOptions
	if lab != "" {
		options.Filters = make(client.Filters).Add("label", plan.LabelLab+"="+lab)
	}
	err := e.call(ctx, "networks", 0, func(ctx context.Context) (err error) {
		list, err = e.api.NetworkList(ctx, options)
		return err
	})
	if err != nil {
		return nil, err
	}
	// Not every engine, nor everything that stands before one, filters.
	items := slices.DeleteFunc(list.Items, func(n network.Summary) bool {
		return lab != "" && n.Labels[plan.LabelLab] != lab
	})
	slices.SortFunc(items, func(a, b network.Summary) int { return strings.Compare(a.Name, b.Name) })
	return items, nil
}

func subnets(n network.Summary) []string {
	var all []string
	for _, c := range n.IPAM.Config {
		if c.Subnet.IsValid() {
			all = append(all, c.Subnet.String())
		}
	}
	return all
}

// CreateNetwork makes a network unless this lab has one of that name. Errors: [ErrNameTaken] when somebody
// else has, [ErrNotFound] when it is to exist already and does not, [ErrDiffers] when this lab's is another
// one than declared.
func (e *Engine) CreateNetwork(ctx context.Context, want plan.Network,
	labels map[string]string) (made bool, err error) {
	list, err := e.networks(ctx, "")
	if err != nil {
		return false, err
	}
	i := slices.IndexFunc(list, func(n network.Summary) bool { return n.Name == want.Name })
	switch {
	case want.Existing && i < 0:
		return false,
			resourceError("network", ErrNotFound,
				"there is no network %s, and somebody else makes it (existing)", want.Name)
	case want.Existing:
		return false, nil
	case i >= 0 && list[i].Labels[plan.LabelLab] != labels[plan.LabelLab]:
		return false,
			resourceError("network", ErrNameTaken, "a network %s is there that is not of this lab", want.Name)
	case i >= 0 &&
		(want.Subnet != "" && !slices.Contains(subnets(list[i]), want.Subnet) || list[i].Internal != want.Internal):
		return false,
			resourceError("network", ErrDiffers,
				"the network %s is there with another subnet, or another internal, than lab.toml says: "+
					"retire the stacks on it first", want.Name)
	case i >= 0:
		return false, nil
	}
	o := client.NetworkCreateOptions{Driver: "bridge", Labels: labels, Internal: want.Internal}
	if want.Subnet != "" {
		subnet, err := netip.ParsePrefix(want.Subnet)
		if err != nil {
			return false, err
		}
		o.IPAM = &network.IPAM{Config: []network.IPAMConfig{{Subnet: subnet}}}
	}
	for range 3 {
		err = e.change(ctx, "network", 0, func(ctx context.Context) error {
			_, err := e.api.NetworkCreate(ctx, want.Name, o)
			return err
		}, func(ctx context.Context) (bool, error) {
			list, err := e.networks(ctx, labels[plan.LabelLab])
			return slices.ContainsFunc(list, func(n network.Summary) bool { return n.Name == want.Name }), err
		})
		// Podman's service looks at all interfaces of the machine, and stumbles over one that goes while it
		// looks.
		if err == nil || !strings.Contains(err.Error(), "no such network interface") {
			break
		}
	}
	return err == nil, err
}

func resourceError(call string, kind error, format string, args ...any) error {
	return &Error{Call: call, Message: fmt.Sprintf(format, args...), kind: kind, err: kind}
}

// RemoveNetwork removes a network of a lab. One that is not there, or is somebody else's, is left alone
// without an error. Errors: [ErrMiscounted].
func (e *Engine) RemoveNetwork(ctx context.Context, name, lab string) error {
	var mine []network.Summary
	if lab != "" {
		var err error
		if mine, err = e.networks(ctx, lab); err != nil {
			return err
		}
	}
	i := slices.IndexFunc(mine, func(n network.Summary) bool { return n.Name == name })
	if i < 0 {
		return nil
	}
	// By its id, as an engine can have two networks of one name.
	which := mine[i].ID
	if !e.can.removeByID {
		which = name
	}
	err := e.change(ctx, "network", 0, func(ctx context.Context) error {
		_, err := e.api.NetworkRemove(ctx, which, client.NetworkRemoveOptions{})
		return err
	}, func(ctx context.Context) (bool, error) {
		list, err := e.networks(ctx, lab)
		return !slices.ContainsFunc(list, func(n network.Summary) bool { return n.ID == mine[i].ID }), err
	})
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil && strings.Contains(err.Error(), "active endpoints") {
		// Dockerd 20.10 counts wrong when a container goes while it is put on a network, and counts again when
		// it starts.
		var n client.NetworkInspectResult
		lost := e.call(ctx, "network", 0, func(ctx context.Context) (err error) {
			n, err = e.api.NetworkInspect(ctx, name, client.NetworkInspectOptions{})
			return err
		})
		if lost == nil && len(n.Network.Containers) == 0 {
			return resourceError("network", ErrMiscounted,
				"the network %s has no containers, but the engine has lost count and "+
					"keeps it until it restarts", name)
		}
	}
	return err
}

// Connect puts a container on a further network, whether it runs or not. Errors: [ErrNotFound].
func (e *Engine) Connect(ctx context.Context, id string, n plan.Attachment) error {
	return e.change(ctx, "network", 0, func(ctx context.Context) error {
		_, err := e.api.NetworkConnect(ctx, n.Network, client.NetworkConnectOptions{
			Container:      id,
			EndpointConfig: &network.EndpointSettings{Aliases: n.Aliases},
		})
		return err
	}, func(ctx context.Context) (bool, error) { return e.isOn(ctx, id, n.Network) })
}

// Disconnect takes a container off a network, whether it runs or not. Errors: [ErrNotFound].
func (e *Engine) Disconnect(ctx context.Context, id, name string) error {
	return e.change(ctx, "network", 0, func(ctx context.Context) error {
		_, err := e.api.NetworkDisconnect(ctx, name, client.NetworkDisconnectOptions{Container: id})
		return err
	}, func(ctx context.Context) (bool, error) {
		on, err := e.isOn(ctx, id, name)
		return err == nil && !on, err
	})
}

func (e *Engine) isOn(ctx context.Context, id, network string) (bool, error) {
	s, err := e.Inspect(ctx, id)
	return slices.ContainsFunc(s.Container.Networks, func(a plan.Attachment) bool {
		return a.Network == network
	}), err
}

// Rejoin takes a container off its networks and puts it on them again, with the names that it shall have
// there. What is connected to it over them is cut off. Errors: [ErrNotFound].
func (e *Engine) Rejoin(ctx context.Context, id string, on []plan.Attachment) error {
	for _, n := range on {
		// Podman's service may find its name server gone, which it starts for itself with the next container: by then the network
		// is taken down, and joining it is what is left to do.
		if err := e.Disconnect(ctx, id, n.Network); err != nil && !strings.Contains(err.Error(), "aardvark pid not found") {
			return err
		}
		if err := e.Connect(ctx, id, n); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) volumes(ctx context.Context) (list client.VolumeListResult, err error) {
	err = e.call(ctx, "volumes", 0, func(ctx context.Context) error {
		list, err = e.api.VolumeList(ctx, client.VolumeListOptions{})
		return err
	})
	return list, err
}

// Volumes returns the volumes of the engine, made by lantern or not.
func (e *Engine) Volumes(ctx context.Context) ([]survey.Volume, error) {
	list, err := e.volumes(ctx)
	if err != nil {
		return nil, err
	}
	volumes := []survey.Volume{}
	for _, v := range list.Items {
		volumes = append(volumes, survey.Volume{
			Name:     v.Name,
			Lab:      v.Labels[plan.LabelLab],
			Stack:    v.Labels[plan.LabelStack],
			Entry:    v.Labels[plan.LabelEntry],
			ForImage: v.Labels[plan.LabelForImage],
			Place:    v.Mountpoint,
			Driver:   v.Driver,
			Options:  v.Options,
		})
	}
	slices.SortFunc(volumes, func(a, b survey.Volume) int { return strings.Compare(a.Name, b.Name) })
	return volumes, nil
}

// CreateVolume makes a volume unless this lab has one of that name. Errors: as of [Engine.CreateNetwork].
func (e *Engine) CreateVolume(ctx context.Context, want plan.Volume,
	labels map[string]string) (made bool, err error) {
	list, err := e.volumes(ctx)
	if err != nil {
		return false, err
	}
	driver := cmp.Or(want.Driver, "local")
	options := map[string]string{}
	for name, value := range want.Options {
		options[name] = value.Reveal()
	}
	for _, v := range list.Items {
		if v.Name != want.Name {
			continue
		}
		switch {
		case want.Existing:
		case v.Labels[plan.LabelLab] != labels[plan.LabelLab]:
			return false,
				resourceError("volume", ErrNameTaken,
					"a volume %s is there that is not of this lab; existing = true uses it", want.Name)
		case v.Driver != driver || !maps.Equal(v.Options, options):
			return false,
				resourceError("volume", ErrDiffers,
					"the volume %s is there with another driver, or other options, than declared; what it "+
						"holds cannot move by itself", want.Name)
		}
		return false, nil
	}
	if want.Existing {
		return false,
			resourceError("volume", ErrNotFound,
				"there is no volume %s, and somebody else makes it (existing)", want.Name)
	}
	all := map[string]string{}
	maps.Copy(all, want.Labels)
	maps.Copy(all, labels)
	err = e.createVolume(ctx, client.VolumeCreateOptions{
		Name:       want.Name,
		Driver:     driver,
		DriverOpts: options,
		Labels:     all,
	})
	return err == nil, err
}

func (e *Engine) createVolume(ctx context.Context, o client.VolumeCreateOptions) error {
	return e.change(ctx, "volume", 0, func(ctx context.Context) error {
		_, err := e.api.VolumeCreate(ctx, o)
		return err
	}, func(ctx context.Context) (bool, error) {
		list, err := e.Volumes(ctx)
		return slices.ContainsFunc(list, func(v survey.Volume) bool { return v.Name == o.Name }), err
	})
}

// createForImage makes a volume for a path that an image declares, and returns its name.
func (e *Engine) createForImage(ctx context.Context, path string, of map[string]string) (string, error) {
	o := client.VolumeCreateOptions{
		Name:   of[plan.LabelStack] + "." + of[plan.LabelService] + "." + chance()[:12],
		Driver: "local",
		Labels: map[string]string{plan.LabelForImage: path},
	}
	for _, l := range []string{plan.LabelLab, plan.LabelStack, plan.LabelService, plan.LabelEntry} {
		o.Labels[l] = of[l]
	}
	return o.Name, e.createVolume(ctx, o)
}

// RemoveVolume removes a volume of a lab that nothing uses, and all that it holds; with forImage only one
// that was made for an image, without only one that was declared. What is not that is left alone without an
// error.
func (e *Engine) RemoveVolume(ctx context.Context, name, lab string, forImage bool) error {
	there := func(ctx context.Context) (bool, error) {
		list, err := e.Volumes(ctx)
		return lab != "" && slices.ContainsFunc(list, func(v survey.Volume) bool {
			return v.Name == name && v.Lab == lab && v.Stack != "" && (v.ForImage != "") == forImage
		}), err
	}
	if ours, err := there(ctx); err != nil || !ours {
		return err
	}
	err := e.change(ctx, "volume", 0, func(ctx context.Context) error {
		_, err := e.api.VolumeRemove(ctx, name, client.VolumeRemoveOptions{})
		return err
	}, func(ctx context.Context) (bool, error) {
		still, err := there(ctx)
		return !still, err
	})
	return notThere(err)
}
