// Package cron tells when a schedule is due: five fields as in crontab (POSIX.1-2017, crontab, "Stdin") in a named
// time zone (IANA), right across clock changes.
//
// A schedule with fixed hours follows the clock on the wall: a time that the clocks skip happens when they have
// moved on, and a time they show twice happens once, the first time. A schedule whose hours are not fixed ("*" or
// "*/2") follows the time that passes.
package cron

import (
	"fmt"
	"strings"
	"time"
	_ "time/tzdata" // zones are the same on every machine

	robfig "github.com/robfig/cron/v3"
)

// Least is the shortest time between two times of a schedule.
const Least = 5 * time.Minute

// Schedule is a checked schedule.
type Schedule struct {
	spec    robfig.Schedule
	zone    *time.Location
	elapsed bool // follows the time that passes instead of the wall clock
}

var parser = robfig.NewParser(robfig.Minute | robfig.Hour | robfig.Dom | robfig.Month | robfig.Dow)

// Zone finds a time zone by its name, such as Europe/Lisbon; UTC when it is empty.
func Zone(name string) (*time.Location, error) {
	switch name {
	case "":
		return time.UTC, nil
	case "Local":
		return nil, fmt.Errorf("%q is no name of a time zone", name)
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("%q is no name of a time zone", name)
	}
	return zone, nil
}

// Parse checks a schedule: that it is one, that it is ever due, and that it is due no more often than Least.
func Parse(text string, zone *time.Location) (*Schedule, error) {
	fields := strings.Fields(text)
	if len(fields) != 5 {
		return nil, fmt.Errorf("%q has %d fields; minute, hour, day of month, month and day of week are five", text,
			len(fields))
	}
	if strings.Contains(text, "TZ=") {
		return nil, fmt.Errorf("%q names a zone; that goes into zone", text)
	}
	spec, err := parser.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%q is no schedule: %w", text, err)
	}
	s := &Schedule{spec: spec, zone: zone, elapsed: strings.HasPrefix(fields[1], "*")}
	at := s.Next(epoch)
	if at.IsZero() {
		return nil, fmt.Errorf("%q is never due", text)
	}
	// Fields repeat every day, so the pauses of two days tell all.
	for end := at.Add(48 * time.Hour); !at.IsZero() && at.Before(end); {
		next := s.Next(at)
		if !next.IsZero() && next.Sub(at) < Least {
			return nil, fmt.Errorf("%q is due every %s at times; at most every %s is allowed", text, next.Sub(at), Least)
		}
		at = next
	}
	return s, nil
}

// epoch is where checking begins: any time will do.
var epoch = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)

// Next is the first time after a time at which the schedule is due; zero when there is none within five years.
func (s *Schedule) Next(after time.Time) time.Time {
	if s.elapsed {
		return s.spec.Next(after.In(s.zone))
	}
	// The wall's clock as a time of a zone without changes, and back.
	wall := asWall(after.In(s.zone))
	for {
		wall = s.spec.Next(wall)
		if wall.IsZero() {
			return wall
		}
		if at := s.real(wall); at.After(after) {
			return at
		}
	}
}

func asWall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// real is the first moment at which the wall's clock shows a time, or has passed it.
func (s *Schedule) real(wall time.Time) time.Time {
	_, offset := wall.Add(-24 * time.Hour).In(s.zone).Zone()
	_, offsetAfter := wall.Add(24 * time.Hour).In(s.zone).Zone()
	first, second := wall.Add(-time.Duration(offset)*time.Second), wall.Add(-time.Duration(offsetAfter)*time.Second)
	if second.Before(first) {
		first, second = second, first
	}
	for _, at := range []time.Time{first, second} {
		if asWall(at.In(s.zone)).Equal(wall) {
			return at.In(s.zone)
		}
	}
	// The clocks skip this time. Look for the moment they do: between the two candidates.
	low, high := first, second
	for high.Sub(low) > time.Second {
		middle := low.Add(high.Sub(low) / 2)
		if asWall(middle.In(s.zone)).Before(wall) {
			low = middle
		} else {
			high = middle
		}
	}
	return high.Truncate(time.Minute).In(s.zone)
}
