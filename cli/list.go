package cli

import (
	"fmt"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
)

// listed prints a list: in JSON, else as a table with a row for each, or what to say when there is none.
func listed[T any](c *cli.Command, list []T, err error, head []string, row func(s *screen, v T) []string,
	none string) error {
	if err != nil || c.Bool("json") {
		return orJSON(c, list, err)
	}
	s := newScreen(out(c))
	if len(list) == 0 {
		s.line("%s", none)
		return nil
	}
	rows := make([][]string, len(list))
	for i, v := range list {
		rows[i] = row(s, v)
	}
	s.table(head, rows)
	return nil
}

// limitFlag says how much of a list to show; the service gives so many at most at a time.
func limitFlag(unasked, most int) cli.Flag {
	return &cli.IntFlag{Name: "limit", Usage: fmt.Sprintf("at most so many, up to %d", most), Value: unasked,
		Validator: func(n int) error {
			if n < 1 || n > most {
				return fmt.Errorf("give a number from 1 to %d", most)
			}
			return nil
		}}
}

// pageFlags choose a part of a list that is ordered by name.
var pageFlags = []cli.Flag{
	&cli.StringFlag{Name: "after", Usage: "only what comes after this name"},
	&cli.StringFlag{Name: "contains", Usage: "only what has this in its name"},
	limitFlag(200, 500),
	jsonFlag,
}

func pageOf(c *cli.Command) api.Page {
	return api.Page{After: c.String("after"), Contains: c.String("contains"), Limit: c.Int("limit")}
}

// listedPage prints a part of a list, and how to see the next.
func listedPage[T any](c *cli.Command, list []T, err error, head []string, row func(s *screen, v T) []string,
	none string, name func(T) string) error {
	if c.String("contains") != "" || c.String("after") != "" {
		none = "Nothing more of that name."
	}
	err = listed(c, list, err, head, row, none)
	if err == nil && !c.Bool("json") && len(list) > 0 && len(list) == c.Int("limit") {
		s := newScreen(out(c))
		s.line("%s", s.in(faint, "There may be more: --after "+quoted(name(list[len(list)-1]))))
	}
	return err
}
