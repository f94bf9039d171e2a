package cli

import (
	"context"
	"fmt"
	"sort"
	"strings"

	"github.com/urfave/cli/v3"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
)

func runnersCommand() *cli.Command {
	return &cli.Command{
		Name: "runners", Usage: "list the machines that execute jobs", Description: example("piston runners", "piston runners --contains mac"), Flags: pageFlags,
		Action: asking(func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			list, err := cl.Runners(ctx, pageOf(c))
			return listedPage(c, list, err, []string{"RUNNER", "", "BUSY", "LABELS", "SEEN", "TOOLS"}, func(s *screen, r api.Runner) []string {
				there := s.in(green, "✓ there")
				if !r.Online {
					there = s.in(faint, "− away")
				}
				return []string{r.Name, there, fmt.Sprintf("%d of %d", r.Busy, r.Slots), strings.Join(r.Labels, " "), ago(r.Seen), s.in(faint, short(toolList(r.Tools), 160))}
			}, "No runner has ever asked for work; start one by piston runner.", func(r api.Runner) string { return r.Name })
		}),
	}
}

// toolList writes tools with their versions, in order.
func toolList(tools map[string]string) string {
	list := make([]string, 0, len(tools))
	for name, version := range tools {
		list = append(list, name+" "+version)
	}
	sort.Strings(list)
	return strings.Join(list, ", ")
}
