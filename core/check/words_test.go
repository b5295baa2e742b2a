package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDigitsAway(t *testing.T) {
	for _, near := range [][2]int{{8080, 8081}, {8080, 808}, {443, 8443}, {7410, 7411}} {
		assert.True(t, oneDigitAway(near[0], near[1]) && oneDigitAway(near[1], near[0]), near)
	}
	for _, far := range [][2]int{{8080, 8080}, {80, 8080}, {8080, 8008}, {53, 5353}} {
		assert.False(t, oneDigitAway(far[0], far[1]), far)
	}
}

func TestSensitiveFolders(t *testing.T) {
	for path, is := range map[string]bool{
		"/": true, "/etc": true, "/etc/ssl": true, "/home": true, "/home/keeper": true,
		"/home/keeper/photos": false, "/root": true, "/dev": true, "/dev/lamp0": false, "/dev/shm": false,
		"/srv": false, "/var/lib/docker/volumes": true, "/usr/share/zoneinfo": true, "/etcetera": false,
		"/proc": true,
	} {
		assert.Equal(t, is, sensitive(path) != "", path)
	}
}
