package render

import (
	_ "embed"
	"io"
	"slices"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/chart"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// first is the version of the documents that programs read. Keys are only ever added within it.
const first = 1

// Check is what check says.
type Check struct {
	Lantern  int         `json:"lantern"`
	Lab      string      `json:"lab"`
	Findings []finding   `json:"findings"`
	Skipped  []skip      `json:"skipped"`
	Totals   sums        `json:"totals"`
	Fixed    []app.Fixed `json:"fixed,omitzero"` // with --fix: the edits that it made, or would make
}

type finding struct {
	Rule     string         `json:"rule"`
	Severity check.Severity `json:"severity"`
	Host     string         `json:"host,omitempty"`
	Stack    string         `json:"stack,omitempty"`
	Service  string         `json:"service,omitempty"`
	At       *source.Place  `json:"at,omitempty"`
	Message  string         `json:"message"`
	Because  []because      `json:"because,omitempty"`
	Mend     *mend          `json:"mend,omitempty"`
	Accepted *string        `json:"accepted" jsonschema:"nullable"`
}

type because struct {
	Text string        `json:"text"`
	At   *source.Place `json:"at,omitempty"`
}

type mend struct {
	Text  string `json:"text"`
	Edits []edit `json:"edits,omitempty"`
}

type edit struct {
	File   string `json:"file"`
	Offset int    `json:"offset"` // bytes
	Length int    `json:"length"` // bytes
	New    string `json:"new"`
}

type skip struct {
	Rule    string `json:"rule"`
	Subject string `json:"subject"`
	Why     string `json:"why"`
}

// Compare is what a deploy would do.
type Compare struct {
	Lantern   int             `json:"lantern"`
	Stacks    []comparedStack `json:"stacks"`
	Unreached []UnreachedHost `json:"unreached,omitempty"`
}

// UnreachedHost is a host that could not be reached while others were.
type UnreachedHost struct {
	Host    string `json:"host"`
	Because string `json:"because"`
	Do      string `json:"do,omitempty"`
}

type comparedStack struct {
	Stack    string             `json:"stack"`
	Host     string             `json:"host"`
	Builds   []comparedBuild    `json:"builds,omitempty"` // images that a deploy makes first
	Services []comparedService  `json:"services"`
	Networks []comparedResource `json:"networks"`
	Volumes  []comparedResource `json:"volumes"`
}

type comparedResource struct {
	Name        string            `json:"name"`
	Action      plan.Action       `json:"action"`
	Differences []plan.Difference `json:"differences,omitempty"`
}

type comparedService struct {
	Service     string            `json:"service"`
	Action      plan.Action       `json:"action"`
	Differences []plan.Difference `json:"differences,omitempty"`
}

type comparedBuild struct {
	Service string `json:"service"`
	Image   string `json:"image"`
	Why     string `json:"why"`
}

// Failed is what every command says that cannot do what was asked.
type Failed struct {
	Lantern int     `json:"lantern"`
	Error   problem `json:"error"`
}

type problem struct {
	Message string `json:"message"`
	Exit    int    `json:"exit"`
	Because string `json:"because,omitempty"`
	Do      string `json:"do,omitempty"`
}

// NewFailed returns the document of an error.
func NewFailed(message, because, do string, exit int) Failed {
	return Failed{first, problem{message, exit, because, do}}
}

// DeployResult is the last line of each stack that deploy writes, after its events.
type DeployResult struct {
	Result  string `json:"result"`
	Exit    int    `json:"exit"`
	Host    string `json:"host"`
	Stack   string `json:"stack"`
	Because string `json:"because,omitempty"`
}

// Mapped is what map says.
type Mapped struct {
	Lantern int `json:"lantern"`
	chart.Map
}

// NewMapped returns the document of a map.
func NewMapped(m chart.Map) Mapped { return Mapped{first, m} }

// Images is what image says.
type Images struct {
	Lantern int              `json:"lantern"`
	Images  []app.ImageFacts `json:"images"`
}

// NewImages returns the document of images.
func NewImages(list []app.ImageFacts) Images {
	return Images{first, append([]app.ImageFacts{}, list...)}
}

// Begun is what begin says.
type Begun struct {
	Lantern int           `json:"lantern"`
	Files   []app.NewFile `json:"files"`
	Written bool          `json:"written"`
}

// NewBegun returns the document of a lab that was begun.
func NewBegun(files []app.NewFile, written bool) Begun { return Begun{first, files, written} }

// Prepared is what prepare says.
type Prepared struct {
	Lantern int              `json:"lantern"`
	Changes []prepare.Change `json:"changes"`
	Done    bool             `json:"done"`
}

// NewPrepared returns the document of a preparation.
func NewPrepared(changes []prepare.Change, done bool) Prepared { return Prepared{first, changes, done} }

// Drafted is what draft says.
type Drafted struct {
	Lantern int             `json:"lantern"`
	Stack   string          `json:"stack,omitempty"`
	Stacks  []string        `json:"stacks,omitempty"` // instead, where there are several
	Files   []app.NewFile   `json:"files"`
	Notes   []app.DraftNote `json:"notes"`
	Written bool            `json:"written"`
}

// NewDrafted returns the document of a draft.
func NewDrafted(d *app.Drafted, written bool) Drafted {
	files := slices.Clone(d.Files)
	for i, f := range files {
		if f.Mode == app.SecretMode {
			files[i].Text = ""
		}
	}
	if d.EnvFile != "" { // its text is nobody's business
		files = append(files, app.NewFile{Path: d.EnvFile, Mode: app.SecretMode})
	}
	if d.Lab != "" {
		files = append(files, app.NewFile{Path: "lab.toml", Mode: 0o644, Text: d.Lab})
	}
	return Drafted{first, d.Stack, d.Stacks, files, d.Notes, written}
}

// States is what status says.
type States struct {
	Lantern   int              `json:"lantern"`
	Services  []observe.Status `json:"services"`
	Unreached []UnreachedHost  `json:"unreached,omitempty"`
}

// ProofList is what prove says.
type ProofList struct {
	Lantern int              `json:"lantern"`
	Proofs  []observe.Proven `json:"proofs"`
}

// NewProofs returns the document of proofs.
func NewProofs(list []observe.Proven) ProofList {
	return ProofList{first, append([]observe.Proven{}, list...)}
}

// Processes is what status --processes says.
type Processes struct {
	Lantern   int              `json:"lantern"`
	Processes []engine.Process `json:"processes"`
}

// NewProcesses returns the document of the processes of a service.
func NewProcesses(list []engine.Process) Processes {
	return Processes{first, append([]engine.Process{}, list...)}
}

// Updates is what update says.
type Updates struct {
	Lantern  int          `json:"lantern"`
	Services []app.Update `json:"services"`
	Written  []NewImage   `json:"written,omitempty"` // with --write or --pin
}

// NewImage is an image that was written into a file.
type NewImage struct {
	Stack   string       `json:"stack"`
	Service string       `json:"service"`
	At      source.Place `json:"at"`
	Old     string       `json:"old"`
	New     string       `json:"new"`
}

// NewUpdates returns the document of what registries have.
func NewUpdates(list []app.Update, written []app.Written) Updates {
	u := Updates{Lantern: first, Services: append([]app.Update{}, list...)}
	for _, v := range written {
		u.Written = append(u.Written, NewImage{v.Stack, v.Service, v.At.Place(), v.Image, v.To})
	}
	return u
}

// SweepList is what sweep says.
type SweepList struct {
	Lantern int                 `json:"lantern"`
	Found   []observe.Sweepable `json:"found"`
}

// NewSweep returns the document of what a sweep found.
func NewSweep(list []observe.Sweepable) SweepList {
	return SweepList{first, append([]observe.Sweepable{}, list...)}
}

// Entries is what logbook says.
type Entries struct {
	Lantern int             `json:"lantern"`
	Entries []history.Entry `json:"entries"`
}

// NewEntries returns the document of a logbook's entries.
func NewEntries(list []history.Entry) Entries {
	if list == nil {
		list = []history.Entry{}
	}
	return Entries{first, list}
}

// PortUses is what ports says.
type PortUses struct {
	Lantern int           `json:"lantern"`
	Ports   []lab.PortUse `json:"ports"`
}

// Frees is what ports --free says.
type Frees struct {
	Lantern int         `json:"lantern"`
	Free    []FreePorts `json:"free"`
}

// MountUses is what mounts says.
type MountUses struct {
	Lantern int            `json:"lantern"`
	Mounts  []lab.MountUse `json:"mounts"`
}

// Variables is what env says.
type Variables struct {
	Lantern  int          `json:"lantern"`
	Services []envService `json:"services"`
}

type envService struct {
	Stack     string     `json:"stack"`
	Service   string     `json:"service"`
	Variables []variable `json:"variables"`
}

type variable struct {
	Name      string        `json:"name"`
	Value     string        `json:"value,omitempty"` // left out of a secret
	Secret    bool          `json:"secret,omitempty"`
	Origin    string        `json:"origin"`
	At        *source.Place `json:"at,omitempty"`
	Overrides []variable    `json:"overrides,omitempty"`
}

// NewStates returns the document of the version that this program writes. An empty list is one, not null.
func NewStates(list []observe.Status, unreached []UnreachedHost) States {
	return States{first, append([]observe.Status{}, list...), unreached}
}

// NewPortUses is as [NewStates].
func NewPortUses(list []lab.PortUse) PortUses {
	return PortUses{first, append([]lab.PortUse{}, list...)}
}

// NewFrees is as [NewStates].
func NewFrees(list []FreePorts) Frees { return Frees{first, append([]FreePorts{}, list...)} }

// NewMountUses is as [NewStates].
func NewMountUses(list []lab.MountUse) MountUses {
	return MountUses{first, append([]lab.MountUse{}, list...)}
}

// documents are all that programs may read, by the command that writes them.
type documents struct {
	Check        Check         `json:"check"`
	Compare      Compare       `json:"compare"`
	DryRun       Compare       `json:"deploy --dry-run"`
	Event        deploy.Event  `json:"deploy"`
	DeployResult DeployResult  `json:"deploy result"`
	Error        Failed        `json:"error"`
	Status       States        `json:"status"`
	Processes    Processes     `json:"status --processes"`
	Logs         LogLine       `json:"logs"`
	Update       Updates       `json:"update"`
	Prove        ProofList     `json:"prove"`
	Logbook      Entries       `json:"logbook"`
	Sweep        SweepList     `json:"sweep"`
	Ports        PortUses      `json:"ports"`
	Free         Frees         `json:"ports --free"`
	Mounts       MountUses     `json:"mounts"`
	Map          Mapped        `json:"map"`
	Sites        SiteList      `json:"sites"`
	Visits       VisitList     `json:"sites --visits"`
	Trust        AuthorityList `json:"sites --trust"`
	Image        Images        `json:"image"`
	Begin        Begun         `json:"begin"`
	Draft        Drafted       `json:"draft"`
	Import       Drafted       `json:"import"`
	Adopt        Drafted       `json:"adopt"`
	Backup       BackedUp      `json:"backup"`
	Restore      Verified      `json:"restore"`
	Prepare      Prepared      `json:"prepare"`
	Env          Variables     `json:"env"`
	Survey       survey.Survey `json:"survey"`
}

//go:embed outputs.schema.json
var outputsSchema []byte

// Schemas writes the JSON Schema (2020-12) of every JSON output. Its properties are the commands; what one of
// them writes is valid under its property, each line of deploy by itself. It is made from the types of this
// package by a test.
func Schemas(w io.Writer) error {
	_, err := w.Write(outputsSchema)
	return err
}
