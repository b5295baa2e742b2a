//go:build linux

package deploy_test

import (
	"context"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine/enginetest"
)

// How long a deploy with nothing to do takes, beside the calls that list and inspect the stack's containers;
// and one of twenty independent services, beside the same containers created and started bare and in
// parallel. The proof of each is the first line of its log.
func BenchmarkDeploy(b *testing.B) {
	text := ""
	for i := range 20 {
		text += fmt.Sprintf(
			"[service.lamp-%02d]\nimage = \"registry.skerry.example/probe:1\"\n"+
				"ready = { log = \"the probe starts\" }\n", i)
	}
	enginetest.EachBench(b, func(b *testing.B, target enginetest.Target) {
		w := worldOn(b, target.Address)
		w.name = "pier-bench"
		d, st := w.deployer(false), w.stack(text)
		retire := func(b *testing.B) {
			out, err := d.Retire(context.Background(), w.name, deploy.Options{WithVolumes: true})
			require.NoError(b, err)
			require.Contains(b, []string{deploy.Done, deploy.NothingToDo}, out.Result)
		}
		deployed := func(b *testing.B, want string) {
			out, err := d.Deploy(context.Background(), st, deploy.Options{})
			require.NoError(b, err)
			require.Equal(b, want, out.Result, "%v", out.Failure)
		}
		b.Run("twenty/floor", func(b *testing.B) {
			for b.Loop() {
				ctx := context.Background()
				_, err := d.Engine.CreateNetwork(ctx, plan.Network{Name: w.name + ".net"},
					map[string]string{plan.LabelLab: w.lab, plan.LabelStack: w.name})
				require.NoError(b, err)
				var wait sync.WaitGroup
				for _, s := range st.Services {
					wait.Go(func() {
						labels := map[string]string{
							plan.LabelLab:     w.lab,
							plan.LabelStack:   w.name,
							plan.LabelService: s.Name,
						}
						id, err := d.Engine.Create(ctx, s.ContainerName(), plan.Declare(s), labels, "")
						if err == nil {
							err = d.Engine.Start(ctx, id)
						}
						if err != nil {
							b.Error(err)
						}
					})
				}
				wait.Wait()
				b.StopTimer()
				retire(b)
				b.StartTimer()
			}
		})
		b.Run("twenty/deploy", func(b *testing.B) {
			for b.Loop() {
				deployed(b, deploy.Done)
				b.StopTimer()
				retire(b)
				b.StartTimer()
			}
		})
		deployed(b, deploy.Done)
		before := w.gate.Changes()
		b.Run("nothing/floor", func(b *testing.B) {
			for b.Loop() {
				list, err := d.Engine.Containers(context.Background(), w.lab, w.name)
				require.NoError(b, err)
				require.Len(b, list, 20)
			}
		})
		b.Run("nothing/bare", func(b *testing.B) { // as the floor, but one question after the other
			var ids []string
			list, err := d.Engine.Containers(context.Background(), w.lab, w.name)
			require.NoError(b, err)
			for _, c := range list {
				ids = append(ids, c.ID)
			}
			for b.Loop() {
				for _, id := range ids {
					_, err := d.Engine.Inspect(context.Background(), id)
					require.NoError(b, err)
				}
			}
		})
		b.Run("nothing/deploy", func(b *testing.B) {
			for b.Loop() {
				deployed(b, deploy.NothingToDo)
			}
		})
		require.Equal(b, before, w.gate.Changes(), "nothing to do is nothing done")
		retire(b)
	})
}
