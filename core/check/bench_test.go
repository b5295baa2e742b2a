package check_test

import (
	"fmt"
	"io/fs"
	"runtime/debug"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// largeLab makes up a lab of that many stacks on ten hosts, five services each, with eight ports, mounts and
// variables a service, and its surveys.
func largeLab(stacks int) (names []string, texts map[string]string, surveys map[string]*survey.Survey) {
	const hosts = 10
	texts, surveys = map[string]string{}, map[string]*survey.Survey{}
	var head strings.Builder
	head.WriteString(
		"lab = \"skerry-light\"\ntimezone = \"Atlantic/Faroe\"\nowner = \"keeper\"\n[folder]\n" +
			"data = \"/srv/skerry\"\n")
	for h := range hosts {
		name := fmt.Sprintf("host-%d", h)
		fmt.Fprintf(&head, "[host.%s]\nengine = \"unix:///run/%s.sock\"\n", name, name)
		surveys[name] = &survey.Survey{
			Survey: 1, Host: name, Accounts: []survey.Account{{Name: "keeper", UID: 1311, GID: 1400}},
			Listeners: []survey.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 22}},
			Images:    []survey.Image{{Reference: "registry.skerry.example/sensor:1.4", Source: survey.FromEngine}},
		}
	}
	texts["lab.toml"] = head.String()
	for s := range stacks {
		name := fmt.Sprintf("stack-%d", s)
		names = append(names, name)
		var b strings.Builder
		fmt.Fprintf(&b, "about = \"readings\"\nhost = \"host-%d\"\n[let]\nstore = \"store-%d\"\n", s%hosts, s)
		for v := range 5 {
			port := 1024 + (s/hosts*5+v)*3%60000
			fmt.Fprintf(&b,
				"\n[service.sensor-%d]\nimage = \"registry.skerry.example/sensor:1.4\"\n"+
					"run-as = \"owner\"\nports = [\"%d -> 80\", \"%d -> 81/udp\"]  # the page\n", v, port, port+1)
			path := fmt.Sprintf("/srv/skerry/%s/%d", name, v)
			fmt.Fprintf(&b,
				"mounts = [\"${folder.data}/%s/%d -> /data\", \"${folder.data}/%s/%d -> /more, "+
					"read-only\"]\nready = { http = \"80/health\", within = \"45s\" }\n", name, v, name, v)
			fmt.Fprintf(&b,
				"env.STORE = \"${store}:7410\"\nenv.LEVEL = \"info\"\nenv.STATION = \"north\"\nenv.INTERVAL = 30\n")
			if v > 0 {
				fmt.Fprintf(&b, "after = [\"sensor-%d\"]\n", v-1)
			}
			host := surveys[fmt.Sprintf("host-%d", s%hosts)]
			host.Paths = append(host.Paths, survey.Path{
				Path: path,
				Kind: survey.Folder,
				UID:  1311,
				GID:  1400,
				Mode: "0750",
			})
		}
		texts[name+"/stack.toml"] = b.String()
	}
	return names, texts, surveys
}

func read(names []string, texts map[string]string) *declare.Lab {
	return declare.Read(names, func(path string) (string, error) {
		if text, ok := texts[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	})
}

// BenchmarkCheck compares reading, resolving and checking a lab with what the TOML library takes merely to
// read the same files. All of them collect garbage as rarely as the program does.
func BenchmarkCheck(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(400))
	for _, stacks := range []int{100, 1000, 10000} {
		names, texts, surveys := largeLab(stacks)
		b.Run(fmt.Sprintf("toml-library/%d", stacks), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				for _, text := range texts {
					var into map[string]any
					if err := toml.Unmarshal([]byte(text), &into); err != nil {
						b.Fatal(err)
					}
				}
			}
		})
		b.Run(fmt.Sprintf("resolve/%d", stacks), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				lab.Resolve(read(names, texts), lab.Input{Folder: "/lab", Surveys: surveys})
			}
		})
		b.Run(fmt.Sprintf("check/%d", stacks), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				result := check.Run(lab.Resolve(read(names,
					texts), lab.Input{Folder: "/lab", Surveys: surveys}), check.All())
				if n := result.Count(check.Error); n > 0 && stacks <= 1000 {
					b.Fatalf("a correct lab has %d errors: %s", n, result.Findings[0].Message)
				}
			}
		})
	}
}
