package declare

import (
	"cmp"
	"slices"
	"strings"
)

// Grammars of texts as regular expressions (ECMA 262, as JSON Schema wants them). They accept a little more
// than the reader does; a text with a reference is always accepted, because what it becomes is known only
// later.
const (
	patternSize     = `[0-9.]+ ?(B|kB|MB|GB|KiB|MiB|GiB)`
	patternDuration = `([0-9]+(ms|s|m|h) ?)+`
	patternNumber   = `0*([1-9][0-9]{0,3}|[1-5][0-9]{4}|6[0-4][0-9]{3}|65[0-4][0-9]{2}|655[0-2][0-9]|6553[0-5])`
	patternRange    = patternNumber + `(\s*-\s*` + patternNumber + `)?`
	patternHost     = `((localhost|[0-9.]+|\[[0-9a-fA-F:.]+\])\s*:\s*)?`
	patternProtocol = `(\s*/\s*(tcp|udp|sctp|tcp\+udp))?`
	patternMount    = `('[^']*'|[^,]+)\s*->\s*/[^,]*(,.*)?`
	patternEndpoint = `(https )?\s*` + patternNumber + `(/\S*)?`
	patternName     = `[a-z][a-z0-9-]{0,39}`
	patternMachine  = `[A-Za-z0-9.]([A-Za-z0-9.-]{0,61}[A-Za-z0-9.])?`
)

// anyCase matches words in capitals or in small letters.
func anyCase(words []string) string {
	all := strings.Join(words, "|")
	return all + "|" + strings.ToLower(all)
}

var keyPatterns = map[string]string{
	"memory": patternSize, "shared-memory": patternSize, "stop-within": patternDuration,
	"ready-within": patternDuration, "within": patternDuration,
	"restart":        `(no|unless-stopped|always|on-failure( [1-9][0-9]*)?)`,
	"log-limit":      `(none|[1-9][0-9]*\s*x\s*` + patternSize + `)`,
	"ports":          patternHost + `(any|` + patternRange + `)\s*->\s*` + patternRange + patternProtocol,
	"listens":        patternHost + patternRange + patternProtocol,
	"reserved-ports": patternRange + patternProtocol + `( for ` + patternName + `/` + patternName + `)?`,
	"mounts":         patternMount, "page": patternEndpoint, "http": patternEndpoint,
	"status":   `[1-5][0-9]{2}(-[1-5][0-9]{2})?`,
	"platform": `[a-z0-9]+/[a-z0-9]+(/[a-z0-9]+)?`, "working-dir": `/.*`, "devices": `/[^,]*`,
	"hostname": patternMachine, "aliases": `[A-Za-z0-9._]([A-Za-z0-9._-]{0,61}[A-Za-z0-9._])?`,
	"engine": `(unix:///.*|ssh://([^:@/ ]+@)?[^:@/ ]+(:` + patternNumber +
		`)?(/.*)?|tcp://([^:@/ \[]+|\[[0-9a-fA-F:.]+\]):` + patternNumber + `/?)`,
	"subnet": `[0-9a-fA-F.:]+/[0-9]{1,3}`, "engine-name": patternEngineName, "takes-over": patternEngineName,
	"timezone-variable": `[^=\s]+`, "owner-variables": `[^=\s]+`, "dns": `[0-9a-fA-F]*[.:][0-9a-fA-F.:]*`,
	"capabilities":      `([Cc][Aa][Pp]_)?(` + anyCase(append([]string{"ALL"}, capabilities...)) + `)`,
	"drop-capabilities": `([Cc][Aa][Pp]_)?(` + anyCase(append([]string{"ALL"}, capabilities...)) + `)`,
	"stop-signal":       patternSignal, "reload": patternSignal,
	"[gate.HOST] http": patternHost + patternNumber, "[gate.HOST] https": patternHost + patternNumber,
	"build folder": `\.(/.*)?`,
	"sites":        `[^\s>]+\s*->\s*` + patternNumber + `\s*(,.*)?`,
	"files":        `('[^']*'|\./[^,]*)\s*->\s*/[^,]*(,.*)?`,
	"lab":          patternName, "accept": `.*\S.*`,
}

// patternSignal is that of [ParseSignal].
var patternSignal = `([Ss][Ii][Gg])?(` + anyCase(signals) + `|(RTMIN|rtmin)\+[0-9]+)|[0-9]+`

// patternEngineName is that of [ParseEngineName].
const patternEngineName = `[A-Za-z0-9][A-Za-z0-9_.-]*`

const namePattern = `^` + patternName + `$`

// requiredKeys are those without which a table has no meaning.
var requiredKeys = map[string][]string{"lab.toml": {"lab"}, "build": {"folder"}, "[service.NAME]": {"image"}, "cards/NAME.toml": {"card"}}

// Schema returns the JSON Schema (2020-12) of a file from its keys, for editors.
func Schema(title string, keys []KeyDoc) map[string]any {
	s := object(keys)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = title
	return s
}

// object describes a table with these keys and no others.
func object(keys []KeyDoc) map[string]any {
	properties := map[string]any{}
	s := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	for _, k := range keys {
		value := k.schema()
		value["description"] = k.Doc
		properties[k.Name] = value
		if r := requiredKeys[k.Table]; r != nil {
			s["required"] = r
		}
	}
	return s
}

// schema describes what a key takes.
func (k KeyDoc) schema() map[string]any {
	text := func() map[string]any {
		s := map[string]any{"type": "string"}
		if p := cmp.Or(keyPatterns[k.Table+" "+k.Name], keyPatterns[k.Name]); p != "" {
			s["pattern"] = `^(.*\$\{.*|\s*(` + p + `)\s*)$`
		}
		if k.Words != nil {
			s["enum"] = k.Words
		}
		return s
	}
	scalar := map[string]any{"type": []string{"string", "number", "boolean"}}
	byName := func(value map[string]any) map[string]any {
		return map[string]any{
			"type":                 "object",
			"patternProperties":    map[string]any{namePattern: value},
			"additionalProperties": false,
		}
	}
	switch k.Takes {
	case FormTexts:
		list := map[string]any{"type": "array", "items": text()}
		if k.Name == "owner-variables" {
			list["minItems"], list["maxItems"] = 2, 2
		}
		return list
	case FormTextOrTexts:
		return map[string]any{"anyOf": []any{
			text(), map[string]any{"type": "array", "items": map[string]any{"type": "string"}},
		}}
	case FormTextsOrNumbers:
		return map[string]any{"type": "array", "items": map[string]any{"type": []string{"string", "integer"}}}
	case FormInteger:
		return map[string]any{"type": "integer", "minimum": 1, "maximum": 65535}
	case FormNumber:
		return map[string]any{"type": "number", "exclusiveMinimum": 0}
	case FormBoolean:
		return map[string]any{"type": "boolean"}
	case FormTable:
		return object(k.Keys)
	case FormTables:
		return byName(object(k.Keys))
	case FormTablesOf:
		return map[string]any{"type": "object", "additionalProperties": object(k.Keys)}
	case FormNamed:
		return byName(text())
	case FormValues:
		if len(k.Keys) > 0 { // [let]
			return byName(map[string]any{"anyOf": []any{
				scalar, withRequired(only(k.Keys, "env-file", "key", "random"), "env-file", "key"),
				withRequired(only(k.Keys, "ask", "once"), "ask"),
				withRequired(only(k.Keys, "from", "file", "match"), "from", "file", "match"),
			}})
		}
		return map[string]any{"type": "object", "additionalProperties": scalar}
	case FormPairs:
		// Names with dots may be written as dotted keys: tables inside tables.
		value := text()
		value["type"] = []string{"string", "object"}
		return map[string]any{"type": "object", "additionalProperties": value}
	}
	return text()
}

// only describes a table with some of the keys.
func only(keys []KeyDoc, names ...string) map[string]any {
	return object(slices.DeleteFunc(slices.Clone(keys), func(k KeyDoc) bool { return !slices.Contains(names, k.Name) }))
}

func withRequired(s map[string]any, keys ...string) map[string]any {
	s["required"] = keys
	return s
}
