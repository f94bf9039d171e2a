package own

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/store"
)

// log is what a job of the service says, as any job's log is kept.
type log struct {
	next  int64          // number of the next line
	lines []logline.Line // said by this server in this look
}

// openLog finds where a log goes on.
func (s *Own) openLog(ctx context.Context, a store.Attempt) (log, error) {
	last, err := s.Stream.LastLine(ctx, logs.LogOf(a))
	return log{next: last + 1}, err
}

// say adds to the log of a step. A line that was said by a server that was killed may be said again.
func (j *job) say(ctx context.Context, step int, format string, args ...any) error {
	var lines []logline.Line
	for line := range strings.Lines(strings.ToValidUTF8(fmt.Sprintf(format, args...), "\ufffd")) {
		lines = append(lines, logline.Line{N: j.log.next + int64(len(lines)), At: time.Now().UnixMilli(), Step: step,
			Text: strings.TrimRight(line, "\r\n")})
	}
	if err := j.logs.AppendLog(ctx, j.attempt.ID, j.log.next, logline.Encode(lines)); err != nil {
		return err
	}
	j.log.next += int64(len(lines))
	j.log.lines = append(j.log.lines, lines...)
	return nil
}

// last are the lines that a step said.
func (l log) last(step int) (list []logline.Line) {
	for _, line := range l.lines {
		if line.Step == step && len(list) < maxExcerpt {
			list = append(list, line)
		}
	}
	return list
}

// maxExcerpt is how many lines of a failed step are shown at once.
const maxExcerpt = 20
