//go:build linux

package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/moby/moby/api/types/container"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// Every JSON output is as `lantern schema json` says, and the findings are SARIF, too.
func TestJSONOutputs(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		stdout, _ := b.run(0, "schema", "json")
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(stdout))
		require.NoError(t, err)
		c := jsonschema.NewCompiler()
		require.NoError(t, c.AddResource("mem:///outputs.json", document))
		schema, err := c.Compile("mem:///outputs.json")
		require.NoError(t, err)
		seen := map[string]bool{}
		valid := func(name, text string) {
			t.Helper()
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"` + name + `": ` + text + `}`))
			require.NoError(t, err, text)
			assert.NoError(t, schema.Validate(value), name)
			seen[name] = true
		}
		desk, front := freePort(t), freePort(t)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		b.write("tide-log/tide-log.env", "TIDES_DB_PASSWORD=the-moon-pulls-the-sea\n")
		b.write("tide-log/stack.toml", fmt.Sprintf(stackText, enginetest.Page, front, "low", "20s", desk))
		run := func(name string, code int, args ...string) {
			t.Helper()
			stdout, _ := b.run(code, append(args, "--format", "json")...)
			valid(name, stdout)
		}
		run("check", 0, "check")
		run("deploy --dry-run", 0, "deploy", "--dry-run")
		run("compare", 1, "compare", "--fail-if-different")
		run("status", 1, "status")
		stdout, _ = b.run(0, "deploy", "--yes", "--format", "json")
		lines := strings.Split(strings.TrimSpace(stdout), "\n")
		for _, line := range lines[:len(lines)-1] {
			valid("deploy", line)
		}
		valid("deploy result", lines[len(lines)-1])
		run("status", 0, "status")
		run("status --processes", 0, "status", "--processes", "tide-log/desk")
		stdout, _ = b.run(0, "logs", "tide-log", "--last", "1", "--format", "json")
		for line := range strings.Lines(stdout) {
			valid("logs", line)
		}
		stdout, _ = b.run(0, "restart", "tide-log/desk", "--format", "json")
		lines = strings.Split(strings.TrimSpace(stdout), "\n")
		for _, line := range lines[:len(lines)-1] {
			valid("deploy", line)
		}
		valid("deploy result", lines[len(lines)-1])
		if !target.Real() { // else it would ask a registry that does not exist
			run("update", 0, "update")
		}
		run("prove", 0, "prove")
		run("sweep", 0, "sweep")
		run("logbook", 0, "logbook", "tide-log")
		run("ports", 0, "ports")
		run("ports --free", 0, "ports", "--free", "3")
		run("mounts", 0, "mounts")
		run("map", 0, "map")
		run("image", 0, "image", enginetest.Page)
		run("draft", 0, "draft", enginetest.Page, "--stack", "another", "--dry-run")
		run("begin", 0, "begin", t.TempDir(), "--dry-run", "--engine", target.Address)
		run("prepare", 0, "prepare", "--dry-run")
		b.write("there/stack.yaml", "services:\n  desk:\n    image: a:1\n    domainname: skerry.example\n")
		run("import", 0, "import", filepath.Join(b.dir, "there/stack.yaml"), "--stack", "another", "--dry-run")
		b.byHand("by-hand", &container.Config{Image: enginetest.Page, Tty: true}, nil, nil)
		run("adopt", 0, "adopt", "by-hand", "--stack", "adopted", "--dry-run")
		to := t.TempDir()
		run("backup", 0, "backup", "tide-log", "--live", "--to", to)
		made, err := filepath.Glob(to + "/*")
		require.NoError(t, err)
		require.Len(t, made, 1)
		run("restore", 0, "restore", made[0], "--list")
		run("env", 0, "env", "tide-log")
		run("survey", 0, "survey")

		// A site, on ports of its own.
		gate := fmt.Sprintf("[gate.lamp-room]\nhttps = \"localhost:%d\"\ncertificates = \"own\"\n", freePort(t))
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address)+gate)
		b.write("pier/stack.toml", fmt.Sprintf("[service.page]\nimage = %q\nready = { http = \"8080/\" }\nsites = [\"pier.localhost -> 8080\"]\n", enginetest.Page))
		b.run(0, "deploy", "pier", "--yes")
		run("sites", 0, "sites")
		run("sites --visits", 0, "sites", "--visits")
		run("sites --trust", 0, "sites", "--trust")
		b.run(0, "retire", "pier", "--yes")
		b.run(0, "retire", "gate-lamp-room", "--yes")
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "pier")))

		// With findings of each kind: with evidence elsewhere, with a mend, accepted.
		b.write("tide-log/stack.toml",
			fmt.Sprintf(stackText, enginetest.Page, front, "low", "20s", desk)+fmt.Sprintf(`
[service.second]
image = "registry.skerry.example/probe:1"
ports = ["localhost:%d -> 8080"]
owner = "1311"
privileged = true
timezone = "utc"
accept = { safety-privileged = "it mends the others" }
`, desk))
		run("check", 1, "check")
		run("error", 2, "logbook", "tide-log", "77")
		run("error", 1, "compare")
		stdout, _ = b.run(1, "deploy", "--yes", "--format", "json")
		lines = strings.Split(strings.TrimSpace(stdout), "\n")
		require.Len(t, lines, 2, "the findings, and the result")
		valid("check", lines[0])
		valid("deploy result", lines[1])
		stdout, _ = b.run(1, "check", "--format", "sarif")
		standardText, err := os.ReadFile("testdata/sarif-schema-2.1.0.json") // that of the standard (OASIS)
		require.NoError(t, err)
		standard, err := jsonschema.UnmarshalJSON(bytes.NewReader(standardText))
		require.NoError(t, err)
		c = jsonschema.NewCompiler()
		require.NoError(t, c.AddResource("sarif.json", standard))
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(stdout))
		require.NoError(t, err)
		require.NoError(t, c.MustCompile("sarif.json").Validate(value))
		type location struct {
			PhysicalLocation struct {
				ArtifactLocation struct{ URI string }
				Region           struct{ StartColumn, EndColumn int }
			}
		}
		type result struct {
			RuleID                      string
			RuleIndex                   int
			Level                       string
			Locations, RelatedLocations []location
			Fixes                       []struct {
				ArtifactChanges []struct{ Replacements []any }
			}
			Suppressions []struct{ Justification string }
		}
		var report struct {
			Runs []struct {
				Tool struct {
					Driver struct{ Rules []struct{ ID string } }
				}
				Results []result
			}
		}
		require.NoError(t, json.Unmarshal([]byte(stdout), &report))
		by := map[string]result{}
		for _, r := range report.Runs[0].Results {
			by[r.RuleID] = r
			assert.Equal(t, r.RuleID, report.Runs[0].Tool.Driver.Rules[r.RuleIndex].ID)
		}
		clash := by["port-clash"]
		require.NotEmpty(t, clash.Locations)
		assert.Equal(t, "error", clash.Level)
		at := clash.Locations[0].PhysicalLocation
		assert.Equal(t, "tide-log/stack.toml", at.ArtifactLocation.URI)
		assert.Equal(t, len(fmt.Sprint(desk)), at.Region.EndColumn-at.Region.StartColumn)
		assert.Equal(t, "tide-log/stack.toml", clash.RelatedLocations[0].PhysicalLocation.ArtifactLocation.URI)
		assert.Empty(t, clash.Fixes, "with other mistakes in the lab nobody knows which port is free")
		assert.Len(t, by["zone-unknown"].Fixes[0].ArtifactChanges[0].Replacements, 1)
		assert.Equal(t, "it mends the others", by["safety-privileged"].Suppressions[0].Justification)
		assert.NotContains(t, stdout, "the-moon-pulls")
		properties, _ := document.(map[string]any)["properties"].(map[string]any)
		if target.Real() {
			delete(properties, "update")
		}
		assert.Len(t, seen, len(properties), "every document was written once")
		_, stderr := b.run(2, "status", "--format", "sarif")
		assert.Contains(t, stderr, "--format is text or json, not sarif")
		b.run(0, "retire", "tide-log", "--yes")
	})
}
