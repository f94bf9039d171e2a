package definition

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const raised = "[[job.a.step]]\nraise = { by = \"patch\" }\n"

func TestWhatTheServiceDoesItselfTakesNoMachine(t *testing.T) {
	for text, byService := range map[string]bool{
		"[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nrelease = {}\n":                                                  true,
		"[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nland = {}\n":                                                     true,
		"[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nrelease = {}\n[[job.b.step]]\nland = {}\n":                       true,
		"[job.b]\nafter = [\"a\"]\nmachine = [\"mac\"]\n[[job.b.step]]\nland = {}\n":                                false,
		"[job.b]\nafter = [\"a\"]\n[[job.b.step]]\nscript = \"x\"\n[[job.b.step]]\nland = {}\n":                     false,
		"[job.b]\nafter = [\"a\"]\nlimit = \"5m\"\n[[job.b.step]]\nname = \"it\"\nrelease = {}\nwhen = 'trusted'\n": true,
	} {
		p, found := Parse("piston/trunk.toml", []byte(raised+text), nil)
		require.Empty(t, found, text)
		b := p.Job["b"]
		assert.Equal(t, byService, b.ByService(), text)
		switch {
		case !byService:
			assert.Equal(t, DefaultLimit, b.Limit)
		case b.Step[0].Name == "it":
			assert.Equal(t, Duration("5m"), b.Limit)
		default:
			assert.Empty(t, b.Limit, "it may wait for days")
		}
	}
}

func TestWhatIsNotOfTheServiceOrOnlyOfIt(t *testing.T) {
	for text, wanted := range map[string]string{
		"[[job.b.step]]\nscript = \"x\"\n[[job.b.step]]\nrelease = {}\n":                                        "6 bad-value",
		"[job.b]\ntools = { clang = \"*\" }\n[[job.b.step]]\nrelease = {}\n":                                    "4 bad-value",
		"[job.b]\nmachine = [\"@service\"]\n[[job.b.step]]\nscript = \"x\"\n":                                   "4 bad-label, 4 bad-value",
		"[job.b]\nmachine = [\"@${X}\"]\nvariants.over = { X = [\"service\"] }\n[[job.b.step]]\nscript = \"x\"": "4 bad-label",
		"[[job.b.step]]\nrelease = { app = 1 }\n":                                                               "4 bad-toml",
	} {
		_, found := Parse("piston/trunk.toml", []byte(raised+text), nil)
		var got []string
		for _, f := range found {
			got = append(got, fmt.Sprintf("%d %s", f.Line, f.Code))
		}
		assert.Equal(t, wanted, strings.Join(got, ", "), text)
	}
}
