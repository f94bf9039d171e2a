// Package logline is the form of a job's log: numbered, time-stamped lines of valid UTF-8, each belonging to a step.
//
// On the way and at rest a line is one line of text: step number, time in milliseconds since 1970 (UTC), text,
// parted by single spaces. Line numbers are not written; they follow from the number of the first line.
package logline

import (
	"bytes"
	"fmt"
	"strconv"
)

// Line is one line of a job's log.
type Line struct {
	// Number in the attempt's log, from 1.
	N int64 `json:"n"`
	// When it was read, in milliseconds since 1970 (UTC).
	At int64 `json:"t"`
	// Step it belongs to, from 0; -1 before the first and after the last.
	Step int `json:"s"`
	// The text, valid UTF-8 without line breaks; may hold ANSI colour sequences (ECMA-48 SGR).
	Text string `json:"x"`
}

// Append adds the written form of a line to b.
func Append(b []byte, l Line) []byte {
	b = strconv.AppendInt(b, int64(l.Step), 10)
	b = append(b, ' ')
	b = strconv.AppendInt(b, l.At, 10)
	b = append(b, ' ')
	b = append(b, l.Text...)
	return append(b, '\n')
}

// Encode gives the written form of lines.
func Encode(lines []Line) []byte {
	var b []byte
	for _, l := range lines {
		b = Append(b, l)
	}
	return b
}

// Decode reads the written form; first is the number of its first line.
func Decode(first int64, text []byte) ([]Line, error) {
	lines := make([]Line, 0, bytes.Count(text, []byte{'\n'}))
	for n := first; len(text) > 0; n++ {
		end := bytes.IndexByte(text, '\n')
		if end < 0 {
			return nil, fmt.Errorf("log line %d is cut off: no line break at the end", n)
		}
		l := Line{N: n}
		row := text[:end]
		text = text[end+1:]
		step, row, ok1 := bytes.Cut(row, []byte{' '})
		at, row, ok2 := bytes.Cut(row, []byte{' '})
		var err1, err2 error
		l.Step, err1 = strconv.Atoi(string(step))
		l.At, err2 = strconv.ParseInt(string(at), 10, 64)
		if !ok1 || !ok2 || err1 != nil || err2 != nil {
			return nil, fmt.Errorf("log line %d has no step and time in front: %.40q", n, row)
		}
		l.Text = string(row)
		lines = append(lines, l)
	}
	return lines, nil
}
