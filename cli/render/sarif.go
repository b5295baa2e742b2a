package render

import (
	"io"
	"slices"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/source"
)

// labBase is the name under which results speak of the lab's folder, which every machine has elsewhere.
const labBase = "LAB"

// What is used of the Static Analysis Results Interchange Format, version 2.1.0 (OASIS). The names are the
// standard's.
type (
	sarifReport struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID     string       `json:"id"`
		Short  sarifMessage `json:"shortDescription"`
		Full   sarifMessage `json:"fullDescription"`
		Config sarifConfig  `json:"defaultConfiguration"`
	}
	sarifConfig struct {
		Level string `json:"level"`
	}
	sarifMessage struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId"`
		RuleIndex    int                `json:"ruleIndex"`
		Level        string             `json:"level"`
		Message      sarifMessage       `json:"message"`
		Locations    []sarifLocation    `json:"locations"`
		Related      []sarifLocation    `json:"relatedLocations,omitempty"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
		Fixes        []sarifFix         `json:"fixes,omitempty"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
		Message  *sarifMessage `json:"message,omitempty"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI  string `json:"uri"`
		Base string `json:"uriBaseId"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"` // in characters, from 1
		EndLine     int `json:"endLine"`
		EndColumn   int `json:"endColumn"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	sarifFix struct {
		Description sarifMessage  `json:"description"`
		Changes     []sarifChange `json:"artifactChanges"`
	}
	sarifChange struct {
		Artifact     sarifArtifact      `json:"artifactLocation"`
		Replacements []sarifReplacement `json:"replacements"`
	}
	sarifReplacement struct {
		Deleted  sarifBytes   `json:"deletedRegion"`
		Inserted sarifMessage `json:"insertedContent"`
	}
	sarifBytes struct {
		Offset int `json:"byteOffset"`
		Length int `json:"byteLength"`
	}
)

// SARIF writes findings in the Static Analysis Results Interchange Format, version 2.1.0 (OASIS), for editors
// and code hosts. What somebody has said yes to is suppressed there.
func SARIF(w io.Writer, version string, r check.Result) error {
	run := sarifRun{
		Tool:       sarifTool{sarifDriver{Name: "Proud Lantern", Version: version}},
		ColumnKind: "unicodeCodePoints",
		Results:    []sarifResult{},
	}
	rules := check.All()
	for _, rule := range rules {
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules,
			sarifRule{rule.Name, sarifMessage{rule.Title}, sarifMessage{rule.Text},
				sarifConfig{string(rule.Severity)}})
	}
	for _, f := range r.Findings {
		result := sarifResult{
			RuleID: f.Rule, Level: string(f.Severity), Message: sarifMessage{f.Message},
			Locations: []sarifLocation{},
			RuleIndex: slices.IndexFunc(rules, func(rule check.Rule) bool { return rule.Name == f.Rule }),
		}
		if !f.At.IsZero() {
			result.Locations = append(result.Locations, location(f.At))
		}
		for _, b := range f.Because {
			if b.At.IsZero() {
				result.Message.Text += "; " + b.Text
			} else {
				related := location(b.At)
				related.Message = &sarifMessage{b.Text}
				result.Related = append(result.Related, related)
			}
		}
		if f.Accepted != "" {
			result.Suppressions = []sarifSuppression{{"inSource", f.Accepted}}
		}
		if f.Mend != nil && len(f.Mend.Edits) > 0 {
			result.Fixes = []sarifFix{fix(f.Mend)}
		}
		run.Results = append(run.Results, result)
	}
	return JSON(w,
		sarifReport{"https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", "2.1.0", []sarifRun{run}})
}

func location(at source.Span) sarifLocation {
	from, to := at.Place(), at.File.Span(at.End, at.End).Place()
	return sarifLocation{
		Physical: sarifPhysical{
			sarifArtifact{at.File.Path, labBase},
			sarifRegion{from.Line, from.Column, to.Line, to.Column},
		},
	}
}

// fix has one change a file, with all its edits.
func fix(m *source.Mend) sarifFix {
	f := sarifFix{Description: sarifMessage{m.Text}}
	for _, e := range m.Edits {
		i := slices.IndexFunc(f.Changes, func(c sarifChange) bool { return c.Artifact.URI == e.At.File.Path })
		if i < 0 {
			i = len(f.Changes)
			f.Changes = append(f.Changes, sarifChange{Artifact: sarifArtifact{e.At.File.Path, labBase}})
		}
		f.Changes[i].Replacements = append(f.Changes[i].Replacements, sarifReplacement{
			sarifBytes{e.At.Start, e.At.End - e.At.Start},
			sarifMessage{e.New},
		})
	}
	return f
}
