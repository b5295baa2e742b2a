package chart

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/check"
)

// everyLetter measures as if all letters were alike.
func everyLetter(text string, size float64, _ bool) float64 {
	return float64(len([]rune(text))) * size * 0.58
}

// large is a lab of so many hosts, stacks on each, and services in each stack, with wires within stacks, between
// stacks and between hosts.
func large(hosts, stacks, services int) Map {
	m := Map{Lab: "skerry-light", Findings: []Mark{{"lab-empty-name", check.Note, "", 1}}}
	for h := range hosts {
		host := MappedHost{Name: fmt.Sprintf("lamp-room-%d", h), Address: "192.0.2.7",
			Findings: []Mark{{"host-unreachable", check.Error, "", 2}}}
		for s := range stacks {
			st := MappedStack{Name: fmt.Sprintf("tide-%d-%d", h, s), Networks: []string{fmt.Sprintf("net-%d-%d", h, s)}}
			for v := range services {
				one := MappedService{Name: fmt.Sprintf("desk%d", v), Image: "registry.skerry.example/desk:1",
					Ports: []string{fmt.Sprintf("%d → 80", 8000+v)}, Networks: []string{"front"}}
				one.Folders = []string{"/srv/skerry/a-folder-whose-name-is-as-long-as-nobody-would-write-it → /data"}
				for _, to := range []int{0, v + 1} {
					if to != v && to < services {
						one.Needs = append(one.Needs, Need{st.Name, fmt.Sprintf("desk%d", to), 7410, "STORE"})
					}
				}
				if v == 1 {
					one.Needs = append(one.Needs, Need{fmt.Sprintf("tide-%d-%d", (h+s)%hosts, (s+2)%stacks), "desk0", 7410, "A"})
					one.Findings = []Mark{{"port-clash", check.Error, "", 1}, {"wire-order", check.Warning, "", 3}}
				}
				st.Services = append(st.Services, one)
			}
			host.Stacks = append(host.Stacks, st)
		}
		m.Hosts = append(m.Hosts, host)
	}
	return m
}

func TestDraw(t *testing.T) {
	odd := large(2, 1, 2)
	odd.Hosts[1].Name, odd.Hosts[0].Stacks = "", nil
	odd.Hosts[1].Stacks[0].Services[0].Needs = []Need{{"elsewhere", "desk", 80, "X"}}
	for name, m := range map[string]Map{
		"empty":         {Lab: "skerry-light"},
		"empty hosts":   large(2, 0, 0),
		"one service":   large(1, 1, 1),
		"odd":           odd,
		"sixty":         large(3, 5, 4),
		"a long stack":  large(1, 1, 60),
		"many stacks":   large(1, 70, 2),
		"many hosts":    large(9, 2, 2),
		"three hundred": large(3, 20, 5),
	} {
		t.Run(name, func(t *testing.T) {
			d := Draw(m, everyLetter)
			noOverlap(t, d)
			wiresKeepClear(t, d)
			allIsThere(t, m, d)
			if name == "sixty" {
				assert.InDelta(t, wideAsHigh, d.Width/d.Height, 0.7, "a shape that fits a screen")
			}
		})
	}
}

// rectangle is from left and top to right and bottom.
type rectangle struct{ x, y, r, b float64 }

func (a rectangle) meets(b rectangle) bool { return a.x < b.r && b.x < a.r && a.y < b.b && b.y < a.b }

func (a rectangle) holds(b rectangle) bool {
	return a.x <= b.x && a.y <= b.y && b.r <= a.r && b.b <= a.b
}

func textArea(t Text) rectangle {
	return rectangle{t.X, t.Y - 0.8*t.Size, t.X + t.W, t.Y + 0.25*t.Size}
}

func boxArea(b Box) rectangle { return rectangle{b.X, b.Y, b.X + b.W, b.Y + b.H} }

func noOverlap(t *testing.T, d Drawing) {
	page := rectangle{0, 0, d.Width, d.Height}
	for i, a := range d.Texts {
		area := textArea(a)
		assert.True(t, page.holds(area), "%q leaves the page", a.Text)
		assert.LessOrEqual(t, everyLetter(a.Text, a.Size, a.Bold), a.W+0.01)
		if a.Text != a.Whole {
			assert.Contains(t, a.Text, "…", "what is cut has a sign")
		}
		for _, b := range d.Texts[:i] {
			if area.meets(textArea(b)) { // so many pairs that a call for each takes seconds
				t.Fatalf("%q lies on %q", a.Text, b.Text)
			}
		}
		for _, b := range d.Boxes {
			if boxArea(b).meets(area) && !boxArea(b).holds(area) {
				t.Fatalf("%q crosses an edge", a.Text)
			}
		}
	}
	for i, a := range d.Boxes {
		assert.True(t, page.holds(boxArea(a)))
		inside := 0
		for j, b := range d.Boxes {
			switch {
			case i == j:
			case a.Kind == b.Kind:
				require.False(t, boxArea(a).meets(boxArea(b)), "two boxes overlap: %v %v", a, b)
			case a.Kind == "stack" && boxArea(b).holds(boxArea(a)):
				inside++
			}
		}
		if a.Kind == "stack" {
			assert.Equal(t, 1, inside, "a stack is on one host")
		}
	}
}

// wiresKeepClear checks that wires cross no text and no stack, and that two of them do not lie on each other.
func wiresKeepClear(t *testing.T, d Drawing) {
	type segment struct {
		rectangle
		to string
	}
	var all []segment
	for _, w := range d.Wires {
		for i := range w.Points[1:] {
			a, b := w.Points[i], w.Points[i+1]
			require.True(t, a.X == b.X || a.Y == b.Y, "wires run straight")
			all = append(all, segment{rectangle{min(a.X, b.X), min(a.Y, b.Y), max(a.X, b.X), max(a.Y, b.Y)}, w.To})
		}
	}
	page := rectangle{0, 0, d.Width, d.Height}
	for i, s := range all {
		assert.True(t, page.holds(s.rectangle), "a wire leaves the page")
		thick := rectangle{s.x + 0.01, s.y - 0.8, s.r - 0.01, s.b + 0.8}
		if s.x == s.r {
			thick = rectangle{s.x - 0.8, s.y, s.r + 0.8, s.b}
		}
		for _, text := range d.Texts {
			if thick.meets(textArea(text)) {
				t.Fatalf("the wire to %s crosses %q", s.to, text.Text)
			}
		}
		for _, b := range d.Boxes {
			if b.Kind == "stack" && thick.meets(boxArea(b)) {
				t.Fatalf("the wire to %s crosses a stack", s.to)
			}
		}
		for _, o := range all[:i] {
			together := math.Abs(s.x-o.x) < 2 && math.Abs(s.r-o.r) < 2 && s.x == s.r && o.x == o.r ||
				math.Abs(s.y-o.y) < 2 && s.y == s.b && o.y == o.b
			longer := min(s.r, o.r)-max(s.x, o.x) > 1 || min(s.b, o.b)-max(s.y, o.y) > 1
			if s.to != o.to && together && longer {
				t.Fatalf("wires to %s and %s lie on each other", s.to, o.to)
			}
		}
	}
}

func allIsThere(t *testing.T, m Map, d Drawing) {
	written := map[string]int{}
	for _, text := range d.Texts {
		written[text.Whole]++
	}
	marks := func(list []Mark) {
		for _, f := range list {
			assert.Positive(t, written[string(f.Severity)+" "+f.String()], f)
		}
	}
	wires := 0
	marks(m.Findings)
	stacks := map[string]bool{}
	for _, h := range m.Hosts {
		for _, st := range h.Stacks {
			stacks[st.Name] = true
		}
	}
	for _, h := range m.Hosts {
		if h.Name != "" {
			assert.Equal(t, 1, written[h.Name])
		}
		marks(h.Findings)
		for _, st := range h.Stacks {
			assert.Equal(t, 1, written[st.Name])
			for _, s := range st.Services {
				assert.Positive(t, written[s.Name])
				for _, list := range [][]string{{s.Image}, s.Ports, s.Folders, st.Networks} {
					for _, text := range list {
						assert.True(t, written[text]+written["network "+text] > 0, text)
					}
				}
				for _, n := range s.Needs {
					assert.Positive(t, written[fmt.Sprintf("needs %s %d", n.Name(), n.Port)])
					if stacks[n.Stack] {
						wires++
					}
				}
				marks(s.Findings)
			}
		}
	}
	assert.Len(t, d.Wires, wires, "each need has its wire")
}
