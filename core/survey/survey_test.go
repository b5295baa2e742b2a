package survey

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSavedSurveyIsTheSame(t *testing.T) {
	s := &Survey{
		Survey: Version, Host: "lamp-room", Taken: time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC),
		Platform: "linux/amd64", Timezone: "Atlantic/Faroe",
		Engine:   &Engine{API: "1.41", Name: "engine", Version: "1"},
		Accounts: []Account{{"keeper", 1311, 1400, []ID{1410}}}, Groups: []Group{{"watch", 1400}},
		Listeners: []Listener{{"tcp", "0.0.0.0", 8712, "lampd", 812, ""}},
		Paths: []Path{
			{Path: "/srv", Kind: Folder, Real: "/srv", Mode: "0755", ACL: []string{"mask::r-x"}},
			{Path: "/srv/x", Kind: Missing, Near: []string{"/srv/X"}},
		},
		Images: []Image{{Reference: "a", Source: Absent}}, Unknown: map[string]string{"processes": "only root"},
	}
	text, err := json.Marshal(s)
	require.NoError(t, err)
	again, err := Parse(text)
	require.NoError(t, err)
	assert.Equal(t, s, again)
}

func TestParseRefuses(t *testing.T) {
	for text, says := range map[string]string{
		`lab = "x"`:     "this is no survey",
		`{}`:            "it has no version or no host",
		`{"survey": 1}`: "it has no version or no host",
		`{"survey": 2, "host": "a"}`: "this survey has version 2; this lantern reads " +
			"surveys up to version 1",
		`{"survey": 1, "host": "a", "paths": 3}`: "cannot be read",
	} {
		_, err := Parse([]byte(text))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), says, text)
	}
}

func TestWords(t *testing.T) {
	s := &Survey{Accounts: []Account{{Name: "keeper", UID: 1311}}, Groups: []Group{{"watch", 1400}}}
	assert.Equal(t, []string{"keeper (uid 1311)", "uid 1312", "watch (gid 1400)", "gid 1401"},
		[]string{s.UserName(1311), s.UserName(1312), s.GroupName(1400), s.GroupName(1401)})
	host, container, protocol := PortOf("[::]:8713 -> 80/udp")
	assert.Equal(t, []string{"[::]:8713", "80", "udp"}, []string{host, container, protocol})
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"survey": 1, "host": "a", "paths": [{"path": "/", "mode": "0755"}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		if s, err := Parse(text); err == nil && (s.Host == "" || s.Survey > Version) {
			t.Fatal("a survey without host or of a newer version was accepted")
		}
	})
}
