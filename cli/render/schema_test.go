package render

import (
	"bytes"
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/plan"
)

// The schema of all outputs is that of their types. UPDATE_SCRIPTS=1 writes it again.
func TestOutputsSchema(t *testing.T) {
	words := map[reflect.Type][]any{
		reflect.TypeFor[check.Severity](): {check.Error, check.Warning, check.Note},
		reflect.TypeFor[plan.Action]():    {plan.Create, plan.Replace, plan.Start, plan.Keep, plan.Remove},
	}
	named := map[string]reflect.Type{}
	r := jsonschema.Reflector{
		Anonymous: true, ExpandedStruct: true,
		Namer: func(t reflect.Type) string {
			if t.Name() == "" {
				return ""
			}
			name := strings.ToLower(t.Name()[:1]) + strings.TrimPrefix(t.Name()[1:], "D") // IDMap is idMap
			if other, ok := named[name]; ok && other != t {
				panic(t.String() + " and " + other.String() + " have one name")
			}
			named[name] = t
			return name
		},
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if enum, ok := words[t]; ok {
				return &jsonschema.Schema{Type: "string", Enum: enum}
			}
			return nil
		},
	}
	s := r.Reflect(&documents{})
	s.Title, s.Required = "What the commands of lantern write with --format json", nil
	var text bytes.Buffer
	require.NoError(t, JSON(&text, s))
	if os.Getenv("UPDATE_SCRIPTS") != "" {
		require.NoError(t, os.WriteFile("outputs.schema.json", text.Bytes(), 0o644))
		outputsSchema = text.Bytes()
	}
	assert.Equal(t, text.String(), string(outputsSchema))
}
