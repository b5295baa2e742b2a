package secret

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A secret is shown by nothing that prints, however deep it stands and whoever may see the field.
func TestNothingShowsIt(t *testing.T) {
	type holder struct {
		Seen   Text
		unseen Text
		List   []Text
		Map    map[Text]Text
	}
	for _, s := range []string{"moon-over-skerry", "a\"b\\c", "<&>", "two\nlines", "q7Z", "\x00\xff"} {
		x := Of(s, true)
		h := &holder{x, x, []Text{x}, map[Text]Text{x: x}}
		var log strings.Builder
		slog.New(slog.NewTextHandler(&log, nil)).Info("a line", "text", x, "all", h)
		inJSON, err := json.Marshal(h)
		require.NoError(t, err)
		said := log.String() + string(inJSON)
		for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%d"} {
			said += fmt.Sprintf(verb, x) + fmt.Sprintf(verb, *h) + fmt.Sprintf(verb, []any{h, &x})
		}
		said += fmt.Sprint(fmt.Errorf("an error of %v", h.List))
		for _, form := range []string{s, fmt.Sprintf("%q", s), fmt.Sprintf("%x", s)} {
			assert.NotContains(t, said, form)
		}
		assert.Contains(t, said, Mask(s))
		assert.Equal(t, s, x.Reveal())
		assert.True(t, x == Of(s, true) && x != Plain(s) && x.Same(Plain(s)) && x.Is(s))
		assert.NotContains(t, fmt.Sprint(x.Digest("salt")), s)
		assert.NotEqual(t, x.Digest("salt").String(), x.Digest("pepper").String())
	}
	var back Text
	require.NoError(t, json.Unmarshal([]byte(`"plain"`), &back))
	assert.Equal(t, Plain("plain"), back)
	assert.False(t, Of("", true).Secret(), "nothing is no secret")
}

// Who may look: whoever computes with the text, the engine's calls that need it, the reading back, and the
// list of what is kept out of messages. A file that is new here has to say why nothing of what it reveals is
// shown or written.
func TestWhoReveals(t *testing.T) {
	reveals := regexp.MustCompile(`\.Reveal\(`)
	may := map[string]string{
		"core/secret/secret.go":     "it is its own",
		"core/lab/value.go":         "texts are put together",
		"core/lab/environment.go":   "texts are put together",
		"core/lab/lab.go":           "lengths, parts, and the list of all secrets",
		"core/adopt/adopt.go":       "what a container has becomes a file; secrets go into environment files",
		"core/check/cards.go":       "values that an image does not take",
		"core/check/environment.go": "samples are told by their text",
		"core/check/identity.go":    "ids and zones in variables",
		"core/check/publishing.go":  "a port in a variable",
		"core/check/secrets.go": "weak ones; one that stands in a label; the mend that moves one " +
			"into an environment file",
		"core/wiring/wires.go":    "machines that are named in it",
		"core/plan/container.go":  "fingerprints, keyed; what is found to be secret",
		"core/plan/later.go":      "values that come to light are put into the environment",
		"core/plan/files.go":      "contents that are compared, line by line",
		"core/plan/resources.go":  "what is found to be secret",
		"core/plan/settings.go":   "words that are compared",
		"engine/files.go":         "the archive of files that go into a container",
		"engine/settings.go":      "the create call",
		"deploy/reload.go":        "the command that makes files known, run in its container",
		"engine/translate.go":     "the create call",
		"engine/resources.go":     "the create call of a volume",
		"deploy/observe/ready.go": "the command that shows that a service is ready, run in its container",
		"core/lab/sites.go":       "a file of users is read line by line",
		"core/sites/sites.go":     "what a gate is told, which keeps it",
		"core/check/sites.go":     "whether a key and a certificate belong together",
		"app/deploy.go":           "what else has to be kept out of messages",
		"cli/render/env.go":       "what a secret wins over is one, too",
	}
	found := map[string]bool{}
	require.NoError(t, filepath.WalkDir("../..", func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		name := filepath.ToSlash(strings.TrimPrefix(path, "../../"))
		if reveals.Match(text) {
			found[name] = true
			assert.Contains(t, may, name, "it reveals secrets")
		}
		return err
	}))
	for name := range may {
		assert.True(t, found[name], "%s reveals nothing and needs no leave", name)
	}
}
