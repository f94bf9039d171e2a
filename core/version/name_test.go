package version

import (
	"cmp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func mustParse(t *testing.T, name string) Parts {
	t.Helper()
	p, err := Parse(name)
	require.NoError(t, err)
	return p
}

func TestRaise(t *testing.T) {
	for _, c := range []struct{ from, by, pre, want string }{
		{"1.4.2", "patch", "", "1.4.3"}, {"1.4.2", "minor", "", "1.5.0"}, {"1.4.2", "major", "", "2.0.0"},
		{"1.4", "minor", "", "1.5"}, {"1.4", "patch", "", "1.4.1"}, {"3", "major", "", "4"}, {"3", "minor", "", "3.1"},
		{"1.2.3.4", "patch", "", "1.2.4.0"},
		{"1.5.0-rc.2", "patch", "", "1.5.0"}, {"1.5.0-rc.2", "minor", "", "1.5.0"}, {"1.5.0-rc.2", "major", "", "2.0.0"},
		{"1.5.1-rc.2", "minor", "", "1.6.0"}, {"2.0.0-rc.1", "major", "", "2.0.0"},
		{"1.4.2", "pre", "rc", "1.4.3-rc.1"}, {"1.4.3-rc.1", "pre", "rc", "1.4.3-rc.2"}, {"1.4.3-rc.9", "pre", "", "1.4.3-rc.10"},
		{"1.4.3-beta.4", "pre", "rc", "1.4.3-rc.1"}, {"1.4.2", "minor", "rc", "1.5.0-rc.1"},
		{"1.5.0-rc.1", "minor", "rc", "1.5.0-rc.2"}, {"1.5.0-rc", "pre", "rc", "1.5.0-rc.1"},
	} {
		got, err := mustParse(t, c.from).Raise(Size(c.by), c.pre)
		require.NoError(t, err, "%v", c)
		assert.Equal(t, c.want, got.String(), "%v", c)
		assert.Positive(t, got.Compare(mustParse(t, c.from)), "%v is not above", c)
	}
	for _, c := range []struct{ from, by, pre string }{
		{"1.4.2", "pre", ""}, {"1.4.3-rc.1", "pre", "beta"}, {"1.4.2", "pre", "r c"}, {"2147483647", "major", ""},
		{"1.0.0-rc.x", "pre", "rc"}, {"1.4.2", "pre", strings.Repeat("a", 21)},
	} {
		_, err := mustParse(t, c.from).Raise(Size(c.by), c.pre)
		assert.Error(t, err, "%v", c)
	}
}

func TestNamesHaveAnOrderThatTheirKeysShare(t *testing.T) {
	rising := []string{"0.9", "1.0.0-1", "1.0.0-2", "1.0.0-10", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta",
		"1.0.0-beta", "1.0.0-beta.2", "1.0.0-beta.11", "1.0.0-rc.1", "1.0.0", "1.0.1", "1.2", "1.10", "2", "2147483647.0.0.1"}
	for i, a := range rising {
		for k, b := range rising {
			x, y := mustParse(t, a), mustParse(t, b)
			assert.Equal(t, cmp.Compare(i, k), x.Compare(y), "%s and %s", a, b)
			assert.Equal(t, cmp.Compare(i, k), strings.Compare(x.Key(), y.Key()), "the keys of %s and %s", a, b)
		}
	}
	assert.Zero(t, mustParse(t, "1.4").Compare(mustParse(t, "1.4.0")))
	assert.Equal(t, mustParse(t, "1.4").Key(), mustParse(t, "1.4.0").Key())
}

func TestNamesThatAreNone(t *testing.T) {
	for _, name := range []string{"", "1.", "v1", "1.2.3.4.5", "2147483648", "99999999999999999999", "1.0-", "1 2", "1.2\n"} {
		_, err := Parse(name)
		assert.ErrorIs(t, err, ErrNoName, "%q", name)
	}
}

func TestTheNameInATag(t *testing.T) {
	for tag, want := range map[string]string{"v1.4.0": "1.4.0", "1.4": "1.4", "almanac/v2.0.0-rc.1": "2.0.0-rc.1",
		"almanac-1.2.3": "1.2.3", "app@3.1": "3.1", "release_v7": "7"} {
		p, err := OfTag(tag)
		require.NoError(t, err, tag)
		assert.Equal(t, want, p.String())
	}
	for _, tag := range []string{"nightly", "v", "v1.2.3.4.5", "x1.2", "v99999999999"} {
		_, err := OfTag(tag)
		assert.ErrorIs(t, err, ErrNoName, tag)
	}
}

func TestNamesByDate(t *testing.T) {
	now := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	assert.Equal(t, "2026.11.1", mustParse(t, "1.4.0").ByDate(now).String())
	assert.Equal(t, "2026.11.4", mustParse(t, "2026.11.3").ByDate(now).String())
	assert.Equal(t, "2026.11.1", mustParse(t, "2026.10.3").ByDate(now).String())
}

func TestWhatCommitsSay(t *testing.T) {
	for message, want := range map[string]Change{
		"feat(map): show currents\n":                                  {Type: "feat", Scope: "map", About: "show currents"},
		"Fix: a wrong tide":                                           {Type: "fix", About: "a wrong tide"},
		"refactor!: drop the old table":                               {Type: "refactor", About: "drop the old table", Breaking: true},
		"fix: x\n\nBREAKING CHANGE: y":                                {Type: "fix", About: "x", Breaking: true},
		"Show heights in feet":                                        {About: "Show heights in feet"},
		"Show heights\n\nBREAKING CHANGE: no convention":              {About: "Show heights"},
		"fix: x\r\n\r\nRelease-Note: Tides are\r\n  right again\r\n":  {Type: "fix", About: "x", Note: "Tides are right again"},
		"chore: deps\n\nRelease-Note: none\nSigned-off-by: A <a@b.c>": {Type: "chore", About: "deps", Note: "none"},
		"":                                 {},
		"feat: t\xffdes\x00 \x1b[31m":      {Type: "feat", About: "t\ufffddes [31m"},
		"fix: " + strings.Repeat("ä", 300): {Type: "fix", About: strings.Repeat("ä", 199) + "…"},
	} {
		assert.Equal(t, want, ReadChange(message), "%q", message)
	}
}

func TestTheSizeOfCommits(t *testing.T) {
	of := func(last string, messages ...string) Size {
		var changes []Change
		for _, m := range messages {
			changes = append(changes, ReadChange(m))
		}
		by, why := SizeOf(mustParse(t, last), changes)
		assert.NotEmpty(t, why)
		return by
	}
	assert.Equal(t, Patch, of("1.0.0"))
	assert.Equal(t, Patch, of("1.0.0", "fix: a", "Whatever"))
	assert.Equal(t, Minor, of("1.0.0", "fix: a", "feat: b", "fix: c"))
	assert.Equal(t, Major, of("1.0.0", "feat: a", "fix!: b"))
	assert.Equal(t, Minor, of("0.9.0", "fix!: b"))
}

func TestBuildNumbersRise(t *testing.T) {
	now := time.Date(2026, 11, 26, 23, 59, 0, 0, time.UTC)
	for _, c := range []struct {
		n          Numbering
		last       BuildNumber
		name       string
		want, fail BuildNumber
	}{
		{n: Numbering{}, last: 0, want: 1}, {n: Numbering{}, last: 412, want: 413},
		{n: Numbering{}, last: MaxBuildNumber - 1, want: MaxBuildNumber}, {n: Numbering{}, last: MaxBuildNumber},
		{n: Numbering{Span: 3}, last: MaxBuildNumber - 3, want: MaxBuildNumber - 2}, {n: Numbering{Span: 3}, last: MaxBuildNumber - 2},
		{n: Numbering{}, last: -1},
		{n: Numbering{Scheme: Date}, last: 412, want: 2026112601}, {n: Numbering{Scheme: Date}, last: 2026112601, want: 2026112602},
		{n: Numbering{Scheme: Date}, last: 2026112598, want: 2026112601}, {n: Numbering{Scheme: Date}, last: 2026112698, want: 2026112699},
		{n: Numbering{Scheme: Date}, last: 2026112699}, {n: Numbering{Scheme: Date, Span: 2}, last: 2026112698},
		{n: Numbering{Scheme: FromName, Digits: []int{2, 2, 2}}, name: "1.4.2", want: 10402},
		{n: Numbering{Scheme: FromName, Digits: []int{2, 2, 2}}, name: "1.4.2", last: 10402},
		{n: Numbering{Scheme: FromName, Digits: []int{2, 2, 2, 2}}, name: "1.4.2", want: 1040200},
		{n: Numbering{Scheme: FromName, Digits: []int{2, 2, 2, 2}}, name: "1.4.2", last: 1040200, want: 1040201},
		{n: Numbering{Scheme: FromName, Digits: []int{2, 2, 2, 2}}, name: "1.4.2", last: 1040299},
		{n: Numbering{Scheme: FromName, Digits: []int{2, 2, 2}}, name: "1.100.2"},
		{n: Numbering{Scheme: FromName, Digits: []int{2, 2}}, name: "1.4.2"},
		{n: Numbering{Scheme: FromName, Digits: []int{4, 3, 3}}, name: "2100.0.0", want: 2_100_000_000},
		{n: Numbering{Scheme: FromName, Digits: []int{4, 3, 3}}, name: "2100.0.1"},
	} {
		if c.name == "" {
			c.name = "1.0"
		}
		got, err := c.n.Next(c.last, mustParse(t, c.name), now)
		if c.want == 0 {
			assert.Error(t, err, "%v gave %d", c, got)
			continue
		}
		require.NoError(t, err, "%v", c)
		assert.Equal(t, c.want, got, "%v", c)
	}
}

func TestNumberingsThatCannotBe(t *testing.T) {
	for _, n := range []Numbering{{Scheme: FromName}, {Digits: []int{2}}, {Scheme: FromName, Digits: []int{0}},
		{Scheme: FromName, Digits: []int{5, 6}}, {Span: 101}, {Span: -1}} {
		assert.NotEmpty(t, n.Complaint(), "%v", n)
	}
	for _, n := range []Numbering{{}, {Scheme: Date, Span: 100}, {Scheme: FromName, Digits: []int{4, 3, 3}}} {
		assert.Empty(t, n.Complaint(), "%v", n)
	}
}

func FuzzNames(f *testing.F) {
	for _, s := range []string{"1.4.0", "1.0.0-rc.1", "2147483647", "1-a.b.1"} {
		f.Add(s, s)
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		x, err := Parse(a)
		y, err2 := Parse(b)
		if err != nil || err2 != nil {
			return
		}
		if !slices.ContainsFunc([]string{x.Pre, y.Pre}, func(s string) bool { return strings.Contains(s, "..") }) {
			assert.Equal(t, -y.Compare(x), x.Compare(y))
		}
		for _, by := range Sizes {
			if next, err := x.Raise(by, ""); err == nil {
				assert.Positive(t, next.Compare(x), "%s after %s", next, x)
			}
		}
	})
}
