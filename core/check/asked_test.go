package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
)

// placesOf tells for each finding its code and where it stands.
func placesOf(t *testing.T, found []definition.Finding, code string) (lines []int) {
	t.Helper()
	for _, f := range found {
		if f.Code == code {
			lines = append(lines, f.Line)
		}
	}
	return lines
}

func TestEverySecretThatIsAskedForIsLookedAt(t *testing.T) {
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	past, soon, later := now.Add(-time.Hour), now.Add(expiresSoon-time.Hour), now.Add(expiresSoon+time.Hour)
	known := &Service{Project: "app", Now: now, Secrets: []Secret{{Name: "GONE", Expires: &past},
		{Name: "SOON", Expires: &soon}, {Name: "LATER", Expires: &later}, {Name: "KEPT"},
		{Name: "GUARDED", Scope: access.Scope{Pipelines: []string{"release"}}}}}
	text := `[job.a.submodules]
key = "NONE"
hosts = ["git.tidewick.example ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm"]
[[job.a.step]]
script = "echo $MISSED $GONE $SOON $LATER $KEPT $GUARDED"
secrets = [
  "MISSED",
  "GONE",
  "SOON",
  "LATER",
  "KEPT",
  "GUARDED",
]
secret_files = { OTHER = "conf/other.json" }
`
	found := All(app(text, nil), known).All()
	assert.Equal(t, []int{2, 7, 14}, placesOf(t, found, "secret-not-set"), "%v", found)
	assert.Equal(t, []int{8}, placesOf(t, found, "secret-expired"))
	assert.Equal(t, []int{9}, placesOf(t, found, "secret-expires"))
	assert.Equal(t, []int{12}, placesOf(t, found, "secret-protected"))
}

func TestAScheduleBuildsABranchThatIsThere(t *testing.T) {
	text := func(branch string) string {
		return "[trigger.schedule.nightly]\ncron = \"0 3 * * *\"\n" + branch + step("true")
	}
	for branch, wanted := range map[string][]int{"": nil, "branch = \"work/a\"\n": nil, "branch = \"work/b\"\n": {3}} {
		assert.Equal(t, wanted, placesOf(t, All(app(text(branch), nil), nil).All(), "no-branch"), branch)
	}
}

func TestAValueBetweenQuotesIsLookedAtWhereverItStands(t *testing.T) {
	value := "q8Zr2LxV0tYb7NcM"
	for text, line := range map[string]int{
		"token = \"" + value + "\"":                           1,
		"a = 'b'\npassword: '" + value + "'\n":                2,
		"x = \"short\"; api_key = \"" + value + "9kQ4w\"":     1,
		"it's fine\n\nsecret := \"" + value + "\" // \"x\"\n": 3,
	} {
		f, found := leaked("app/Api.kt", text)
		require.True(t, found, text)
		assert.Equal(t, line, f.Line, text)
	}
	for _, text := range []string{"token = \"" + value[:leastValue-1] + "\"", "token = \"" + value, "name = \"" + value + "\"",
		"token = \"" + value + "'", "", "\""} {
		_, found := leaked("app/Api.kt", text)
		assert.False(t, found, text)
	}
	_, found := leaked("app/src/test/Api.kt", "token = \""+value+"\"")
	assert.False(t, found, "a test makes its values up")
}
