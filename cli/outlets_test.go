package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	aTester = `{"id":7,"address":"mira@harbour.example","groups":["friends"],"link":"https://b.example/t/X","downloads":3,
		"last":"2026-07-01T02:30:00Z"}`
	aBounced = `{"id":8,"address":"oda@bounce.example","groups":["friends"],"trouble":"nobody of that name here"}`
	aStore   = `{"name":"quayside","kind":"store","url":"https://store.example","client":"c","takes":["app-bundle"],
		"warnings":["its secret expires on 2026-12-17"],"scope":{}}`
	tried = `{"groups":[{"id":1,"group":"friends","begun":"2026-07-01T02:30:00Z","ends":"2026-08-01T02:30:00Z","halted":true,
		"testers":3,"downloaded":2}],"words":[{"id":1,"tester":7,"at":"2026-07-01T02:30:00Z","text":"The springs\nare right.",
		"picture":true}]}`
)

func TestCommandsOfOutletsAndTesters(t *testing.T) {
	dir := t.TempDir()
	secret, addresses := filepath.Join(dir, "secret"), filepath.Join(dir, "addresses")
	require.NoError(t, os.WriteFile(secret, []byte("s3cret\n"), 0o600))
	require.NoError(t, os.WriteFile(addresses, []byte("\n jon@harbour.example \n"), 0o600))
	for name, c := range map[string]struct {
		answers map[string]string
		args    []string
		says    []string
		asked   string
	}{
		"a store": {map[string]string{"PUT /projects/p/outlets/quayside": aStore}, []string{"outlet", "set", "p", "quayside",
			"--url", "https://store.example", "--client", "c", "--secret-file", secret, "--takes", "app-bundle", "--expires",
			"2027-06-30"}, []string{"quayside, https://store.example"},
			`PUT /projects/p/outlets/quayside? {"kind":"store","url":"https://store.example","client":"c","secret":"s3cret",` +
				`"expires":"2027-06-30T00:00:00Z","takes":["app-bundle"],"scope":{}}`},
		"a bucket": {map[string]string{"PUT /projects/p/outlets/b": `{"name":"b","kind":"bucket","url":"https://h/b"}`},
			[]string{"outlet", "set", "p", "b", "--bucket", "https://h/b", "--region", "north"}, []string{"b, https://h/b"},
			`PUT /projects/p/outlets/b? {"kind":"bucket","url":"https://h/b","region":"north","scope":{}}`},
		"testers": {map[string]string{"PUT /projects/p/outlets/testers": `{"name":"testers","kind":"testers"}`},
			[]string{"outlet", "set", "p", "testers", "--testers", "--days", "30"}, []string{"testers, groups of testers"},
			`PUT /projects/p/outlets/testers? {"kind":"testers","days":30,"scope":{}}`},
		"outlets": {map[string]string{"GET /projects/p/outlets": `[` + aStore + `]`}, []string{"outlet", "list", "p"},
			[]string{"https://store.example", "app-bundle", "its secret expires"}, "GET /projects/p/outlets?"},
		"add": {map[string]string{"POST /projects/p/testers": `{"added":1,"joined":2}`}, []string{"tester", "add", "p", "friends",
			"mira@harbour.example", "--file", addresses}, []string{"2 testers joined group friends, 1 of them new"},
			`POST /projects/p/testers? {"group":"friends","addresses":["mira@harbour.example","jon@harbour.example"]}`},
		"list": {map[string]string{"GET /projects/p/testers": `{"testers":[` + aTester + `,` + aBounced + `],"next":8}`},
			[]string{"tester", "list", "p", "--group", "friends"}, []string{"mira@harbour.example", "gets no mail: nobody",
				"--after 8"}, "GET /projects/p/testers?group=friends&limit=50"},
		"drop": {map[string]string{"DELETE /projects/p/testers/7": ""}, []string{"tester", "drop", "p", "7", "--group", "friends"},
			[]string{"nothing more"}, "DELETE /projects/p/testers/7?group=friends"},
		"link": {map[string]string{"POST /projects/p/testers/7/link": `{"link":"https://b.example/t/Y"}`},
			[]string{"tester", "link", "p", "7"}, []string{"https://b.example/t/Y"}, "POST /projects/p/testers/7/link?"},
		"devices": {map[string]string{"GET /projects/p/test-devices": `[{"tester":7,"address":"mira@harbour.example",
			"device":"ABC","name":"phone","added":"2026-07-01T02:30:00Z","listed":false}]`}, []string{"tester", "devices", "p"},
			[]string{"ABC", "not in the profile"}, "GET /projects/p/test-devices?"},
		"words": {map[string]string{"GET /projects/p/releases": `{"releases":[` + aRelease + `]}`,
			"GET /projects/p/releases/almanac/1.4/tried": tried}, []string{"release", "words", "p", "1.4"},
			[]string{"friends: 2 of 3 have fetched it", "halted", "tester 7", "with a picture", "  are right."},
			"GET /projects/p/releases/almanac/1.4/tried?"},
	} {
		out, code, asked := against(t, c.answers, c.args...)
		assert.Zero(t, code, "%s: %s", name, out)
		for _, text := range c.says {
			assert.Contains(t, out, text, name)
		}
		require.NotEmpty(t, asked, name)
		assert.Equal(t, c.asked, asked[len(asked)-1], name)
		out, code, _ = against(t, c.answers, append(append([]string{}, c.args...), "--json")...)
		assert.Zero(t, code, "%s: %s", name, out)
		assert.True(t, json.Valid([]byte(out)), "%s: %s", name, out)
	}
	for _, args := range [][]string{{"tester", "add", "p"}, {"tester", "add", "p", "friends"}, {"tester", "drop", "p", "x"},
		{"tester", "link", "p", "0"}, {"tester", "add", "p", "g", "--file", filepath.Join(dir, "none")},
		{"outlet", "set", "p", "q", "--expires", "soon"}, {"outlet", "check", "http://127.0.0.1:1", "--package", secret}} {
		_, code, asked := against(t, nil, args...)
		assert.NotZero(t, code, args)
		assert.Empty(t, asked, "%v: nothing is asked of the service", args)
	}
}
