package declare

// Form says what a key takes: for the printed reference, for the JSON Schema and for `lantern about`.
type Form string

// The forms of keys.
const (
	FormText           Form = "text"
	FormTexts          Form = "list of texts"
	FormTextOrTexts    Form = "text or list of texts"
	FormTextsOrNumbers Form = "list of texts or whole numbers"
	FormInteger        Form = "whole number"
	FormNumber         Form = "number"
	FormBoolean        Form = "true or false"
	FormTable          Form = "table"           // with keys of its own
	FormTables         Form = "named tables"    // [service.NAME]: each with keys of its own
	FormTablesOf       Form = "tables by names" // [port.80]: names of any kind, each with keys of its own
	FormNamed          Form = "named texts"     // NAME = "text", names of our kind
	FormValues         Form = "named values"    // NAME = text, number or boolean
	FormPairs          Form = "texts by names"  // names of any kind
)

// KeyDoc is what is known of a key of the format.
type KeyDoc struct {
	Table   string // "lab.toml", "stack.toml", "[service.NAME]", …
	Name    string
	Takes   Form
	Doc     string   // what it means, one sentence
	Example string   // a line of TOML
	Words   []string // the only texts that it takes, where there are such
	Keys    []KeyDoc // of a table
}

func docs[T any](table string, keys []key[T]) []KeyDoc {
	out := make([]KeyDoc, 0, len(keys))
	for _, k := range keys {
		out = append(out, KeyDoc{
			Table:   table,
			Name:    k.name,
			Takes:   k.takes,
			Doc:     k.doc,
			Example: k.example,
			Words:   k.words,
		})
	}
	return out
}

// withKeys adds the keys of the tables inside.
func withKeys(keys []KeyDoc, inner map[string][]KeyDoc) []KeyDoc {
	for i, k := range keys {
		keys[i].Keys = inner[k.Name]
	}
	return keys
}

// LabDocs returns the keys of lab.toml, in the order of the reference.
func LabDocs() []KeyDoc {
	return withKeys(docs("lab.toml", labKeys), map[string][]KeyDoc{
		"let":     docs("[let] NAME", letKeys),
		"host":    withKeys(docs("[host.NAME]", hostKeys), map[string][]KeyDoc{"tls": docs("tls", tlsKeys)}),
		"network": docs("[network.NAME]", networkKeys), "default": docs("[default]", defaultKeys),
		"gate": docs("[gate.HOST]", gateKeys), "sign-in": docs("[sign-in.NAME]", signInKeys),
		"domain": withKeys(docs("[domain.NAME]", domainKeys), map[string][]KeyDoc{
			"certificate": docs("certificate", certificateKeys),
			"dns-update":  withKeys(docs("dns-update", dnsUpdateKeys), map[string][]KeyDoc{"key": docs("dns-update.key", dnsKeyKeys)}),
		}),
	})
}

// StackDocs returns the keys of stack.toml, in the order of the reference.
func StackDocs() []KeyDoc {
	service := withKeys(docs("[service.NAME]", serviceKeys), map[string][]KeyDoc{
		"ready": docs("ready", readyKeys), "build": docs("build", buildKeys),
	})
	return withKeys(docs("stack.toml",
		stackKeys), map[string][]KeyDoc{
		"let":     docs("[let] NAME", letKeys),
		"volume":  docs("[volume.NAME]", volumeKeys),
		"service": service,
	})
}
