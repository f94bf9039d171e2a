package fact

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What follows from one of two facts follows from both.
func TestWhatFollowsFromBoth(t *testing.T) {
	for _, one := range []Follows{{Audit: true}, {Console: true}, {Work: true}, {Runners: true}, {Logs: true}, {Next: true}, {Stays: true}} {
		assert.Equal(t, one, one.And(Follows{}))
		assert.Equal(t, one, Follows{}.And(one))
	}
	assert.Equal(t, Follows{}, Follows{}.And(Follows{}))
}
