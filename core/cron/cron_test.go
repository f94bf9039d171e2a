package cron

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// times lists the next times of a schedule in its zone.
func times(t *testing.T, text, zone, from string, n int) (list []string) {
	t.Helper()
	z, err := Zone(zone)
	require.NoError(t, err)
	s, err := Parse(text, z)
	require.NoError(t, err)
	at, err := time.ParseInLocation("2006-01-02 15:04", from, z)
	require.NoError(t, err)
	for range n {
		at = s.Next(at)
		list = append(list, at.Format("2006-01-02 15:04 MST"))
	}
	return list
}

func TestPlainDays(t *testing.T) {
	assert.Equal(t, []string{"2026-11-24 03:30 UTC", "2026-11-25 03:30 UTC"}, times(t, "30 3 * * *", "", "2026-11-24 00:00", 2))
	assert.Equal(t, []string{"2026-11-27 22:00 WET", "2026-11-30 22:00 WET"}, times(t, "0 22 * * 1-5", "Europe/Lisbon", "2026-11-27 12:00", 2))
}

func TestATimeTheClocksSkipHappensOnce(t *testing.T) {
	// On 29 March 2026 the clocks of Berlin go from 02:00 to 03:00.
	assert.Equal(t, []string{"2026-03-28 02:30 CET", "2026-03-29 03:00 CEST", "2026-03-30 02:30 CEST"},
		times(t, "30 2 * * *", "Europe/Berlin", "2026-03-28 00:00", 3))
}

func TestATimeTheClocksShowTwiceHappensOnce(t *testing.T) {
	// On 25 October 2026 the clocks of Berlin go from 03:00 back to 02:00.
	assert.Equal(t, []string{"2026-10-24 02:30 CEST", "2026-10-25 02:30 CEST", "2026-10-26 02:30 CET"},
		times(t, "30 2 * * *", "Europe/Berlin", "2026-10-24 00:00", 3))
	// Half an hour of change only: Lord Howe.
	assert.Equal(t, []string{"2026-04-04 01:45 +11", "2026-04-05 01:45 +11", "2026-04-06 01:45 +1030"},
		times(t, "45 1 * * *", "Australia/Lord_Howe", "2026-04-04 00:00", 3))
}

func TestHoursThatAreNotFixedFollowTheTimeThatPasses(t *testing.T) {
	got := times(t, "0 * * * *", "Europe/Berlin", "2026-10-25 01:30", 4)
	assert.Equal(t, []string{"2026-10-25 02:00 CEST", "2026-10-25 02:00 CET", "2026-10-25 03:00 CET", "2026-10-25 04:00 CET"}, got)
}

func TestNextAlwaysMovesOn(t *testing.T) {
	for _, zone := range []string{"Europe/Berlin", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca", "Pacific/Apia"} {
		z, err := Zone(zone)
		require.NoError(t, err)
		for _, text := range []string{"30 2 * * *", "0 */3 * * *", "5,35 * * * *", "59 23 * * 0", "0 0 1 * *"} {
			s, err := Parse(text, z)
			require.NoError(t, err)
			for at := time.Date(2026, 1, 1, 0, 0, 0, 0, z); at.Year() == 2026; {
				next := s.Next(at)
				require.True(t, next.After(at), "%s in %s after %s gave %s", text, zone, at, next)
				at = next
			}
		}
	}
}

func TestSchedulesThatAreNone(t *testing.T) {
	for text, want := range map[string]string{
		"* * * * *":        "every 1m0s",
		"*/2 * * * *":      "every 2m0s",
		"0,3 4 * * *":      "every 3m0s",
		"* * * * * *":      "6 fields",
		"@every 1s":        "2 fields",
		"61 * * * *":       "no schedule",
		"0 0 31 2 *":       "never due",
		"TZ=UTC 0 0 1 1":   "names a zone",
		"":                 "0 fields",
		"a b c d e":        "no schedule",
		"0 0 * * 9":        "no schedule",
		"0 99999999 * * *": "no schedule",
	} {
		_, err := Parse(text, time.UTC)
		assert.ErrorContains(t, err, want, text)
	}
	for _, zone := range []string{"Local", "Mars/Olympus", "../etc/passwd", "CEST7"} {
		_, err := Zone(zone)
		assert.ErrorContains(t, err, "no name of a time zone", zone)
	}
}
