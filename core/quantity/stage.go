package quantity

import (
	"fmt"
	"regexp"
	"strconv"
	"time"
)

// Stage raises a share by itself, some time after it was raised before. Who halts it, or raises it by hand, comes
// before that.
type Stage struct {
	Share int           `json:"share"` // of a hundred people
	After time.Duration `json:"after"`
}

// MaxStages is the most stages of a publication.
const MaxStages = 20

// maxStage is the longest time between two stages.
const maxStage = 30 * 24 * time.Hour

var stageForm = regexp.MustCompile(`^(\d{1,3}) ?% after (\S+)$`)

// ParseStages reads stages as they are written: "50% after 1d". Each is above the one before it.
func ParseStages(share int, texts []string) (list []Stage, err error) {
	if len(texts) > MaxStages {
		return nil, fmt.Errorf("there are more than %d steps", MaxStages)
	}
	last := share
	if last == 0 {
		last = 100
	}
	for _, text := range texts {
		m := stageForm.FindStringSubmatch(text)
		if m == nil {
			return nil, fmt.Errorf(`%.60q is no step of a share: write "50%% after 1d"`, text)
		}
		to, _ := strconv.Atoi(m[1]) // three digits
		after, err := ParseSpan(m[2])
		switch {
		case err != nil || after < time.Minute || after > maxStage:
			return nil, fmt.Errorf("%.60q: a step comes between a minute and 30 days after the one before it", text)
		case to <= last || to > 100:
			return nil, fmt.Errorf("%.60q: a step goes to more people than the one before it, and to 100%% at most", text)
		}
		list, last = append(list, Stage{to, after}), to
	}
	return list, nil
}

// StagesAbove are the stages that go to more people than have it.
func StagesAbove(list []Stage, share int) []Stage {
	for i, s := range list {
		if s.Share > share {
			return list[i:]
		}
	}
	return []Stage{}
}
