package access

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRolesHoldTheOnesBefore(t *testing.T) {
	for i, have := range roles {
		for k, need := range roles {
			assert.Equal(t, i >= k, have.Covers(need), "%q covers %q", have, need)
		}
		assert.False(t, have.Covers("owner"), "nobody covers what is no role")
	}
	assert.False(t, Role("owner").Covers(Reader))
	assert.Equal(t, Reader, Keeper.AtMost(Reader))
	assert.Equal(t, Reader, Reader.AtMost(Keeper))
	assert.Equal(t, Keeper, Keeper.AtMost(Nobody), "no bound bounds nothing")
	assert.Equal(t, Keeper, Greatest(Reader, Keeper, Builder))
	assert.Equal(t, Nobody, Greatest())
}

func TestWhichRunsASecretIsFor(t *testing.T) {
	for _, c := range []struct {
		scope                 Scope
		pipeline, branch, tag string
		why                   string
	}{
		{Scope{}, "trunk", "work/x", "", ""},
		{Scope{}, "trunk", "", "", ""},
		{Scope{Tags: []string{"v*"}}, "release", "", "v1.4", ""},
		{Scope{Tags: []string{"v*"}}, "release", "v1", "", "tag v* only, and this is branch v1"},
		{Scope{Tags: []string{"v*"}}, "release", "", "", "of no branch and no tag"},
		{Scope{Branches: []string{"main", "release/*"}}, "trunk", "release/2", "", ""},
		{Scope{Branches: []string{"main", "release/*"}}, "trunk", "release/2/x", "", "branches main, release/* only"},
		{Scope{Branches: []string{"main"}, Tags: []string{"v*"}}, "trunk", "", "v2", ""},
		{Scope{Branches: []string{"main"}, Tags: []string{"v*"}}, "trunk", "", "x2", "branch main and tag v* only, and this is tag x2"},
		{Scope{Branches: []string{"*"}}, "trunk", "", "", "of no branch and no tag"},
		{Scope{Branches: []string{"**"}}, "trunk", "", "v2", "tag v2"},
		{Scope{Tags: []string{"*"}}, "trunk", "", "", "of no branch and no tag"},
		{Scope{Pipelines: []string{"release"}}, "trunk", "main", "", "pipeline release only, and this is trunk"},
		{Scope{Pipelines: []string{"rel*"}, Branches: []string{"main"}}, "release", "main", "", ""},
	} {
		why := c.scope.Refuses(c.pipeline, c.branch, c.tag)
		if c.why == "" {
			assert.Empty(t, why, "%+v", c)
		} else {
			assert.Contains(t, why, c.why, "%+v", c)
		}
	}
	assert.False(t, Scope{}.Protects())
	for _, s := range []Scope{{Pipelines: []string{"p"}}, {Branches: []string{"main"}}, {Tags: []string{"v*"}}} {
		assert.True(t, s.Protects(), "%+v", s)
	}
	assert.NoError(t, Scope{Branches: []string{"main", "{a,b}/**"}}.Check())
	for _, bad := range []string{"", "[", strings.Repeat("x", 201)} {
		assert.Error(t, Scope{Tags: []string{bad}}.Check(), bad)
	}
}

func TestNamesOfSecrets(t *testing.T) {
	for _, ok := range []SecretName{"KEY", "_x9", "SERVICES:harbour", "SERVICES:arm64-v8a", "S:1.2"} {
		assert.NoError(t, ok.Check(), ok)
	}
	for _, bad := range []SecretName{"", "A=B", "1A", "PISTON_RUN", "PISTON_:x", "A:", ":x", "A:b:c", "A:../x", "A:b/c", "A B", "Ä", "A\n", SecretName(strings.Repeat("A", 102))} {
		assert.Error(t, bad.Check(), bad)
	}
	assert.Equal(t, "SERVICES", SecretName("SERVICES:harbour").Variable())
	assert.Equal(t, "harbour", SecretName("SERVICES:harbour").Member())
	assert.Empty(t, SecretName("KEY").Member())
}

func TestWhoMayAnswerAQuestion(t *testing.T) {
	for _, ok := range []Answerer{"reader", "builder", "keeper", "administrator", "group:shore", "person:ada@tidewick.example"} {
		assert.NoError(t, ok.Check(), ok)
	}
	for _, bad := range []Answerer{"", "owner", "group:", "person: ada", "group:a:b", "person:a\nb", "Keeper"} {
		assert.Error(t, bad.Check(), bad)
	}
	ada := Person{Name: "ada", Role: Builder, Groups: []string{"shore"}}
	assert.True(t, MayAnswer([]Answerer{"reader"}, ada))
	assert.False(t, MayAnswer([]Answerer{"keeper"}, ada))
	assert.True(t, MayAnswer([]Answerer{"keeper", "group:shore"}, ada))
	assert.True(t, MayAnswer([]Answerer{"person:ada"}, ada))
	assert.False(t, MayAnswer([]Answerer{"person:adam", "group:sho"}, ada))
	assert.False(t, MayAnswer(nil, ada))
	assert.False(t, MayAnswer([]Answerer{"person:ada", "group:shore", ""}, Person{Name: "ada", Groups: []string{"shore"}}),
		"whoever does not see the project answers nothing")
}
