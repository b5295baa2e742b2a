package interchange

import (
	"io/fs"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

func input(files map[string]string) Input {
	return Input{
		Stack: "tides", Folder: "/home/keeper/tides", Profiles: []string{"all"}, Env: map[string]string{"TAG": "4.2", "EMPTY": ""},
		Read: func(path string) (string, error) {
			if text, ok := files[path]; ok {
				return text, nil
			}
			return "", fs.ErrNotExist
		},
		Exists: func(path string) bool { return path == "here" },
	}
}

// read reads what was written of a file as the check would.
func read(t require.TestingT, text string) *declare.Stack {
	decl := declare.Read([]string{"tides"}, func(path string) (string, error) {
		switch {
		case path == declare.LabFile:
			return "lab = \"skerry\"\n", nil
		case strings.HasSuffix(path, ".env"):
			return "", nil
		}
		return text, nil
	})
	require.Empty(t, decl.Problems, text)
	return decl.Stacks[0]
}

// Each element arrives, or is told with its line; so is what the specification does not know.
func TestEverything(t *testing.T) {
	content, err := os.ReadFile("testdata/everything.yaml")
	require.NoError(t, err)
	text := strings.NewReplacer("include: []\n", "\n", "    extends: {}\n", "\n").Replace(string(content))
	got, problem := Import(source.NewFile("everything.yaml", text), input(map[string]string{"desk.env": "export A='b c'\nLEVEL=debug\nB_TOKEN=\"x\\ny\" # why\n"}))
	require.Nil(t, problem)
	st := read(t, got.Text)
	require.Len(t, st.Services, 4)
	want, err := os.ReadFile("testdata/everything.toml")
	if os.Getenv("UPDATE_SCRIPTS") != "" {
		require.NoError(t, os.WriteFile("testdata/everything.toml", []byte(got.Text), 0o644))
	} else {
		require.NoError(t, err)
		assert.Equal(t, string(want), got.Text)
	}
	assert.Equal(t, map[string]string{"everything.env": "DESK_PASSWORD=\"moon \\\"over\\\" skerry\"\nB_TOKEN=\"x\\ny\"\n"}, got.Env)
	assert.NotContains(t, got.Text, "moon")
	assert.Regexp(t, `^\n\[network.causeway\]  # \d+: networks; somebody else makes it\nexisting = true\nengine-name = "causeway"\n$`, got.Lab)
	lines := strings.Split(text, "\n")
	noted := map[string]bool{}
	for _, n := range got.Notes {
		last := n.Element[strings.LastIndexByte(n.Element, '.')+1:]
		noted[last] = true
		require.LessOrEqual(t, n.Line, len(lines))
	}
	for _, e := range append(serviceElements, topElements...) {
		assert.Regexp(t, `(?m)^ *`+e.name+`:`, string(content), "the file has every element")
		assert.False(t, e.becomes == "" && e.instead == "", "%s is told", e.name)
		if e.instead != "" {
			assert.True(t, noted[e.name], "%s is noted", e.name)
		}
		if e.read != nil && e.name != "links" && e.name != "container_name" {
			assert.Regexp(t, regexp.MustCompile(`# \d+: (`+e.name+`|`+alias(e.name)+`)`), got.Text, "%s arrives", e.name)
		}
	}
	assert.True(t, noted["unheard_of"])
}

// alias is what an element is called where its parts are written.
func alias(name string) string {
	return map[string]string{"deploy": "memory", "env_file": "env_file desk.env", "networks": "networks"}[name]
}

// specification are the elements of a service that the specification has, beside those that begin with x-. The list was
// written down from memory: it has to be held against a version of the text.
const specification = `annotations attach build blkio_config cap_add cap_drop cgroup cgroup_parent command configs container_name
cpu_count cpu_percent cpu_shares cpu_quota cpu_period cpu_rt_period cpu_rt_runtime cpus cpuset credential_spec depends_on deploy
develop device_cgroup_rules devices dns dns_opt dns_search domainname entrypoint env_file environment expose extends external_links
extra_hosts gpus group_add healthcheck hostname image init ipc isolation label_file labels links logging mac_address mem_limit
mem_reservation mem_swappiness memswap_limit models network_mode networks oom_kill_disable oom_score_adj pid pids_limit platform
ports post_start pre_stop privileged profiles provider pull_policy pull_refresh_after read_only restart runtime scale secrets
security_opt shm_size stdin_open stop_grace_period stop_signal storage_opt sysctls tmpfs tty ulimits use_api_socket user
userns_mode uts volumes volumes_from working_dir`

func TestElements(t *testing.T) {
	var known []string
	for _, e := range serviceElements {
		known = append(known, e.name)
		assert.NotEqual(t, noCounterpart, e.instead, "%s: what is to be done?", e.name)
		assert.NotEqual(t, e.becomes == "", e.instead == "", "%s becomes something, or has something instead", e.name)
	}
	assert.ElementsMatch(t, strings.Fields(specification), known)
	known = nil
	for _, e := range topElements {
		known = append(known, e.name)
	}
	assert.ElementsMatch(t, strings.Fields("version name services volumes networks configs secrets models include"), known)
}

// Forms of single elements.
func TestForms(t *testing.T) {
	for yaml, want := range map[string]string{
		"environment: [A=b, C]":                                                    "env.A = \"b\"",
		"environment: {A: \"${TAG}\"}":                                             "env.A = \"4.2\"",
		"environment: {A: \"${NONE:-x${TAG}y}\"}":                                  "env.A = \"x4.2y\"",
		"environment: {A: \"${EMPTY:-x}${EMPTY-y}\"}":                              "env.A = \"x\"",
		"environment: {A: \"${TAG:+yes}${NONE+no}\"}":                              "env.A = \"yes\"",
		"environment: {A: \"$TAG.$$TAG\"}":                                         "env.A = \"4.2.$TAG\"",
		"environment: {A: \"$${TAG}\"}":                                            "env.A = \"${$}{TAG}\"",
		"environment: {A: \"${NONE}\"}":                                            "env.A = \"${shell.NONE}\"",
		"environment: {A: 0.50}":                                                   "env.A = \"0.50\"",
		"build: ./works":                                                           "build = { folder = \"./works\" }",
		"build: {context: ., dockerfile: Recipe, target: small, args: {A: \"1\"}}": "build = { folder = \"./image\", recipe = \"Recipe\", stage = \"small\", arguments = { A = \"1\" } }",
		"build: {context: a, args: [\"A=b\"]}":                                     "arguments = { A = \"b\" }",
		"scale: 3":                                                                 "copies = 3",
		"deploy: {replicas: 2}":                                                    "copies = 2",
		"restart: no":                                                              "restart = \"no\"",
		"restart: \"on-failure\"":                                                  "restart = \"on-failure\"",
		"depends_on: [other]":                                                      "after = [\"other\"]",
		"healthcheck: {test: \"ask || exit 1\", interval: 10s}":                    "\"ask || exit 1\"], within = \"30s\" }",
		"healthcheck: {interval: 1m}":                                              "ready = { image = true, within = \"180s\" }",
		"ports: [\"[::1]:8710:80\"]":                                               "ports = [\"[::1]:8710 -> 80\"]",
		"ports: [\"0.0.0.0:8710:80\"]":                                             "ports = [\"8710 -> 80\"]",
		"ports: [8710:80]":                                                         "ports = [\"8710 -> 80\"]",
		"volumes: [\"./here:/a:ro,z\"]":                                            "/home/keeper/tides/here -> /a, read-only",
		"volumes: [\"../up:/a\"]":                                                  "./up -> /a, create",
		"volumes: [/srv/app.conf:/etc/app.conf]":                                   "/srv/app.conf -> /etc/app.conf\"",
		"network_mode: host":                                                       "network = \"host\"",
		"mem_limit: 1.5g":                                                          "memory = \"1536MiB\"",
		"logging: {options: {max-size: 500k}}":                                     "log-limit = \"1 x 500kB\"",
		"environment: [\"A=b=c\"]":                                                 "env.A = \"b=c\"",
		"environment: {A: , B: x}":                                                 "env.A = \"${shell.A}\"",
		"environment: {A: \"line\\nline\"}":                                        "env.A = \"line\\nline\"",
		"environment: {A: true, B: 5}":                                             "env.A = \"true\"",
		"env_file: {path: a.env}":                                                  "image = \"a\"",
		"env_file: [{path: kept.env, required: false}]":                            "env.KEPT = \"yes\"",
		"restart: always":                                                          "restart = \"always\"",
		"depends_on: {other: {condition: service_started}}":                        "after = [\"other\"]",
		"links: [\"other:alias\"]":                                                 "after = [\"other\"]",
		"healthcheck: {test: [CMD-SHELL, \"a | b\"]}":                              "[\"/bin/sh\", \"-c\", \"a | b\"]",
		"healthcheck: {test: [NONE]}":                                              "image = \"a\"",
		"ports: [80]":                                                              "ports = [\"any -> 80\"]",
		"ports: [\"8710-8712:80-82\"]":                                             "ports = [\"8710-8712 -> 80-82\"]",
		"ports: [\"8710-8720:80\"]":                                                "ports = [\"any -> 80\"]",
		"ports: [{target: 53, protocol: udp, published: 5353}]":                    "ports = [\"5353 -> 53/udp\"]",
		"volumes: [{type: bind, source: /a, target: /b, bind: {propagation: rshared}}]": "/a -> /b, shared, create",
		"volumes: [{type: tmpfs, target: /b}]":                                          "mounts = [\"memory -> /b\"]",
		"tmpfs: /run":                                                                   "mounts = [\"memory -> /run\"]",
		"user: \"1311\"":                                                                "run-as = \"1311:0\"",
		"user: keeper:watch":                                                            "run-as = \"inside keeper:watch\"",
		"user: keeper":                                                                  "run-as = \"inside keeper\"",
		"devices: [{source: /dev/a, target: /dev/b}]":                                   "devices = [\"/dev/a -> /dev/b\"]",
		"ulimits: {nofile: 1024}":                                                       "ulimits = { nofile = \"1024\" }",
		"extra_hosts: {lamp: 192.0.2.14}":                                               "address-book = { lamp = \"192.0.2.14\" }",
		"sysctls: [\"net.core.somaxconn=512\"]":                                         "sysctls = { \"net.core.somaxconn\" = \"512\" }",
		"stop_grace_period: 1500ms":                                                     "stop-within = \"1500ms\"",
		"shm_size: 1048576":                                                             "shared-memory = \"1MiB\"",
		"pull_policy: never":                                                            "fetch = \"never\"",
		"command: [\"a\", \"$$HOME\"]":                                                  "command = [\"a\", \"$HOME\"]",
		"entrypoint: \"/bin/desk --now\"":                                               "entrypoint = [\"/bin/desk\", \"--now\"]",
		"command: []":                                                                   "command = []",
		"labels: [\"a.b=c\"]":                                                           "labels = { \"a.b\" = \"c\" }",
	} {
		got, problem := Import(source.NewFile("a.yaml", "services:\n  other: {image: b}\n  s:\n    image: a\n    "+yaml+"\n"),
			input(map[string]string{"kept.env": "KEPT=yes\n"}))
		if assert.Nil(t, problem, yaml) {
			assert.Contains(t, got.Text, want, yaml)
			read(t, got.Text)
		}
	}
}

// Files that bring others along: below the folder, each line with its file.
func TestIncludeAndExtend(t *testing.T) {
	files := map[string]string{
		"parts/store.yaml": "services:\n  store: {image: \"s:${TAG}\", volumes: [\"./data:/data\", \"keep:/keep\"], env_file: store.env}\nvolumes: {keep: }\n",
		"parts/store.env":  "LEVEL=low\n",
		"common.yaml": "services:\n  common:\n    extends: base\n    environment: {A: one, B: two}\n    ports: [\"8710:80\"]\n" +
			"  base: {image: b, command: [x, y], restart: always, domainname: skerry.example}\n",
		"circle.yaml": "include: [circle.yaml]\n", "twice.yaml": "services: {desk: {image: c}}\n",
	}
	got, problem := Import(source.NewFile("a.yaml", `include: [parts/store.yaml]
services:
  desk:
    extends: {file: common.yaml, service: common}
    image: d
    environment: [B=three, C=four]
    command: [z]
    ports: ["8711:81", "8710:80"]
`), input(files))
	require.Nil(t, problem)
	desk := read(t, got.Text).Services[0]
	assert.Equal(t, "d", desk.Image.Value)
	var env, ports []string
	for _, v := range desk.Env {
		env = append(env, v.Name+"="+v.Value.Value)
	}
	for _, p := range desk.Ports {
		ports = append(ports, p.Value)
	}
	assert.Equal(t, []string{"A=one", "B=three", "C=four"}, env)
	assert.Equal(t, []string{"8710 -> 80", "8711 -> 81"}, ports)
	assert.Contains(t, got.Text, "command = [\"z\"]  # 7: command\n")
	assert.Contains(t, got.Text, "restart = \"always\"  # common.yaml:6: restart\n")
	assert.Contains(t, got.Text, "image = \"s:4.2\"  # parts/store.yaml:2: image\n")
	assert.Contains(t, got.Text, "\"./parts/data -> /data, create\",  # parts/store.yaml:2: volumes\n")
	assert.Contains(t, got.Text, "env.LEVEL = \"low\"")
	assert.Contains(t, got.Notes, Note{"common.yaml", 6, "services.desk.domainname", "has no counterpart: write it into hostname, behind a dot"})
	for text, want := range map[string]string{
		"include: [circle.yaml]\nservices: {a: {image: b}}":                 "a circle",
		"include: [twice.yaml]\nservices: {desk: {image: b}}":               "in the file that includes this one, too",
		"services: {a: {extends: {file: twice.yaml, service: store}}}":      "no service store to extend",
		"services: {a: {extends: {file: parts/store.env, service: store}}}": "a table with services",
		"include: [{env_file: a}]\nservices: {a: {image: b}}":               "include needs path",
	} {
		_, problem := Import(source.NewFile("a.yaml", text), input(files))
		if assert.NotNil(t, problem, text) {
			assert.Contains(t, problem.Message, want, text)
		}
	}
}

// What nobody can have meant, or somebody means ill, is refused at its line.
func TestRefused(t *testing.T) {
	bomb := "a: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 8 {
		next := string(rune('b' + i))
		bomb += next + ": &" + next + " [" + strings.TrimSuffix(strings.Repeat("*"+string(rune('a'+i))+", ", 10), ", ") + "]\n"
	}
	for text, want := range map[string]string{
		"":                                 "is empty",
		"a: [":                             "no YAML",
		"- a":                              "a table with services",
		"name: a":                          "no services",
		"services: {a: {image: b}, a: {}}": "two values for one name",
		"services: {}":                     "no service is left",
		"services: {a: 5}":                 "a is no table",
		"services: []":                     "a table of names",
		"services: {a: {extends: b}}":      "no service b to extend",
		"services: {a: {extends: a}}":      "a circle",
		"services: {a: {extends: b}, b: {extends: a}}":            "a circle",
		"services: {a: {extends: {file: x.yaml}}}":                "needs the name",
		"services: {a: {extends: {file: x.yaml, service: a}}}":    "x.yaml cannot be read",
		"services: {a: {extends: {file: ../x.yaml, service: a}}}": "outside of the folder",
		"include: [../b.yaml]\nservices: {a: {}}":                 "outside of the folder",
		"include: [/etc/passwd]\nservices: {a: {}}":               "outside of the folder",
		"include: [b]\nservices: {a: {}}":                         "b cannot be read",
		"services: {a: {image: \"$\"}}":                           "a $ that is meant as itself",
		"services: {a: {image: \"${A\"}}":                         "closing }",
		"services: {a: {image: \"${A~b}\"}}":                      "form that the specification does not know",
		"services: {a: {<<: 5}}":                                  "only a table can be merged",
		bomb + "services: {a: {image: b}}":                        "larger, or deeper",
		strings.Repeat("[", 1000):                                 "no YAML",
		"services:\n  a: &a\n    b: *a\n":                         "part of",
		"a: " + strings.Repeat("x", 1<<20):                        "more than 1 MiB",
	} {
		_, problem := Import(source.NewFile("a.yaml", text), input(nil))
		if assert.NotNil(t, problem, "%.60s", text) {
			assert.Contains(t, problem.Message, want, "%.60s", text)
		}
	}
	_, problem := Import(source.NewFile("a.yaml", "services:\n  a:\n    image: b\n    image: c\n"), input(nil))
	require.NotNil(t, problem)
	assert.Equal(t, 4, problem.At.Place().Line)
}

// Whatever a file says, it is refused, or becomes a stack that can be read.
func FuzzImport(f *testing.F) {
	content, err := os.ReadFile("testdata/everything.yaml")
	require.NoError(f, err)
	f.Add(string(content))
	f.Add("services:\n  a.b:\n    image: a\n    ports: ['1:2']\n    environment: {\"A\\nB\": \"c\"}\n")
	f.Add("services: {a: {image: \"b\\n[service.c]\", labels: {a: \"\\u0000\"}}}")
	f.Fuzz(func(t *testing.T, text string) {
		got, problem := Import(source.NewFile("a.yaml", text), input(map[string]string{"desk.env": text}))
		if problem != nil {
			problem.At.Excerpt()
			return
		}
		decl := declare.Read([]string{"tides"}, func(path string) (string, error) {
			switch {
			case path == declare.LabFile:
				return "lab = \"skerry\"\n", nil
			case strings.HasSuffix(path, ".env"):
				return got.Env[strings.TrimPrefix(path, "tides/")], nil
			}
			return got.Text, nil
		})
		for _, p := range decl.Problems {
			require.NotEqual(t, "syntax", p.Rule, "%s\n%s", p.Message, got.Text)
		}
	})
}

// A command line as a page of an image prints it.
func TestImportCommand(t *testing.T) {
	got, problem := ImportCommand(source.NewFile("command line", `sudo engine run -d \
  --name tide_desk --restart=unless-stopped -p 8710:80 -p127.0.0.1:8711:8711/udp \
  -e LEVEL=info -e "DESK_PASSWORD=moon over skerry" -v /srv/tides:/data:ro -v state:/state \
  --memory 512m --cap-add NET_ADMIN -it --rm --network host \
  registry.skerry.example/tide-desk:2.3 serve --quiet "the tides"
`), input(nil))
	require.Nil(t, problem)
	s := read(t, got.Text).Services[0]
	assert.Equal(t, "tide-desk", s.Name)
	for _, line := range []string{`image = "registry.skerry.example/tide-desk:2.3"`, `restart = "unless-stopped"`, `"8710 -> 80",`,
		`"127.0.0.1:8711 -> 8711/udp",`, `env.LEVEL = "info"`, `"/srv/tides -> /data, read-only, create",`, `"volume state -> /state",`,
		`memory = "512MiB"`, `capabilities = ["NET_ADMIN"]`, `network = "host"`, `command = ["serve", "--quiet", "the tides"]`} {
		assert.Contains(t, got.Text, line)
	}
	assert.Equal(t, map[string]string{"tide-desk.env": "DESK_PASSWORD=\"moon over skerry\"\n"}, got.Env)
	assert.Contains(t, got.Notes, Note{"", 1, "rm", "rm true: lantern keeps the container: it is the service"})
	for line, want := range map[string]string{
		"": "no options", "engine run image": "no options", "run -d": "no image", "run -p": "has no value", "run --unheard a": "is not known here",
		"run -e 'A": "cannot be told apart", strings.Repeat("a ", 40_000): "longer than any",
	} {
		_, problem := ImportCommand(source.NewFile("command line", line), input(nil))
		if assert.NotNil(t, problem, "%.40s", line) {
			assert.Contains(t, problem.Message, want, "%.40s", line)
		}
	}
}
