package render

import (
	"bytes"
	"image/png"
	"math"
	"math/rand"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/sites"
)

// A picture of a made-up week; scripts/screenshots keeps it.
func TestVisitsPicture(t *testing.T) {
	chance := rand.New(rand.NewSource(7))
	counter := sites.NewCounter(time.UTC)
	week := time.Date(2026, 9, 21, 0, 0, 0, 0, time.UTC)
	add := func(site string, hour float64, path string, status, most int) {
		at := week.AddDate(0, 0, chance.Intn(7)).Add(time.Duration(math.Mod(hour+24, 24) * float64(time.Hour)))
		counter.Add(sites.Access{Time: at, Site: site, Client: string(rune('a' + chance.Intn(60))), Path: path, Status: status, Bytes: int64(chance.Intn(most))})
	}
	paths := []string{"/", "/tides/today", "/tides/tomorrow", "/charts/north", "/style.css"}
	for i := range 5200 {
		status := map[bool]int{true: 404, false: 200}[i%41 == 0]
		if i%97 == 0 {
			status = 502
		}
		add("tides.skerry.example", chance.NormFloat64()*3+8+float64(chance.Intn(2))*10, paths[chance.Intn(3)*chance.Intn(3)], status, 60_000)
		if i%9 == 0 {
			add("journal.skerry.example", chance.NormFloat64()*2+19, paths[chance.Intn(2)], 200, 6_000_000)
		}
	}
	d, err := DrawVisits("skerry-light", counter.Visits([]string{"tides.skerry.example", "journal.skerry.example", "skerry.example/charts"}))
	require.NoError(t, err)
	var picture, drawing bytes.Buffer
	require.NoError(t, MapPNG(&picture, d))
	MapSVG(&drawing, d, "Visits")
	for _, text := range []string{"5 200 requests", "54 errors", "nobody was there"} {
		assert.Contains(t, drawing.String(), text)
	}
	if file := os.Getenv("LANTERN_VISITS_PICTURE"); file != "" {
		require.NoError(t, os.WriteFile(file, picture.Bytes(), 0o644))
	}
	_, err = png.Decode(&picture)
	require.NoError(t, err)
}
