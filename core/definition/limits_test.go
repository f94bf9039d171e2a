package definition

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheLesserLimitCounts(t *testing.T) {
	job := Numbers{Memory: 5, Processes: 9, Log: 0}
	most := Numbers{Memory: 7, Processes: 3, Log: 8, OpenFiles: 2}
	assert.Equal(t, Numbers{Memory: 5, Processes: 3, Log: 8, OpenFiles: 2}, job.Within(most))
}
