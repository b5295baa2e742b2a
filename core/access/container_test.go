//go:build linux

package access

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

// The reckoning is what a process in a real container finds: 50 random trees, mounted, asked by identities
// with further groups.
func TestAccessAgreesInContainers(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("giving folders away needs root")
	}
	enginetest.Every(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("nothing runs inside of the stand-in's containers")
		}
		const count, identities = 50, 5
		random := rand.New(rand.NewPCG(7, 1911))
		e, err := engine.Dial(t.Context(), target.Address)
		require.NoError(t, err)
		defer e.Close()
		var facts survey.Survey
		require.NoError(t, e.Facts(t.Context(), &facts))
		host := asItIs
		if facts.Engine.Rootless { // whose trees belong to those that its containers know
			host = func(id survey.ID) survey.ID {
				outside, ok := survey.HostID(facts.Engine.UIDMap, id)
				require.True(t, ok)
				return outside
			}
		}
		trees := randomTrees(t, random, count, host)
		shut, asked := 0, 0
		for n := range identities {
			id := lab.Identity{UID: 1311 + random.Int64N(3), GID: 1400 + random.Int64N(3)}
			groups := []survey.ID{1400 + random.Int64N(3), 7399}[:random.IntN(3)]
			c := plan.Container{
				Image: enginetest.Page, User: fmt.Sprintf("%d:%d", id.UID, id.GID), Mode: "none",
				Restart: declare.Restart{Policy: "no"}, LogLimit: declare.LogLimit{Files: 1, Size: 1 << 20},
			}
			for _, g := range groups {
				c.Settings.Groups = append(c.Settings.Groups, fmt.Sprint(g))
			}
			for _, tree := range trees {
				c.Mounts = append(c.Mounts, plan.Mount{
					Source: tree[2].Path,
					Target: "/trees/" + filepath.Base(filepath.Dir(filepath.Dir(tree[2].Path))),
				})
			}
			own, err := e.Create(t.Context(), fmt.Sprintf("trees-%d-%d", os.Getpid(), n), c,
				map[string]string{plan.LabelLab: "trees"}, "")
			require.NoError(t, err)
			t.Cleanup(func() {
				again, err := engine.Dial(context.Background(), target.Address)
				require.NoError(t, err)
				defer again.Close()
				assert.NoError(t, again.Remove(context.Background(), own))
			})
			require.NoError(t, e.Start(t.Context(), own))
			code, said, err := e.Run(t.Context(), own, []string{"/probe", "rights", "/trees"})
			require.NoError(t, err)
			require.Zero(t, code, said)
			require.Len(t, said, count)
			for i, tree := range trees {
				who, known := asRoot(id, groups), true
				if facts.Engine.Rootless {
					who, known = inNamespace(facts.Engine, id, groups)
				}
				require.True(t, known)
				got, why := Check(tree[2], who, Read|Write|Enter)
				answer := Rights(said[i] - '0')
				assert.Equal(t, answer, got, "%s %v on %+v: %s", c.User, groups, tree[2], why)
				if asked++; answer == 0 {
					shut++
				}
			}
		}
		t.Logf("%d questions, %d of the folders give nothing at all", asked, shut)
		assert.NotZero(t, shut)
		assert.Less(t, shut, asked)
	})
}
