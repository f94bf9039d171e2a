package e2e

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/local/testdb"
)

// printAll prints every secret of the environment in every encoding, by programs that are not ours.
const printAll = `
import base64, binascii, html, json, os, shlex, sys, urllib.parse
names = sorted(n for n in os.environ if n.startswith('LEAK_'))
for n in names:
    v = os.environ[n]
    if os.path.isfile(v):
        v = open(v, newline='').read()
    b = v.encode()
    for text in [v, json.dumps(v), json.dumps(v, ensure_ascii=False), html.escape(v), urllib.parse.quote(v), urllib.parse.quote(v, safe=''), urllib.parse.quote_plus(v),
                 binascii.hexlify(b).decode(), binascii.hexlify(b).decode().upper(), shlex.quote(v)]:
        print(n, text)
    for shift in range(3):
        for encode in (base64.b64encode, base64.urlsafe_b64encode):
            print(n, encode(b'.' * shift + b + b'..').decode())
    half = len(v) // 2
    print(n, v[:half] + '\x1b[31m' + v[half:] + '\x1b[0m')
    sys.stdout.write(n + ' ' + v[:half]); sys.stdout.flush()
    sys.stdout.write(v[half:] + '\n'); sys.stdout.flush()
open('report.xml', 'w').write('<testsuite name="s"><testcase name="%s"><failure message="%s"/></testcase></testsuite>' % (html.escape(os.environ[names[0]]), html.escape(os.environ[names[1]])))
raise SystemExit('error: ' + os.environ[names[0]])
`

// A dump of the database, all blobs, all streams, and all logs hold none of forty secrets, in no encoding.
func TestNothingThatIsKeptHoldsASecret(t *testing.T) {
	dsn := testdb.New(t)
	s := serveWith(t, []string{"PISTON_DATABASE=" + dsn}, "--slots", "1", "--verbose")
	r := rand.New(rand.NewPCG(40, 2))
	values := map[string]string{}
	var names, files []string
	for i := range 40 {
		name := fmt.Sprintf("LEAK_%02d", i)
		core := fmt.Sprintf("%016x%016x", r.Uint64(), r.Uint64())
		switch i % 4 {
		case 1:
			core = `p"a's s&` + core[:12] + `/<+é>%$` + core[12:20]
		case 2:
			core = base64.StdEncoding.EncodeToString([]byte(core))
		case 3:
			core = core[:16] + "-first\nsecond-" + core[16:] + "\n"
		}
		values[name] = core
		args := []string{"secret", "set", "leaks", name}
		if i%4 == 3 {
			file := filepath.Join(t.TempDir(), name)
			require.NoError(t, os.WriteFile(file, []byte(core), 0o600))
			args = append(args, "--file", file)
			files = append(files, name)
		} else {
			names = append(names, name)
		}
		values[name] = strings.TrimSpace(core)
		if len(names)+len(files) == 1 {
			s.project(t, "leaks", map[string]string{"piston/trunk.toml": "[[job.a.step]]\nscript = \"true\"\n"})
		}
		out, code := s.piston(t, core, args...)
		require.Zero(t, code, out)
	}
	all, err := json.Marshal(append(names, files...))
	require.NoError(t, err)
	repo := &repo{t: t, s: s, name: "leaks", bare: filepath.Join(s.home, "repos/leaks/leaks.git"), dir: filepath.Join(s.home, "repos/leaks/work")}
	repo.commit("Print them", map[string]string{"print.py": printAll, "piston/trunk.toml": fmt.Sprintf("[trigger.push]\n[[job.main.step]]\nscript = \"python3 print.py\"\nsecrets = %s\ntest_reports = [\"report.xml\"]\n", all)})
	repo.push()
	d := repo.run(1, true)
	log := repo.logText(1, "main")
	require.Greater(t, strings.Count(log, "‹hidden›"), 40*15, "it printed them: %.2000s", log)

	needles := map[string]string{} // what must be nowhere -> whose it is
	for name, v := range values {
		for line := range strings.Lines(v) {
			line = strings.TrimSpace(line)
			for _, text := range []string{line, url.QueryEscape(line), url.PathEscape(line), hex.EncodeToString([]byte(line)), strings.ToUpper(hex.EncodeToString([]byte(line)))} {
				needles[text] = name
			}
			for shift := range 3 {
				for _, alphabet := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
					text := alphabet.EncodeToString([]byte(strings.Repeat(".", shift) + line))
					needles[text[4:len(text)-3]] = name
				}
			}
		}
	}
	look := func(what string, text []byte) {
		for needle, name := range needles {
			if bytes.Contains(text, []byte(needle)) {
				assert.Fail(t, "a secret is kept", "%s holds %s as %q", what, name, needle)
			}
		}
	}
	look("the log", []byte(log))
	look("the answer of the interface", []byte(asJSON(d)))
	look("the service's own log", []byte(s.log.String()))
	dump := dumpOf(t, dsn)
	require.Contains(t, string(dump), "LEAK_39", "the dump is of this database")
	look("the dump", dump)
	seen := 0
	require.NoError(t, filepath.WalkDir(s.home, func(name string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || strings.Contains(name, "/repos/") {
			return nil
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return nil // it was removed this moment
		}
		seen++
		look(name, text)
		if unpacked, err := unpack(text); err == nil {
			look(name+", unpacked", unpacked)
		}
		return nil
	}))
	assert.Greater(t, seen, 5)
}

func unpack(text []byte) ([]byte, error) {
	d, err := zstd.NewReader(nil)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.DecodeAll(text, nil)
}

// dumpOf is what pg_dump writes of a database.
func dumpOf(t *testing.T, dsn string) []byte {
	t.Helper()
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_dump")
	require.NoError(t, err)
	require.NotEmpty(t, found)
	cmd := exec.Command(found[0], "--inserts", dsn)
	out, err := cmd.Output()
	require.NoError(t, err, "%s", dsn)
	return out
}

// Whoever may push a branch can fill a cache. A run with protected secrets restores none of those.
func TestARunWithProtectedSecretsHasCachesOfItsOwn(t *testing.T) {
	s := theServer(t)
	const job = `
[job.main.cache.depot]
paths = ["depot"]
follows = ["lock"]
[[job.main.step]]
script = "test -e depot/by || { mkdir -p depot; echo filled by run $PISTON_RUN > depot/by; }; cat depot/by"
`
	r := s.project(t, "apart", map[string]string{"lock": "one", "piston/trunk.toml": "[trigger.push]" + job,
		"piston/release.toml": "[trigger.tag]\nnames = [\"v*\"]" + job + "[[job.main.step]]\nscript = \"true\"\nsecrets = [\"KEY\"]\n"})
	out, code := s.piston(t, "a value for releases", "secret", "set", "apart", "KEY", "--tag", "v*")
	require.Zero(t, code, out)
	filled := func(run record.RunNumber, by string) string {
		t.Helper()
		r.passes(run)
		log := r.logText(run, "main")
		assert.Contains(t, log, "filled by run "+by, "run %d", run)
		return log
	}
	r.push()
	assert.NotContains(t, filled(1, "1"), "protected")
	r.git("tag", "v1")
	r.push("v1")
	assert.Contains(t, filled(2, "2"), "by runs with the same protected secrets")
	r.commit("Say more", map[string]string{"more": "x"})
	r.push()
	assert.Contains(t, filled(3, "1"), "cache depot: hit")
	r.git("tag", "v2")
	r.push("v2")
	assert.Contains(t, filled(4, "2"), "cache depot: hit")
	// Protected otherwise, it is something else again.
	out, code = s.piston(t, "", "secret", "change", "apart", "KEY", "--tag", "v3")
	require.Zero(t, code, out)
	r.git("tag", "v3")
	r.push("v3")
	filled(5, "5")
}
