package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/hook"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/source"
	"gentlepiston.example/piston/store"
)

// ErrSignature says that a push is not signed as it must be.
var ErrSignature = errors.New("the signature does not fit")

// ReceiveSigned records a push or proposal reported by the rules of Standard Webhooks (1.0.0): the signature must fit
// the body, the timestamp be within five minutes, and a delivery that came before starts nothing again. The answer
// waits a while for the runs.
func (s *Intake) ReceiveSigned(ctx context.Context, project string, header http.Header, body []byte,
	wait time.Duration) (api.PushAccepted, error) {
	p, err := s.Store.ProjectByName(ctx, project)
	if errors.Is(err, store.ErrNotFound) {
		return api.PushAccepted{}, ErrSignature // no word on which projects there are
	}
	if err != nil {
		return api.PushAccepted{}, err
	}
	key, err := s.vault.Open(p.HookKey)
	if err != nil {
		return api.PushAccepted{}, err
	}
	hook, err := standardwebhooks.NewWebhook(string(key))
	if err != nil {
		return api.PushAccepted{}, err
	}
	if err := hook.Verify(body, header); err != nil {
		return api.PushAccepted{}, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	delivery := header.Get(standardwebhooks.HeaderWebhookID)
	if delivery == "" || len(delivery) > 256 || strings.ContainsAny(delivery, " \t") {
		return api.PushAccepted{}, fmt.Errorf("the delivery's id is %w: give 1 to 256 characters without spaces",
			ground.ErrInvalid)
	}
	event, err := readEvent(body)
	if err != nil {
		return api.PushAccepted{}, err
	}
	return s.Receive(ctx, p, delivery, event, wait)
}

// Spooled is an event as it is kept until it is planned: one of the fields is set.
type Spooled struct {
	Push     *api.PushData     `json:"push,omitempty"`
	Proposal *api.ProposalData `json:"proposal,omitempty"`
	Ended    *work.EndedRun    `json:"ended,omitempty"`
	Due      *dueSchedule      `json:"due,omitempty"`
}

func readEvent(body []byte) (Spooled, error) {
	var kind struct {
		Type string `json:"type"`
	}
	if err := json.Unmarshal(body, &kind); err != nil {
		return Spooled{}, fmt.Errorf("the body is %w: %w", ground.ErrInvalid, err)
	}
	switch kind.Type {
	case "push":
		var e api.PushEvent
		if err := json.Unmarshal(body, &e); err != nil {
			return Spooled{}, fmt.Errorf("the body is %w: %w", ground.ErrInvalid, err)
		}
		return Spooled{Push: &e.Data}, checkPush(e.Data)
	case "proposal":
		var e api.ProposalEvent
		if err := json.Unmarshal(body, &e); err != nil {
			return Spooled{}, fmt.Errorf("the body is %w: %w", ground.ErrInvalid, err)
		}
		return Spooled{Proposal: &e.Data}, checkProposal(e.Data)
	}
	return Spooled{}, fmt.Errorf(`the body is %w: type must be "push" or "proposal"`, ground.ErrInvalid)
}

func checkPush(d api.PushData) error {
	if len(d.Updates) == 0 || len(d.Updates) > 1000 {
		return fmt.Errorf(`the body is %w: data.updates must hold 1 to 1000 refs`, ground.ErrInvalid)
	}
	for _, u := range d.Updates {
		if !objectID(u.Before) || !objectID(u.After) || !refForm(u.Ref) {
			return fmt.Errorf("ref update %.80q %.80q %.80q is %w: give refs/… and two object ids", u.Ref, u.Before, u.After,
				ground.ErrInvalid)
		}
	}
	return nil
}

func checkProposal(d api.ProposalData) error {
	switch {
	case d.Proposal == "" || len(d.Proposal) > 200 ||
		strings.ContainsFunc(d.Proposal, func(r rune) bool { return r < ' ' }):
		return fmt.Errorf("data.proposal is %w: give its name or number", ground.ErrInvalid)
	case !refForm("refs/heads/" + d.Target):
		return fmt.Errorf("data.target is %w: give the branch it wants into", ground.ErrInvalid)
	case !objectID(d.Commit):
		return fmt.Errorf("data.commit is %w: give its object id", ground.ErrInvalid)
	case d.Ref != "" && !refForm(d.Ref):
		return fmt.Errorf("data.ref is %w: give a full name such as refs/proposals/7", ground.ErrInvalid)
	}
	return nil
}

func objectID(s string) bool {
	return (len(s) == 40 || len(s) == 64) && strings.Trim(s, "0123456789abcdef") == ""
}

// refForm keeps out what is no name of a ref (git-check-ref-format(1)) and could be taken for something else.
func refForm(ref string) bool {
	return strings.HasPrefix(ref, "refs/") && len(ref) <= 1024 && !strings.Contains(ref, "..") &&
		!strings.HasSuffix(ref, "/") &&
		!strings.ContainsFunc(ref, func(r rune) bool { return r <= ' ' || strings.ContainsRune(`~^:?*[\`, r) || r == 0x7f })
}

// Receive records an event, then plans it at once; should that be cut short, upkeep plans it later.
func (s *Intake) Receive(ctx context.Context, p store.Project, delivery string, event Spooled,
	wait time.Duration) (api.PushAccepted, error) {
	body, err := json.Marshal(event)
	if err != nil {
		return api.PushAccepted{}, err
	}
	id, again, err := s.Store.AddPush(ctx, p.ID, delivery, body)
	if err != nil {
		return api.PushAccepted{}, err
	}
	if again {
		return api.PushAccepted{ID: id, Repeat: true, Runs: []api.PushRun{}}, nil
	}
	return s.cameOf(ctx, id, s.planSoon(p.ID, id), wait), nil
}

// updates plans the refs of one push.
func (pl *planner) updates(ctx context.Context, updates []plan.RefUpdate) (err error) {
	for _, u := range updates {
		event, ok := plan.Of(u)
		if !ok {
			continue
		}
		if event.Trigger == plan.OnProposal {
			// Who may push here is of the house.
			err = pl.merged(ctx, event)
		} else {
			err = pl.event(ctx, event, cause{})
		}
		if errors.Is(err, source.ErrNoObject) {
			// The push was undone before it could be read; there is nothing left to build.
			pl.Log.Warn("a pushed commit is not in the repository any more", "project", pl.project.Name, "ref", u.Ref, "commit",
				u.After)
			continue
		}
		if err == nil && event.Trigger == plan.OnPush && event.Branch == pl.view.main {
			err = pl.keepSchedules(ctx, event.Commit)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// proposal plans a change offered for review that a webhook has reported.
func (pl *planner) proposal(ctx context.Context, d api.ProposalData) error {
	if d.Ref != "" {
		if err := pl.view.repo.FetchRef(ctx, pl.project.Remote, d.Ref); err != nil {
			return err
		}
	}
	return pl.merged(ctx,
		plan.Event{Trigger: plan.OnProposal, Proposal: d.Proposal, Target: d.Target, Commit: d.Commit, Outside: !d.Inside})
}

// merged plans a proposal as the result of merging it into its target. One that conflicts makes runs that have failed.
func (pl *planner) merged(ctx context.Context, e plan.Event) error {
	head, err := pl.view.reader.Commit(e.Commit)
	if err != nil {
		return err
	}
	target, err := pl.view.reader.Commit("refs/heads/" + e.Target)
	if err != nil {
		return err
	}
	why := cause{}
	e.Commit, err = pl.view.repo.Merge(ctx, e.Proposal, target.ID, head.ID)
	if errors.Is(err, source.ErrConflict) {
		note := conflict(err, e)
		e.Commit, why.note = head.ID, &note
	} else if err != nil {
		return err
	} else if e.Commit != head.ID {
		// Should it be pushed some day, it has been built.
		pl.out.own = append(pl.out.own, e.Commit)
	}
	return pl.event(ctx, e, why)
}

// spoolAge is how long a recorded event may stay unplanned before upkeep looks after it.
const spoolAge = 5 * time.Second

// collectMissed takes in the pushes that hooks laid beside repositories of this machine while no service answered.
func (s *Intake) collectMissed(ctx context.Context) error {
	projects, err := s.Store.LocalProjects(ctx)
	if err != nil {
		return err
	}
	for _, p := range projects {
		if !source.IsLocal(p.Remote) {
			continue
		}
		repo, err := source.Open(ctx, p.Remote, "")
		if err != nil {
			continue // the project's trouble will say so
		}
		waiting, err := hook.List(repo.Dir)
		trouble := ""
		switch {
		case errors.Is(err, hook.ErrUnreadable):
			trouble = fmt.Sprintf("%v; piston project hook %s, as who owns the repository or as root, mends it", err, p.Name)
		case err != nil:
			return err
		}
		if trouble != p.Trouble {
			if err := s.Store.SetHookTrouble(ctx, p.ID, trouble); err != nil {
				return err
			}
		}
		for _, w := range waiting {
			if _, err := s.Receive(ctx, p, w.Delivery, Spooled{Push: &w.Event.Data}, 0); err != nil {
				return err
			}
			if err := os.Remove(w.File); err != nil {
				return err
			}
		}
	}
	return nil
}
