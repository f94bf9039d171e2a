package executor

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/runner/workspace"
)

func TestOnlyWhatIsSetAsideIsExcused(t *testing.T) {
	low := testreport.Case{Suite: "tide", Name: "low", Result: testreport.Failed}
	high := testreport.Case{Suite: "tide", Name: "high", Result: testreport.Failed}
	passes := testreport.Case{Suite: "tide", Name: "neap", Result: testreport.Passed}
	aside := map[string]api.CaseAside{nameOf("tide", "low"): {}}
	of := func(cut bool, cases ...testreport.Case) workspace.Tests {
		return workspace.Tests{Cases: cases, Cut: cut}
	}
	assert.True(t, excuses(aside, of(false, low, passes)))
	assert.False(t, excuses(aside, of(false, low, high)), "another failed, too")
	assert.False(t, excuses(aside, of(true, low, passes)), "who knows what else did")
	assert.False(t, excuses(aside, of(false, passes)), "no case says why the step failed")
	assert.False(t, excuses(nil, of(false, low)))
	assert.False(t, excuses(map[string]api.CaseAside{nameOf("tid", "elow"): {}}, of(false, low)), "names do not run together")
}

func TestWhatIsToldOfACaseIsBounded(t *testing.T) {
	long := strings.Repeat("å", 1000)
	assert.LessOrEqual(t, len(cut(long, 901)), 903)
	assert.True(t, utf8.ValidString(cut(long, 901)))
	assert.Equal(t, "a", cut("a", 900))
}
