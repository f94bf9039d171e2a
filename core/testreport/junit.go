// Package testreport reads test results from JUnit XML, in the shape most test runners write: testsuites or
// testsuite at the top, testcase elements with failure, error or skipped inside.
package testreport

import (
	"crypto/sha256"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strconv"
	"strings"
)

// Result is how a case ended.
type Result string

// The results.
const (
	Passed  Result = "passed"
	Failed  Result = "failed"
	Skipped Result = "skipped"
)

// Case is one test case.
type Case struct {
	Suite   string  `json:"suite"`
	Name    string  `json:"name"`
	Result  Result  `json:"result" enum:"passed,failed,skipped"`
	Seconds float64 `json:"seconds"`
	// What the failed case said, one line.
	Message string `json:"message,omitempty"`
	// Its longer text, cut at 8 KiB.
	Detail string `json:"detail,omitempty"`
	// Where a failed case failed, as its report or its text says.
	File string `json:"file,omitempty"`
	// From 1; 0 when it is not said.
	Line int `json:"line,omitempty"`
}

// MaxCases and MaxDetail bound what reports may bring; of MaxDetails cases that failed the longer text is kept.
const (
	MaxCases   = 200_000
	MaxDetail  = 8 << 10
	MaxDetails = 200
	maxName    = 900 // bytes of a suite or a name
	maxDepth   = 100 // suites within each other
	maxSeconds = 1e7 // a case may have taken; what says more lies
)

// ErrNotJUnit says that a file is no JUnit XML.
var ErrNotJUnit = errors.New("not JUnit XML")

// Parse reads one file, of at most so many cases. It never expands entities of its own and reads no more than r gives.
// With an error it returns the cases before that: a report may be cut, or be too long.
func Parse(r io.Reader, most int) (cases []Case, err error) {
	text, err := legible(r)
	if err != nil {
		return nil, err
	}
	dec := xml.NewDecoder(text)
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is UTF-8 by now
	details := 0
	var suites []string
	known := false
	for {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			line, col := dec.InputPos()
			return cases, fmt.Errorf("%w: line %d, column %d: %w", ErrNotJUnit, line, col, err)
		}
		switch e := token.(type) {
		case xml.StartElement:
			switch e.Name.Local {
			case "testsuites":
				known = true
			case "testsuite":
				known = true
				if len(suites) == maxDepth {
					return cases, fmt.Errorf("more than %d suites within each other", maxDepth)
				}
				suites = append(suites, attr(e, "name"))
			case "testcase":
				c, err := readCase(dec, e, suites)
				if err != nil {
					return cases, fmt.Errorf("%w: %w", ErrNotJUnit, err)
				}
				if len(cases) >= most {
					return cases, fmt.Errorf("more than %d test cases", MaxCases)
				}
				if c.Detail != "" {
					if details++; details > MaxDetails {
						c.Detail = ""
					}
				}
				cases = append(cases, c)
			default:
				if !known {
					return nil, fmt.Errorf("%w: the top element is <%s>, not <testsuites> or <testsuite>", ErrNotJUnit, e.Name.Local)
				}
				if err := dec.Skip(); err != nil {
					return cases, fmt.Errorf("%w: %w", ErrNotJUnit, err)
				}
			}
		case xml.EndElement:
			if e.Name.Local == "testsuite" && len(suites) > 0 {
				suites = suites[:len(suites)-1]
			}
		}
	}
	if !known {
		return nil, fmt.Errorf("%w: the file is empty", ErrNotJUnit)
	}
	return cases, nil
}

func readCase(dec *xml.Decoder, start xml.StartElement, suites []string) (Case, error) {
	type outcome struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	var body struct {
		Failure []outcome `xml:"failure"`
		Error   []outcome `xml:"error"`
		Skipped []outcome `xml:"skipped"`
	}
	if err := dec.DecodeElement(&body, &start); err != nil {
		return Case{}, err
	}
	c := Case{Name: attr(start, "name"), Suite: attr(start, "classname"), Result: Passed}
	if c.Suite == "" && len(suites) > 0 {
		c.Suite = suites[len(suites)-1]
	}
	c.Suite, c.Name = cutAt(c.Suite, maxName), cutAt(c.Name, maxName)
	seconds, err := strconv.ParseFloat(strings.ReplaceAll(attr(start, "time"), ",", ""), 64)
	if err == nil && seconds >= 0 && seconds <= maxSeconds { // which a NaN is not
		c.Seconds = seconds
	}
	if bad := append(body.Failure, body.Error...); len(bad) > 0 {
		c.Result = Failed
		c.Detail = cut(strings.TrimSpace(bad[0].Text))
		c.Message = firstLine(bad[0].Message)
		if c.Message == "" {
			c.Message = firstLine(c.Detail)
		}
		c.File, c.Line = placeOf(start, c.Message+"\n"+c.Detail)
	} else if len(body.Skipped) > 0 {
		c.Result = Skipped
		c.Message = firstLine(body.Skipped[0].Message)
	}
	return c, nil
}

// placeForm recognises a file with a line, as compilers and test runners write them.
var placeForm = regexp.MustCompile(`(?:^|[\s("'\[])((?:[A-Za-z]:)?[\w./\\+@-]*[\w+@-]\.[A-Za-z][A-Za-z0-9]{0,7})[:(]` +
	`(\d{1,7})\b`)

// placeOf finds where a case failed: the report's own word, which many writers add to the format, else the first place
// that its text names.
func placeOf(start xml.StartElement, text string) (file string, line int) {
	file = firstLine(attr(start, "file"))
	if n, err := strconv.Atoi(attr(start, "line")); err == nil && n > 0 {
		line = n
	}
	if m := placeForm.FindStringSubmatch(text); m != nil &&
		(file == "" || line == 0 && path.Base(file) == path.Base(m[1])) {
		file = m[1]
		line, _ = strconv.Atoi(m[2]) // digits only
	}
	return file, line
}

func attr(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return cut(strings.TrimSpace(line))
}

func cut(s string) string { return cutAt(s, MaxDetail) }

// cutAt shortens a text to some bytes, between characters, and says so.
func cutAt(s string, most int) string {
	if len(s) > most {
		return strings.ToValidUTF8(s[:most], "") + "…"
	}
	return s
}

// PrintOf is by what a case is known again over runs: its suite and name, and nothing else.
func PrintOf(suite, name string) []byte {
	sum := sha256.Sum256([]byte(suite + "\x00" + name))
	return sum[:16]
}
