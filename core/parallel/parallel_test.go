package parallel

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEach(t *testing.T) {
	for _, n := range []int{0, 1, 1000} {
		done := make([]int, n)
		var workers atomic.Int64
		Each(n, func() func(int) {
			workers.Add(1)
			return func(i int) { done[i]++ }
		})
		for i, times := range done {
			assert.Equal(t, 1, times, "piece %d of %d", i, n)
		}
		assert.LessOrEqual(t, workers.Load(), int64(n))
	}
}
