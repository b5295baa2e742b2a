package plan_test

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"

	"proudlantern.example/lantern/core/plan"
)

func TestOwns(t *testing.T) {
	desk := map[string]string{
		plan.LabelLab:     "skerry-light",
		plan.LabelStack:   "tide-log",
		plan.LabelService: "desk",
		plan.LabelMade:    "a word",
	}
	mark := map[string]string{
		plan.LabelLab:     "skerry-light",
		plan.LabelStack:   "tide-log",
		plan.LabelService: "",
		plan.LabelMade:    "another",
	}
	with := func(labels map[string]string, name, value string) map[string]string {
		out := maps.Clone(labels)
		out[name] = value
		return out
	}
	for _, c := range []struct {
		name          string
		labels, image map[string]string
		want          bool
	}{
		{"tide-log.desk", desk, nil, true},
		{"tide-log.desk.next", desk, nil, true},
		{"tide-log.desk.previous", desk, nil, true},
		{"tide-log.deploying", mark, nil, true},
		{"tide-log.folders", mark, nil, true},
		{"tide-log.desk.old", desk, nil, false},
		{"tide-log.store", desk, nil, false},
		{"desk", desk, nil, false},
		{"tide-log.deploying", desk, nil, false},
		{"tide-log.desk", mark, nil, false},
		{"tide-log.desk", with(desk, plan.LabelLab, "another"), nil, false},
		{"tide-log.desk", nil, nil, false},
		{".desk", with(desk, plan.LabelStack, ""), nil, false},
		{"tide-log.desk", desk, desk, false},
		// an image made from ours, deployed by us
		{"tide-log.desk", desk, with(desk, plan.LabelMade, "of another"), true},
		{"tide-log.deploying", mark, desk, true},
		// of an older lantern
		{"tide-log.desk", with(desk, plan.LabelMade, ""), map[string]string{"room": "lamp"}, true},
	} {
		assert.Equal(t, c.want, plan.Owns("skerry-light", c.name, c.labels, c.image), "%s %v %v", c.name,
			c.labels, c.image)
	}
	assert.False(t, plan.Owns("", ".desk", map[string]string{plan.LabelService: "desk"}, nil))
}
