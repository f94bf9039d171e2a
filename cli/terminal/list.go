package terminal

import (
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
)

// Listed prints a list: in JSON, else as a table with a row for each, or what to say when there is none.
func Listed[T any](c *cli.Command, list []T, err error, head []string, row func(s *Screen, v T) []string,
	none string) error {
	if err != nil || c.Bool("json") {
		return OrJSON(c, list, err)
	}
	s := NewScreen(Out(c))
	if len(list) == 0 {
		s.Line("%s", none)
		return nil
	}
	rows := make([][]string, len(list))
	for i, v := range list {
		rows[i] = row(s, v)
	}
	s.Table(head, rows)
	return nil
}

// ListedBefore prints a page of a list that is ordered by ids, the newest first: in JSON as the service told it, else
// as a table, and how to see the page before.
func ListedBefore[T any, ID ~int64](c *cli.Command, page any, list []T, next ID, err error, head []string,
	row func(s *Screen, v T) []string, none, more string) error {
	if err != nil || c.Bool("json") {
		return OrJSON(c, page, err)
	}
	err = Listed(c, list, nil, head, row, none)
	if err == nil && next != 0 {
		s := NewScreen(Out(c))
		s.Line("%s", s.In(Faint, fmt.Sprintf("More: %s --before %d", more, next)))
	}
	return err
}

// LimitFlag says how much of a list to show; the service gives so many at most at a time.
func LimitFlag(unasked, most int) cli.Flag {
	return &cli.IntFlag{Name: "limit", Usage: fmt.Sprintf("at most so many, up to %d", most), Value: unasked,
		Validator: func(n int) error {
			if n < 1 || n > most {
				return fmt.Errorf("give a number from 1 to %d", most)
			}
			return nil
		}}
}

// PageFlags choose a part of a list that is ordered by name.
var PageFlags = []cli.Flag{
	&cli.StringFlag{Name: "after", Usage: "only what comes after this name"},
	&cli.StringFlag{Name: "contains", Usage: "only what has this in its name"},
	LimitFlag(200, 500),
	JSONFlag,
}

func PageOf(c *cli.Command) api.Page {
	return api.Page{After: c.String("after"), Contains: c.String("contains"), Limit: c.Int("limit")}
}

// ListedPage prints a part of a list, and how to see the next.
func ListedPage[T any](c *cli.Command, list []T, err error, head []string, row func(s *Screen, v T) []string,
	none string, name func(T) string) error {
	if c.String("contains") != "" || c.String("after") != "" {
		none = "Nothing more of that name."
	}
	err = Listed(c, list, err, head, row, none)
	if err == nil && !c.Bool("json") && len(list) > 0 && len(list) == c.Int("limit") {
		s := NewScreen(Out(c))
		s.Line("%s", s.In(Faint, "There may be more: --after "+Quoted(name(list[len(list)-1]))))
	}
	return err
}

// OrJSON prints an answer for programs unless there was an error.
func OrJSON(c *cli.Command, v any, err error) error {
	if err != nil {
		return err
	}
	return PrintJSON(Out(c), v)
}
