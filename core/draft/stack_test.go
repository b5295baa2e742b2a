package draft

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
)

// read reads a draft as the check would.
func read(t *testing.T, stack, text string) *declare.Stack {
	t.Helper()
	decl := declare.Read([]string{stack}, func(path string) (string, error) {
		if path == declare.LabFile {
			return "lab = \"skerry\"\n[folder]\ndata = \"/srv\"\n", nil
		}
		if strings.HasSuffix(path, ".env") {
			return "", nil
		}
		return text, nil
	})
	require.Empty(t, decl.Problems, text)
	require.Len(t, decl.Stacks, 1)
	return decl.Stacks[0]
}

func TestStack(t *testing.T) {
	place := Place{Stack: "tide-log", Data: true, Owner: true, Taken: func(port int) bool { return port == 8080 || port == 8711 }}
	desk := Image{Reference: "registry.skerry.example/a/tide-log-desk:2.3", About: "Tides\n[let]\n", Ports: []string{"80/tcp",
		"8711/udp", "nonsense", "99999/tcp", "5/sctp"}, Volumes: []string{"/desk"}, Env: map[string]string{"B": "", "A": "x"}}
	d := Stack(place, []Image{desk})
	text, notes := d.Text, d.Notes
	s := read(t, "tide-log", text)
	require.Len(t, s.Services, 1)
	assert.Equal(t, "desk", s.Services[0].Name, "the stack says the rest")
	assert.Contains(t, text, "\nabout = \"Tides\"\n")
	assert.Contains(t, text, "\nports = [\"8081 -> 80\", \"8712 -> 8711/udp\"]  # ")
	assert.Contains(t, text, "\nready = { tcp = 80 }  # ")
	assert.Contains(t, text, "\nmounts = [\"${folder.data}/tide-log/desk -> /desk, create\"]  # ")
	assert.Contains(t, text, "the image itself sets A, B\n")
	var elements []string
	for _, n := range notes {
		elements = append(elements, n.Element)
		line := strings.Split(text, "\n")[n.Line-1]
		assert.True(t, strings.HasPrefix(line, "# ") && strings.HasSuffix(line, n.Text), "%d: %s", n.Line, line)
	}
	assert.Equal(t, []string{"service.desk.page", "service.desk.run-as", "service.desk.env"}, elements)

	place.Host, place.Data = "mast", false
	d = Stack(place, []Image{desk, {Reference: "store@sha256:" + strings.Repeat("a", 64), User: "store",
		Volumes: []string{"/a b", "/c,d"}}, {Reference: "deploying", Unknown: true}, {Reference: "deploying:1\x1b[2J", Chosen: true}})
	text, notes = d.Text, d.Notes
	s = read(t, "tide-log", text)
	assert.Equal(t, "mast", s.Host.Value)
	var names, volumes []string
	for _, v := range s.Services {
		names = append(names, v.Name)
	}
	for _, v := range s.Volumes {
		volumes = append(volumes, v.Name)
	}
	assert.Equal(t, []string{"desk", "store", "service-deploying", "service-deploying-2"}, names)
	assert.Equal(t, []string{"desk", "store-a-b", "store-c-d"}, volumes)
	assert.NotContains(t, text, "\nports", "others in the stack need no published port")
	assert.NotContains(t, text, "\x1b")
	assert.Contains(t, text, "which has no rights in folders of others")
	assert.Contains(t, text, "on which port does it listen? what the image declares could not be found out\n")
	assert.Contains(t, text, "on which port does it listen? the image does not say\n")
	assert.Greater(t, len(notes), 12)
}

func TestNewest(t *testing.T) {
	for all, newest := range map[string]string{
		"latest 4 4.2 4.2.1 4.10.0 4.10.0-small 5.0.0-rc1": "4.10.0", "latest edge": "", "": "", "2026-11-01 v3": "", "7 6": "7",
	} {
		assert.Equal(t, newest, Newest(strings.Fields(all)), all)
	}
}

func FuzzStack(f *testing.F) {
	f.Add("registry.skerry.example/tide-desk:2.3", "Tide tables", "80/tcp", "/desk", "desk", "LEVEL")
	f.Add("a@b", "\"\\\n", "0", "a -> b, 'c'", "0:0", "\x00")
	f.Fuzz(func(t *testing.T, reference, about, port, volume, user, variable string) {
		text := Stack(Place{Stack: "tide-log", Data: len(about)%2 == 0, Taken: func(int) bool { return false }}, []Image{
			{Reference: reference, About: about, Ports: []string{port}, Volumes: []string{volume}, User: user,
				Env: map[string]string{variable: ""}}, {Reference: reference},
		}).Text
		decl := declare.Read([]string{"tide-log"}, func(path string) (string, error) {
			if path == declare.LabFile {
				return "lab = \"skerry\"\n[folder]\ndata = \"/srv\"\n", nil
			}
			return text, nil
		})
		require.Len(t, decl.Stacks, 1)
		require.Len(t, decl.Stacks[0].Services, 2, "nothing from an image is taken for more than a value:\n%s", text)
		require.LessOrEqual(t, len(decl.Stacks[0].Volumes), 1)
	})
}
