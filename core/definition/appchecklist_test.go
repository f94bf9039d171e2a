package definition

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAChecklistIsRead(t *testing.T) {
	apps, found := ParseApps([]byte(`
[app.tide]
android = "net.tide"
[app.tide.checklist]
target = 34
permissions = []
size = "30 MB"
growth = 0
accept = [{ rule = "no-maps", reason = "for a week", until = "2027-01-31" }]
[[app.tide.checklist.rule]]
name = "no-maps"
holds = '!files.within("**/*.map")'
says = "source maps are inside"
`))
	require.Empty(t, found)
	c := apps.App["tide"].Checklist
	assert.NotNil(t, c.Permissions, "none at all is not the same as not said")
	assert.Zero(t, *c.Growth)
	assert.Equal(t, "no-maps", c.Rule[0].Name)
	assert.Equal(t, "tide", apps.WithID("android", "net.tide").Name)
	assert.Nil(t, apps.WithID("ios", "net.tide"))
	assert.Nil(t, apps.WithID("android", "net.other"))
}

func TestAChecklistThatCannotBeUsedSaysWhy(t *testing.T) {
	for text, says := range map[string]string{
		`ask = { rules = ["grown"] }`:                                     "ask needs both rules and who",
		`ask = { rules = ["gone"], who = ["keeper"] }`:                    `there is no rule "gone"`,
		`ask = { rules = ["grown"], who = ["boss"] }`:                     `"boss" is no role`,
		`ask = { rules = ["grown"], who = ["keeper"], count = 99 }`:       "count is 99",
		`ask = { rules = ["grown"], who = ["keeper"], within = "a day" }`: "is no span of time between a minute and 90 days",
		`size = "much"`: "much",
		`growth = -1`:   "growth is -1 per cent",
		`target = -3`:   "target is -3",
		`accept = [{ rule = "grwon", reason = "x", until = "2027-01-31" }]`: `no rule "grwon"`,
		`accept = [{ rule = "grown", until = "2027-01-31" }]`:               "does not say why",
		`accept = [{ rule = "grown", reason = "x", until = "soon" }]`:       `until "soon" is no day`,
		`sice = "1 MB"`: "sice",
		`rule = [{ name = "grown", holds = "true", says = "x" }]`:   "a rule grown already",
		`rule = [{ name = "mine", holds = "size <", says = "x" }]`:  "does not hold together",
		`rule = [{ name = "mine", holds = "size", says = "x" }]`:    "true or false",
		`rule = [{ name = "mine", holds = "tide > 1", says = "" }]`: "tide",
		`rule = [{ name = "M!", holds = "true", says = "x" }]`:      "M!",
	} {
		_, found := ParseApps([]byte("[app.tide]\n[app.tide.checklist]\n" + text))
		var all []string
		for _, f := range found {
			all = append(all, f.Message)
		}
		assert.Contains(t, strings.Join(all, "\n"), says, text)
	}
}
