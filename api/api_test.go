package api

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/core/testreport"
)

func TestTestReportsAddUp(t *testing.T) {
	var none *TestSummary
	assert.Nil(t, none.With(nil), "a job without reports has no summary")
	sum := none.With(&TestReport{Passed: 3, Failed: 1, Seconds: 1.5, Failures: []testreport.Case{{Name: "first"}}})
	sum = sum.With(nil).With(&TestReport{Passed: 2, Skipped: 4, Seconds: 0.5})
	assert.Equal(t, []int{5, 1, 4}, []int{sum.Passed, sum.Failed, sum.Skipped})
	assert.InDelta(t, 2.0, sum.Seconds, 1e-9)
	assert.Equal(t, "first", sum.Failures[0].Name)
	many := make([]testreport.Case, maxFailures)
	sum = sum.With(&TestReport{Failed: len(many), Failures: many})
	assert.Len(t, sum.Failures, maxFailures, "the first so many are shown")
	assert.Equal(t, maxFailures+1, sum.Failed, "all are counted")
}
