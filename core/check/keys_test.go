package check_test

import (
	"encoding/json"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/survey"
)

// anythingGoes are keys that every value of their type is right for.
var anythingGoes = strings.Fields(
	"about address insecure internal existing driver options image command entrypoint secret-variables " +
		"overlap privileged read-only init service default ready once from contact gate sign-in domain certificate dns-update key-name")

// schemas are those that lantern schema prints.
func schemas(t *testing.T) map[string]*jsonschema.Schema {
	t.Helper()
	compiled := map[string]*jsonschema.Schema{}
	for name, s := range map[string]map[string]any{
		declare.LabFile:   declare.Schema(declare.LabFile, declare.LabDocs()),
		declare.StackFile: declare.Schema(declare.StackFile, declare.StackDocs()),
	} {
		c := jsonschema.NewCompiler()
		require.NoError(t, c.AddResource(name, throughJSON(t, s)))
		var err error
		compiled[name], err = c.Compile(name)
		require.NoError(t, err)
	}
	return compiled
}

func throughJSON(t *testing.T, value any) any {
	t.Helper()
	text, err := json.Marshal(value)
	require.NoError(t, err)
	out, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	require.NoError(t, err)
	return out
}

// wrongFile returns the two files of a lab with a line in a table.
func wrongFile(table, line string) map[string]string {
	line = strings.ReplaceAll(strings.TrimPrefix(line, "+"), `\n`, "\n") + "\n"
	lab, image := "lab = \"skerry-light\"\n", "image = \"registry.skerry.example/sensor:1.4\"\n"
	host, stack := "[host.lamp-room]\nengine = \"unix:///run/engine.sock\"\n",
		"[service.sensor]\n"+image+"run-as = \"owner\"\n"
	if table != "lab.toml" && table != "[host.NAME]" && table != "stack.toml" ||
		!strings.Contains(line, "owner =") {
		stack = "[service.sensor]\n" + image
	}
	switch table {
	case "lab.toml":
		if strings.HasPrefix(line, "lab =") {
			lab = ""
		}
		lab += line + host
		if strings.HasPrefix(line, "[") {
			lab = "lab = \"skerry-light\"\n" + line
		}
	case "[host.NAME]":
		if strings.Contains(line, "engine =") {
			host = "[host.lamp-room]\n"
		}
		if strings.Contains(line, "folder.") {
			stack += "env.A = \"${folder.data}\"\n"
		}
		lab += host + line
	case "tls":
		lab += "[host.lamp-room]\nengine = \"tcp://127.0.0.1:9\"\ntls." + line
	case "[network.NAME]":
		lab += host + "[network.causeway]\n" + line
	case "[default]":
		lab += host + "[default]\n" + line
	case "[let] NAME":
		other := `key = "A"`
		if strings.HasPrefix(line, "key") {
			other = `env-file = "mast.env"`
		}
		switch name, _, _ := strings.Cut(line, " "); name {
		case "random":
			other = `env-file = "mast.env", key = "A"`
		case "ask":
			other = `once = true`
		case "file":
			other = `from = "sensor", match = "(.*)"`
		case "match":
			other = `from = "sensor", file = "/state"`
		}
		lab, stack = lab+host, "let.a = { "+strings.TrimSpace(line)+", "+other+" }\n"+stack
	case "[gate.HOST]", "[sign-in.NAME]":
		name := map[string]string{"[gate.HOST]": "gate.lamp-room", "[sign-in.NAME]": "sign-in.keepers"}[table]
		lab += host + "[" + name + "]\n" + line
	case "[domain.NAME]":
		lab += host + "[domain.\"skerry.example\"]\n" + line
	case "certificate", "dns-update", "dns-update.key":
		whole := map[string]map[string]string{
			"certificate":    {"chain": `"a.pem"`, "key": `"a.pem"`},
			"dns-update":     {"server": `"192.0.2.1"`, "zone": `"skerry.example"`, "key-name": `"lamp"`, "key": `{ env-file = "mast/mast.env", key = "A" }`},
			"dns-update.key": {"env-file": `"mast/mast.env"`, "key": `"A"`},
		}[table]
		key, value, _ := strings.Cut(strings.TrimSpace(line), " = ")
		whole[key] = value
		var parts []string
		for _, k := range slices.Sorted(maps.Keys(whole)) {
			parts = append(parts, k+" = "+whole[k])
		}
		inner := "{ " + strings.Join(parts, ", ") + " }"
		if table == "dns-update.key" {
			inner, table = `{ server = "192.0.2.1", zone = "skerry.example", key-name = "lamp", key = `+inner+" }", "dns-update"
		}
		lab += host + "[domain.\"skerry.example\"]\n" + table + " = " + inner + "\n"
	case "stack.toml":
		lab, stack = lab+host, line+stack
	case "[volume.NAME]":
		lab, stack = lab+host, stack+"mounts = [\"volume readings -> /data\"]\n[volume.readings]\n"+line
	case "[service.NAME]":
		lab, stack = lab+host, stack+line
	case "build":
		folder := `folder = "./image", `
		if strings.HasPrefix(line, "folder") {
			folder = ""
		}
		lab, stack = lab+host, stack+"build = { "+folder+strings.TrimSpace(line)+" }\n"
	case "ready":
		lab, stack = lab+host, stack+"ready = { "+strings.TrimSpace(line)+" }\n"
	}
	return map[string]string{"lab.toml": lab, "mast/stack.toml": stack, "mast/mast.env": "A=b\n", "a.pem": pairText, "mast/image/Containerfile": "FROM scratch\n"}
}

// pairText is a certificate with its key.
var pairText = func() string {
	var all strings.Builder
	for _, name := range []string{"skerry.pem", "skerry.key"} {
		text, err := os.ReadFile("testdata/site-certificate/correct/" + name)
		if err != nil {
			panic(err)
		}
		all.Write(text)
	}
	return all.String()
}()

// A wrong value of any key is one finding, at the very letters that are wrong.
func TestWrongValues(t *testing.T) {
	text, err := os.ReadFile("testdata/wrong-values.txt")
	require.NoError(t, err)
	facts, err := os.ReadFile("testdata/base/lamp-room.json")
	require.NoError(t, err)
	compiled := schemas(t)
	covered := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		cells := strings.Split(strings.TrimSpace(line), " | ")
		require.Len(t, cells, 5, line)
		table, key, marked, message := cells[0], cells[1], cells[2], cells[4]
		rule, onlyWhole := strings.CutSuffix(cells[3], "*")
		for _, part := range strings.FieldsFunc(strings.NewReplacer(`\n`, "\n").Replace(key),
			func(c rune) bool { return strings.ContainsRune("+\n,", c) }) {
			name, _, _ := strings.Cut(strings.TrimLeft(part, " ["), " ")
			name, _, _ = strings.Cut(name, ".")
			covered[table+" "+name] = true
		}
		t.Run(table+" "+key, func(t *testing.T) {
			s, err := survey.Parse(facts)
			require.NoError(t, err)
			s.Containers = nil // of a lab whose name is changed
			files := wrongFile(table, key)
			r := check.Run(resolve([]string{"mast"}, files, map[string]*survey.Survey{
				"lamp-room": s,
				"local":     s,
			}), check.All())
			var all []string
			for _, f := range r.Findings {
				all = append(all, f.Rule+" `"+f.At.Text()+"` "+f.Message)
			}
			require.Len(t, all, 1, strings.Join(all, "\n")+"\n"+files["lab.toml"]+files["mast/stack.toml"])
			assert.Equal(t, rule+" `"+marked+"`", r.Findings[0].Rule+" `"+r.Findings[0].At.Text()+"`")
			assert.Contains(t, r.Findings[0].Message, message)
			rejected := false
			for name, file := range map[string]string{
				"lab.toml":        declare.LabFile,
				"mast/stack.toml": declare.StackFile,
			} {
				var value any
				require.NoError(t, toml.Unmarshal([]byte(files[name]), &value))
				rejected = rejected || compiled[file].Validate(throughJSON(t, value)) != nil
			}
			assert.Equal(t, !onlyWhole, rejected, "by the JSON Schema")
		})
	}
	var open func(keys []declare.KeyDoc)
	open = func(keys []declare.KeyDoc) {
		for _, k := range keys {
			if !covered[k.Table+" "+k.Name] && !slices.Contains(anythingGoes, k.Name) {
				t.Errorf("no wrong value for %s %s", k.Table, k.Name)
			}
			open(k.Keys)
		}
	}
	open(declare.LabDocs())
	open(declare.StackDocs())
}
