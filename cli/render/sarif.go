package render

import (
	"io"
	"slices"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/source"
)

// labBase is the name under which results speak of the lab's folder, which every machine has elsewhere.
const labBase = "LAB"

// SARIF writes findings in the Static Analysis Results Interchange Format, version 2.1.0 (OASIS), for editors and code hosts. What somebody has
// said yes to is suppressed there.
func SARIF(w io.Writer, version string, r check.Result) error {
	run := sarif.NewRun()
	run.Tool = sarif.NewTool().WithDriver(sarif.NewToolComponent().WithName("Proud Lantern").WithVersion(version))
	run.WithColumnKind("unicodeCodePoints")
	rules := check.All()
	for _, rule := range rules {
		run.Tool.Driver.AddRule(sarif.NewRule(rule.Name).
			WithShortDescription(sarif.NewMultiformatMessageString().WithText(rule.Title)).
			WithFullDescription(sarif.NewMultiformatMessageString().WithText(rule.Text)).
			WithDefaultConfiguration(sarif.NewReportingConfiguration().WithLevel(string(rule.Severity))))
	}
	for _, f := range r.Findings {
		result := sarif.NewResult().WithRuleID(f.Rule).WithLevel(string(f.Severity)).WithMessage(message(f.Message)).
			WithRuleIndex(slices.IndexFunc(rules, func(rule check.Rule) bool { return rule.Name == f.Rule }))
		if !f.At.IsZero() {
			result.AddLocation(location(f.At))
		}
		for _, b := range f.Because {
			if b.At.IsZero() {
				result.Message.WithText(*result.Message.Text + "; " + b.Text)
			} else {
				result.AddRelatedLocation(location(b.At).WithMessage(message(b.Text)))
			}
		}
		if f.Accepted != "" {
			result.AddSuppression(sarif.NewSuppression().WithKind("inSource").WithJustification(f.Accepted))
		}
		if f.Mend != nil && len(f.Mend.Edits) > 0 {
			result.WithFixes([]*sarif.Fix{fix(f.Mend)})
		}
		run.AddResult(result)
	}
	report := sarif.NewReport().AddRun(run)
	report.Schema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
	return JSON(w, report)
}

func message(text string) *sarif.Message { return sarif.NewMessage().WithText(text) }

func artifact(f *source.File) *sarif.ArtifactLocation {
	return sarif.NewArtifactLocation().WithURI(f.Path).WithURIBaseID(labBase)
}

func location(at source.Span) *sarif.Location {
	from, to := at.Place(), at.File.Span(at.End, at.End).Place()
	region := sarif.NewRegion().WithStartLine(from.Line).WithStartColumn(from.Column).WithEndLine(to.Line).WithEndColumn(to.Column)
	return sarif.NewLocationWithPhysicalLocation(sarif.NewPhysicalLocation().WithArtifactLocation(artifact(at.File)).WithRegion(region))
}

// fix has one change a file, with all its edits.
func fix(m *source.Mend) *sarif.Fix {
	changes := map[*source.File]*sarif.ArtifactChange{}
	f := sarif.NewFix().WithDescription(message(m.Text))
	for _, e := range m.Edits {
		change := changes[e.At.File]
		if change == nil {
			change = sarif.NewArtifactChange().WithArtifactLocation(artifact(e.At.File))
			changes[e.At.File] = change
			f.AddArtifactChange(change)
		}
		change.AddReplacement(sarif.NewReplacement().
			WithDeletedRegion(sarif.NewRegion().WithByteOffset(e.At.Start).WithByteLength(e.At.End - e.At.Start)).
			WithInsertedContent(sarif.NewArtifactContent().WithText(e.New)))
	}
	return f
}
