package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A suite of which one file takes most of the time is dealt among three jobs: blindly at first, and then so that the slow
// one is alone.
func TestTestsAreDealtAmongVariants(t *testing.T) {
	s := theServer(t)
	pipeline := `[trigger.push]
[job.tests]
variants = { over = { PART = ["1", "2", "3"] } }
[[job.tests.step]]
deal = { files = ["tests/*.sh"], into = "out/mine" }
[[job.tests.step]]
name = "run"
script = '''
{ echo '<testsuites>'
  while read f; do
    n=$(basename "$f" .sh)
    printf '<testsuite name="%s"><testcase classname="%s" name="runs" time="%s"/></testsuite>' $n $n $(sh "$f")
  done < out/mine
  echo '</testsuites>'; } > out/report.xml
echo "mine: $(tr '\n' ' ' < out/mine)"
'''
test_reports = ["out/*.xml"]
`
	files := map[string]string{"piston/trunk.toml": pipeline}
	names := strings.Fields("charts harbours low moon neaps rise slow springs tides")
	for _, name := range names {
		files["tests/"+name+".sh"] = "echo 0.1\n"
	}
	files["tests/slow.sh"] = "echo 2.5\n"
	r := s.project(t, "dealt", files)
	r.push()
	mine := func(part string, logs string) (list []string) {
		_, after, found := strings.Cut(logs, "mine: ")
		require.True(t, found, logs)
		line, _, _ := strings.Cut(after, "\n")
		return strings.Fields(line)
	}
	for run := int64(1); run <= 2; run++ {
		d := r.passes(1)
		if run == 2 {
			r.commit("Say it again", map[string]string{"README": "x"})
			r.push()
			d = r.passes(2)
		}
		var all []string
		for _, j := range d.Jobs {
			log := r.logText(d.Number, j.Name)
			list := mine(j.Name, log)
			if run == 2 && strings.Contains(strings.Join(list, " "), "slow") {
				assert.Equal(t, []string{"tests/slow.sh"}, list, "it takes longer than all others")
				assert.Contains(t, log, "1 of 9 fell to this job, among 3: about 2.5 s")
			}
			all = append(all, list...)
		}
		assert.Len(t, all, len(names))
		for _, name := range names {
			assert.Contains(t, all, "tests/"+name+".sh")
		}
	}
}

// What a step has left where a list is read or written leads nowhere, and holds nothing up.
func TestADealReadsAndWritesPlainFilesOnly(t *testing.T) {
	s := theServer(t)
	var pipeline strings.Builder
	pipeline.WriteString("[trigger.push]\n")
	says := map[string]string{}
	for name, c := range map[string][3]string{
		"pipe":    {"mkfifo list", "list", "list is no plain file"},
		"link":    {"ln -s /etc/passwd list", "list", "list is no plain file"},
		"bytes":   {"printf 'a\\377b\\n' > list", "list", "list is no text"},
		"nothing": {"printf '\\n \\n' > list", "list", "list names nothing to deal"},
		"none":    {"true", "list", "there is no list in the workspace"},
		"huge":    {"head -c 9000000 /dev/zero | tr '\\0' 'a' > list", "list", "list has more than 8 MB"},
		"many":    {"seq 60000 > list", "list", "60000 names to deal; at most 50000 are"},
		"into":    {"echo a > list; mkdir out; mkfifo out/mine", "list", "out/mine is no plain file"},
		"away":    {"echo a > list; ln -s /tmp out", "list", "out is no folder but a symbolic link"},
		"twice":   {"printf 'a\\na\\n\\n b \\n' > list", "list", ""},
	} {
		fmt.Fprintf(&pipeline, "[job.%s]\nvariants = { over = { PART = [\"1\"] } }\nadvisory = true\n[[job.%s.step]]\nscript = '''%s'''\n"+
			"[[job.%s.step]]\ndeal = { list = %q, into = \"out/mine\" }\n[[job.%s.step]]\nscript = \"cat out/mine; sed -n '$=' out/mine\"\n",
			name, name, c[0], name, c[1], name)
		says[name+"+1"] = c[2]
	}
	r := s.project(t, "plain", map[string]string{"piston/trunk.toml": pipeline.String()})
	r.push()
	d := r.run(1, true)
	require.Len(t, d.Jobs, len(says))
	for _, j := range d.Jobs {
		if says[j.Name] == "" {
			assert.Equal(t, "passed", string(j.State), asJSON(j))
			assert.Contains(t, r.logText(1, j.Name), "a\nb\n2\n", "each is there once")
			continue
		}
		assert.Equal(t, "failed", string(j.State), j.Name)
		assert.Contains(t, asJSON(j.Steps[1]), says[j.Name], j.Name)
	}
}

// A list that holds a secret is dealt to nobody: it would be kept with the run's records.
func TestASecretIsNotDealt(t *testing.T) {
	s := theServer(t)
	r := s.project(t, "dealsecret", map[string]string{"piston/trunk.toml": "[trigger.push]\n[job.t]\n" +
		"variants = { over = { PART = [\"1\"] } }\n[[job.t.step]]\nsecrets = [\"KEY\"]\nscript = 'printf \"a\\n%s\\n\" \"$KEY\" > list'\n" +
		"[[job.t.step]]\ndeal = { list = \"list\", into = \"mine\" }\n"})
	out, code := s.piston(t, "a-value-that-nobody-sees-814", "secret", "set", "dealsecret", "KEY")
	require.Zero(t, code, out)
	r.push()
	d := r.run(1, true)
	assert.Equal(t, "failed", string(d.State))
	assert.Contains(t, asJSON(d), "holds a secret: nothing is dealt")
	assert.NotContains(t, asJSON(d), "nobody-sees")
}
