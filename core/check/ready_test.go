package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is made ready is made by a check that goes all the way: one that ended at a mistake would make less.
func TestWhatMakesReadyIsInOrder(t *testing.T) {
	Ready()
	result := All(ordinaryRepository(), nil)
	require.Len(t, result.Files, 1)
	assert.NotNil(t, result.Files[0].Pipeline)
	assert.Empty(t, result.All())
}
