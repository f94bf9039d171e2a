package terminal

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/state"
	"gentlepiston.example/piston/core/testreport"
	"gentlepiston.example/piston/core/timing"
)

func TestTheReportOfAFailedRun(t *testing.T) {
	base := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	at := func(ms int) *time.Time { v := base.Add(time.Duration(ms) * time.Millisecond); return &v }
	two := 2
	d := api.RunDetail{Run: api.Run{Project: "p", Number: 3, Pipeline: "trunk", Branch: "work/x", Commit: "0123456789", Subject: "Do \x1b[31mit", Author: "Ada",
		State: state.Failed, Queued: base, Finished: at(4000), BuildNumber: 9, VersionName: "1.2"}, Now: *at(9000),
		Failure: &api.Failure{Job: "core", Step: "test", Reason: "exit code 2", ExitCode: &two, Lines: []logline.Line{{N: 18, Text: "\x1b[31mFAIL\x1b[0m neaps"}},
			Tests: []api.FailedCase{{Case: testreport.Case{Suite: "tide", Name: "neaps", Message: "got 1"}}}},
		Jobs: []api.Job{
			{Name: "core", State: state.Failed, Attempt: 2, Claimed: at(100), Timing: timing.Report{Queue: 100, Prepare: 900, Slowest: "test"},
				Steps: []api.Step{{Name: "fetch", State: state.Passed, Started: at(1000), Finished: at(1500)}, {Name: "test", State: state.Failed, Started: at(1500), Finished: at(4000)}},
				Caches: []api.CacheUse{{Name: "depot", Hit: true, Size: 1500, TookMs: 40},
					{Name: "near", Nearest: true, Run: 2, Line: "main", Here: true, Saved: true, Stored: 70, Size: 1500, TookMs: 5}}, Tests: &api.TestSummary{Passed: 4, Failed: 1}},
			{Name: "app", State: state.Skipped, Reason: "core failed"}},
		Artifacts: []api.Artifact{{Job: "core", Path: "out/a.apk", Size: 10_600, SHA256: "abc"}}}
	var b bytes.Buffer
	NewScreen(&b).Run(d)
	got := b.String()
	assert.NotContains(t, got, "\x1b", "no colours where no terminal is")
	for _, want := range []string{"✗ failed  run 3, trunk of work/x 0123456", "build 1.2 (9)", "core › test: exit code 2", "✗ tide › neaps: got 1", "    18 FAIL neaps",
		"attempt 2", "queue 100 ms, preparation 900 ms", "2.5 s", "slowest failed", "cache depot: hit, fetched; 1.5 kB in 40 ms",
		"cache near: miss; the nearest of run 2 on main, already on the runner; saved, 70 B new; 1.5 kB in 5 ms", "tests: 4 passed, 1 failed", "− skipped  app  core failed",
		"out/a.apk  10.6 kB  abc", "total 4.0 s"} {
		assert.Contains(t, got, want)
	}
	assert.Less(t, strings.Index(got, "exit code 2"), strings.Index(got, "fetch"), "the failure comes first")

	b.Reset()
	NewScreen(&b).Run(api.RunDetail{Run: api.Run{Number: 4, State: state.Failed, Queued: base},
		Findings: []definition.Finding{{Code: "unknown-key", Severity: definition.Error, File: "piston/a.toml", Line: 3, Col: 2, Message: "unknown key", Excerpt: " x = 1", Fix: "Did you mean \"y\"?"}}})
	assert.Contains(t, b.String(), "piston/a.toml:3:2: error: unknown key [unknown-key]\n    3 |  x = 1\n         ^\n        Did you mean \"y\"?")
}

func TestTablesLineUpWhateverTheColours(t *testing.T) {
	var b bytes.Buffer
	s := &Screen{w: &b, Colour: true}
	s.Table([]string{"A", "B"}, [][]string{{s.In(Red, "long cell"), "x"}, {"ä", "y"}})
	lines := strings.Split(b.String(), "\n")
	assert.Equal(t, visible(strings.Split(lines[1], "x")[0]), visible(strings.Split(lines[2], "y")[0]))
}

func TestSpansForPeople(t *testing.T) {
	for ms, want := range map[int64]string{0: "0 ms", 999: "999 ms", 1500: "1.5 s", 59_000: "59 s", 61_000: "1 min 01 s", 3_660_000: "1 h 01 min"} {
		assert.Equal(t, want, Span(ms))
	}
}

func TestSettingsAreTheirOwnersAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "new", "client.json")
	t.Setenv("PISTON_CONFIG", path)
	empty, err := LoadSettings()
	require.NoError(t, err)
	assert.Zero(t, empty)
	require.NoError(t, SaveSettings(path, Settings{Server: "http://x", Token: "t"}))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	got, err := LoadSettings()
	require.NoError(t, err)
	assert.Equal(t, Settings{Server: "http://x", Token: "t"}, got)
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	_, err = LoadSettings()
	assert.ErrorContains(t, err, "sign in again")
}

func TestATableFitsItsTerminal(t *testing.T) {
	var b strings.Builder
	s := &Screen{w: &b, width: 24, Colour: true}
	s.Table([]string{"NAME", "NOTE"}, [][]string{{"KEY", s.In(Faint, "what it opens, and where")}, {"A", "short"}})
	for line := range strings.Lines(b.String()) {
		assert.LessOrEqual(t, visible(strings.TrimSpace(line)), 24, line)
	}
	assert.Contains(t, b.String(), "what it opens, an…\x1b[0m", "the colour ends all the same")
	b.Reset()
	(&Screen{w: &b}).Table([]string{"NAME", "NOTE"}, [][]string{{"KEY", "what it opens, and where"}})
	assert.Contains(t, b.String(), "and where", "in a pipe nothing is cut")
}

// What strangers write moves nothing in a terminal, and turns no line around.
func TestNothingMovesInATerminal(t *testing.T) {
	const hostile = "a\x1b[2Jb\x07\u202egnp\u2066.exe\u200fé\ttab🙂"
	for _, text := range []string{Short(hostile, 90), CleanLine(hostile, false), CleanLine(hostile, true)} {
		for _, bad := range []string{"\x07", "\u202e", "\u2066", "\u200f"} {
			assert.NotContains(t, text, bad)
		}
		assert.Contains(t, text, "é")
		assert.Contains(t, text, "🙂")
	}
	assert.NotContains(t, Short(hostile, 90), "\x1b")
	assert.NotContains(t, CleanLine(hostile, false), "\x1b")
	// A step of a proposal prints for whoever watches it: into the clipboard, over the screen, into the title.
	const greedy = "\x1b]52;c;cm0gLXJm\x1b\\a\x1b[2J\x1b[31mb\x1b]0;t\x07\x1bc"
	assert.Equal(t, "a\x1b[31mb\x1b[0m", CleanLine(greedy, true), "a colour ends with its line")
	assert.Equal(t, "ab", CleanLine(greedy, false))
	for _, colour := range []bool{true, false} {
		var b strings.Builder
		s := &Screen{w: &b, Colour: colour}
		s.Line("%s of %s", s.In(Red, "failed"), "core\x1b]52;c;cm0gLXJm\x07\u009b\r\x08")
		s.Table([]string{"NAME"}, [][]string{{"a\x1b[2Jb\x1b[32mc"}})
		assert.NotRegexp(t, `\x1b[^\[]|\x1b\[[\d;]*[^\d;m]|[\x00-\x08\x0b-\x1a\x7f\x{80}-\x{9f}]`, b.String())
		assert.Equal(t, colour, strings.Contains(b.String(), "\x1b[31mfailed\x1b[0m of core\n"))
		assert.Contains(t, b.String(), "ab")
	}
}
