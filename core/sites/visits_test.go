package sites

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestVisits(t *testing.T) {
	c := NewCounter(time.FixedZone("lamp", 3600))
	for i, line := range strings.Split(`{"time":"2026-10-03T23:30:00Z","site":"a.example","client":"192.0.2.1","path":"/","status":200,"bytes":100,"referrer":"https://x/"}
{"time":"2026-10-03T10:00:00Z","site":"a.example","client":"192.0.2.2","path":"/b","status":502,"bytes":7}
{"time":"2026-10-03T10:30:00Z","site":"a.example","client":"192.0.2.1","path":"/b","status":200,"bytes":1}
{"time":"2026-10-03T10:30:00Z","client":"192.0.2.1","path":"/b","status":421}
{"time":"2026-10-03T10:30:00Z","level":"info","message":"the gate is open"}
not JSON`, "\n") {
		a, ok := ReadAccess(line)
		assert.Equal(t, i < 3, ok, line)
		if ok {
			c.Add(a)
		}
	}
	all := c.Visits([]string{"a.example", "b.example"})
	a := all[0]
	assert.Equal(t, []any{3, int64(108), 2, 1}, []any{a.Requests, a.Bytes, a.Visitors, a.Errors})
	assert.Equal(t, map[string]int{"200": 2, "502": 1}, a.Statuses)
	assert.Equal(t, []PathCount{{"/b", 2}, {"/", 1}}, a.Paths)
	assert.Equal(t, []Referrer{{"https://x/", 1}}, a.Referrers)
	assert.Equal(t, [3]int{1, 2, 0}, [3]int{a.Hours[0], a.Hours[11], a.Hours[10]})
	assert.Zero(t, all[1].Requests)
	assert.NotNil(t, all[1].Paths)
	for i := range 3 * mostDifferent { // somebody asks for ever other paths
		c.Add(Access{Site: "b.example", Path: fmt.Sprint(i), Status: 404})
	}
	assert.LessOrEqual(t, len(c.all["b.example"].paths), mostDifferent)
	assert.Len(t, c.Visits([]string{"b.example"})[0].Paths, mostTop)
}
