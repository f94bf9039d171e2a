package check

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/mask"
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
	for _, text := range []string{"token = \"" + value[:15] + "\"", "token = \"" + value, "name = \"" + value + "\"",
		"token = \"" + value + "'", "", "\""} {
		_, found := leaked("app/Api.kt", text)
		assert.False(t, found, text)
	}
	_, found := leaked("app/src/test/Api.kt", "token = \""+value+"\"")
	assert.False(t, found, "a test makes its values up")
}

func TestASecretOfAProposalIsRefusedWhereItIsAskedFor(t *testing.T) {
	text := "[job.a.submodules]\nkey = \"CHARTS\"\nhosts = [\"git.tidewick.example ssh-ed25519 " +
		"AAAAC3NzaC1lZDI1NTE5AAAAIAcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8gISIjJCUm\"]\n" + step("echo $KEY", `name = "sends"`, `secrets = ["KEY"]`)
	p, found := definition.Parse("piston/p.toml", []byte(text), nil)
	require.NotNil(t, p, "%v", found)
	f := RefusedSecrets(p, p.Job["a"], p.Job["a"].Step[0], FromOutside)
	assert.Equal(t, "secret-refused", f.Code)
	assert.Contains(t, f.Message, `step "sends" of job "a" asks for KEY`)
	assert.Contains(t, f.Fix, "Give the step when")
	assert.Equal(t, 9, f.Line)
	f = RefusedSecrets(p, p.Job["a"], nil, FromOutside)
	assert.Contains(t, f.Message, `the checkout of job "a" asks for CHARTS`)
	assert.Contains(t, f.Fix, "Give the job when")
	assert.Equal(t, 2, f.Line)
}

func TestATrackedValueIsToldWithItsLine(t *testing.T) {
	finder := mask.New(mask.Value{Name: "KEY", Text: []byte("zq8-tidewick-key")})
	f, leaks := Leaks(finder, "", "conf/a.txt", []byte("one\ntwo\nkey zq8-tidewick-key\n"))
	require.True(t, leaks)
	assert.Equal(t, 3, f.Line)
	assert.Contains(t, f.Fix, "piston secret set PROJECT KEY")
	f, _ = Leaks(finder, "almanac", "conf/a.txt", []byte("zq8-tidewick-key"))
	assert.Equal(t, 1, f.Line)
	assert.Contains(t, f.Fix, "set almanac KEY")
	_, leaks = Leaks(finder, "almanac", "conf/a.txt", []byte("nothing"))
	assert.False(t, leaks)
}

func TestWhereARunnerFetchesASubmodule(t *testing.T) {
	for address, says := range map[string]string{
		"../charts.git": "", "/srv/charts": "", "https://git.tidewick.example/charts": "",
		"git@git.tidewick.example:charts":      "is no address",
		"https://%zz":                          "is no address",
		"http://git.tidewick.example/charts":   "is not fetched by https",
		"ssh://git.tidewick.example/charts":    "is not fetched by https",
		"https://ada:x@git.tidewick.example/c": "holds a user or password, which everybody reads",
		"https://localhost/charts":             "is inside, where runners do not go for a repository",
		"https://10.1.2.3/charts":              "is inside, where runners do not go for a repository",
		"https://1.1.1.1/charts":               "",
	} {
		assert.Equal(t, says, refusedAddress(address), address)
	}
}

func TestWhatIsMeantIsSaid(t *testing.T) {
	more := map[string]string{"tools/sign": "#!/bin/sh\ntrue\n", "core/gen/tables.sh": "true\n", "android/keys/list.txt": ""}
	for script, fix := range map[string]string{
		"tools/sgin":            "Did you mean tools/sign?",
		"sh tables.sh":          `is dir = "core/gen" missing?`,
		"sh core/tables.sh":     "There is core/gen/tables.sh: is that the one?",
		"sh scripts/tabels.sh":  "There is core/gen/tables.sh: is that the one?",
		"sh scripts/nowhere.sh": "Add it to the repository, or correct the path.",
		"cd keys":               "There is android/keys: is that the one?",
		"cd andriod":            "Did you mean android?",
		"cd nowhere-at-all":     "Correct the path; it counts from the top of the repository.",
	} {
		found := All(app(step(script), more), nil).All()
		require.NotEmpty(t, found, script)
		assert.Contains(t, found[0].Fix, fix, script)
	}
}

func TestTheBranchThatIsMeant(t *testing.T) {
	for branches, fix := range map[string]string{
		`"mian"`: `Did you mean "main"?`, `"master"`: `There is "main": is that the one?`,
		`"nothing-alike"`: "Branches are: main, work/a.", `"release/*"`: "Branches are:",
	} {
		found := All(app("[trigger.push]\nbranches = ["+branches+"]\n"+step("true"), nil), nil).All()
		require.NotEmpty(t, found, branches)
		assert.Equal(t, "no-branch", found[0].Code)
		assert.Contains(t, found[0].Fix, fix)
	}
	for _, branches := range []string{`"main"`, `"main", "release/*"`, `"work/*"`} {
		assert.Empty(t, placesOf(t, All(app("[trigger.push]\nbranches = ["+branches+"]\n"+step("true"), nil), nil).All(), "no-branch"), branches)
	}
}

func TestEachFileThatHoldsAKeyIsTold(t *testing.T) {
	found := All(app(step("true"), map[string]string{"a/release.keystore": "\xfe\xed\xfe\xed\x00", "b/other.p12": "0\x82", "c/third.jks": "\xfe\xed\xfe\xed"}), nil).All()
	var files []string
	for _, f := range found {
		if f.Code == "key-tracked" {
			files = append(files, f.File)
		}
	}
	assert.Equal(t, []string{"a/release.keystore", "b/other.p12", "c/third.jks"}, files)
}

func TestWhereAStepFetchesWithoutANetwork(t *testing.T) {
	found := All(app("[[job.a.step]]\nnetwork = \"none\"\nscript = '''\ntrue\n\ncurl -fsS https://tidewick.example/x > x\n'''\n", nil), nil).All()
	assert.Equal(t, []int{6}, placesOf(t, found, "no-network"), "%v", found)
}

func TestThePipelineThatIsMeant(t *testing.T) {
	r := app("[trigger.pipeline.relaese]\n"+step("true"), map[string]string{"piston/release.toml": "[trigger.push]\n" + step("true")})
	found := All(r, nil).All()
	require.NotEmpty(t, found)
	assert.Equal(t, `Did you mean "release"?`, found[0].Fix)
	assert.Equal(t, "piston/p.toml", found[0].File)
	assert.Equal(t, 1, found[0].Line)
}
