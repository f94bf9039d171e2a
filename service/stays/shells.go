package stays

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/fact"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/talk"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/secrets"
	"gentlepiston.example/piston/store"
)

const (
	// mostShells bounds how many are open in one workspace at a time.
	mostShells = 8
	// mostCommand is the longest command, in bytes.
	mostCommand = 16 << 10
	// answersWithin is how long a runner may take to open one.
	answersWithin = 30 * time.Second
)

// Join has whoever has asked for a shell use it by a line, until either side ends it.
func (s *Stays) Join(ctx context.Context, project string, id record.ShellID, line Line) error {
	h, err := s.Store.ShellByID(ctx, id)
	if err != nil {
		return err
	}
	from, cancel, err := s.Stream.Listen(toPerson(id))
	if err != nil {
		return err
	}
	defer cancel()
	woken, deaf, err := s.Stream.OnWake(ground.StaysTopic)
	if err != nil {
		return err
	}
	defer deaf()
	b := &bridge{line: line, from: from, patience: answersWithin, woken: woken, overWhy: s.overWhy(ctx, id),
		pass: func(m []byte) error { return s.Stream.Pass(toRunner(id), m) }}
	if b.word = func() string { return "waiting for the machine" }; len(h.Secrets) > 0 {
		b.patience = api.MaxStayMinutes * time.Minute
		b.word = func() string { return s.waitsFor(ctx, id, project) }
	}
	during, over := s.during(ctx)
	defer over()
	return s.ended(ctx, id, b.run(during))
}

// during ends with the service, too, and with what it returns.
func (s *Stays) during(ctx context.Context) (context.Context, func()) {
	ctx, cancel := context.WithCancel(ctx)
	stop := context.AfterFunc(s.Life, cancel)
	return ctx, func() { stop(); cancel() }
}

// Leave notes that whoever has asked for a shell does not come.
func (s *Stays) Leave(ctx context.Context, id record.ShellID) error {
	return s.ended(ctx, id, talk.Ending{Why: "they did not come"})
}

// overWhy tells why a shell is over although both its ends are there: its workspace stays no longer.
func (s *Stays) overWhy(ctx context.Context, id record.ShellID) func() string {
	return func() string {
		h, err := s.Store.ShellByID(ctx, id)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return "its run is no longer kept"
		case err != nil || h.Ended == nil: // what cannot be asked just now is asked again
			return ""
		case h.EndedWhy == "":
			return "it has ended"
		}
		return h.EndedWhy
	}
}

// ended notes how a shell ended, if the other side has not done so.
func (s *Stays) ended(ctx context.Context, id record.ShellID, e talk.Ending) error {
	err := s.Store.EndShell(context.WithoutCancel(ctx), id, e.Why, e.Code)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	s.Stream.Wake(ground.StaysTopic)
	return err
}

func toPerson(id record.ShellID) string { return fmt.Sprintf("shell.%d.person", id) }
func toRunner(id record.ShellID) string { return fmt.Sprintf("shell.%d.runner", id) }

// Enter asks for a way into a workspace that stays. Whoever does goes on to Join.
func (s *Stays) Enter(ctx context.Context, project string, number record.RunNumber, job string, in api.NewShell) (
	record.ShellID, error) {
	one, err := s.find(ctx, project, number, job)
	if err != nil {
		return 0, err
	}
	if one.Until == nil {
		return 0, fmt.Errorf("job %s is still at work: one can look around once it has ended; what is asked is %w yet", job,
			ground.ErrInvalid)
	}
	w := ground.WhoAsks(ctx)
	h := store.Shell{AttemptID: one.AttemptID, Kind: string(in.Kind), Who: w.Name, Terminal: in.Terminal,
		Command: in.Command, Path: in.Path, Secrets: ground.NonNil(in.Secrets)}
	size := talk.Size{Cols: in.Cols, Rows: in.Rows}.Within()
	h.Cols, h.Rows = size.Cols, size.Rows
	if err := s.check(ctx, one, &h); err != nil {
		return 0, err
	}
	if len(h.Secrets) > 0 {
		role, err := s.RoleIn(ctx, w, project)
		if err != nil {
			return 0, err
		}
		if role.Covers(access.Keeper) {
			h.GrantedBy = w.Name
		}
	}
	var id record.ShellID
	told := fact.Fact{Kind: fact.ShellOpen, Project: project, Subject: subject(job, number),
		After: map[string]any{"kind": h.Kind, "command": h.Command, "path": h.Path, "secrets": h.Secrets}}
	err = s.Acting(ctx, told, func(q ground.Q) (err error) {
		if err := q.LockStay(ctx, one.AttemptID); err != nil {
			return ground.Known(err, "the workspace of job %s, which stays no longer", job)
		}
		now, err := q.StayOf(ctx, one.AttemptID)
		if err != nil {
			return err
		}
		if now.Open >= mostShells {
			return fmt.Errorf("in the workspace of job %s %d shells are open, and another is %w before one has ended", job,
				now.Open, ground.ErrInvalid)
		}
		id, err = q.AddShell(ctx, h)
		return err
	})
	return id, err
}

// check refuses what no runner could do.
func (s *Stays) check(ctx context.Context, one store.Stay, h *store.Shell) error {
	switch {
	case h.Kind != string(api.ShellShell) && h.Kind != string(api.ShellFiles):
		return fmt.Errorf("%q is %w: shell or files", h.Kind, ground.ErrInvalid)
	case len(h.Command) > mostCommand || strings.ContainsRune(h.Command, 0):
		return fmt.Errorf("a command has at most %d bytes, and no NUL: this one is %w", mostCommand, ground.ErrInvalid)
	case h.Kind == string(api.ShellFiles):
		h.Terminal, h.Command = false, ""
		if h.Path = path.Clean(h.Path); len(h.Path) > 4096 || strings.ContainsRune(h.Path, 0) ||
			path.IsAbs(h.Path) || h.Path == ".." || strings.HasPrefix(h.Path, "../") {
			return fmt.Errorf("what is taken out lies below the workspace: %.200q is %w", h.Path, ground.ErrInvalid)
		}
	default:
		h.Path = ""
	}
	if len(h.Secrets) == 0 {
		return nil
	}
	job, err := s.Store.JobByID(ctx, one.JobID)
	if err != nil {
		return err
	}
	asked := secrets.Asked(job)
	for _, name := range h.Secrets {
		if !asked[name] {
			return fmt.Errorf("no step of job %s asks for the secret %.100q: it is %w here", one.Job, name, ground.ErrInvalid)
		}
	}
	slices.Sort(h.Secrets)
	h.Secrets = slices.Compact(h.Secrets)
	return nil
}

// waitsFor says what somebody waits for who has asked for secrets.
func (s *Stays) waitsFor(ctx context.Context, id record.ShellID, project string) string {
	h, err := s.Store.ShellByID(ctx, id)
	if err != nil || h.GrantedBy != "" {
		return "waiting for the machine"
	}
	return fmt.Sprintf("waiting for a keeper of %s to grant it the secrets %s: piston shells %s --grant %d", project,
		strings.Join(h.Secrets, ", "), project, id)
}

// Grant lets a shell have the secrets it asks for.
func (s *Stays) Grant(ctx context.Context, project string, id record.ShellID) error {
	_, h, one, err := s.shell(ctx, project, id)
	if err != nil {
		return err
	}
	told := fact.Fact{Kind: fact.ShellGrant, Project: project, Subject: subject(one.Job, one.Run),
		After: map[string]any{"shell": id, "who": h.Who, "secrets": h.Secrets}}
	err = s.Acting(ctx, told, func(q ground.Q) error { return q.GrantShell(ctx, id, ground.WhoAsks(ctx).Name) })
	return ground.Known(err, "a shell %d that waits for secrets", id)
}

// shell finds one of a project.
func (s *Stays) shell(ctx context.Context, project string, id record.ShellID) (p store.Project, h store.Shell,
	one store.Stay, err error) {
	if p, err = s.FindProject(ctx, project); err != nil {
		return p, h, one, err
	}
	if h, err = s.Store.ShellByID(ctx, id); err == nil {
		if one, err = s.Store.StayOf(ctx, h.AttemptID); err == nil && one.ProjectID != p.ID {
			err = store.ErrNotFound
		}
	}
	return p, h, one, ground.Known(err, "shell %d of %s", id, project)
}

// Shells lists a project's, the latest first.
func (s *Stays) Shells(ctx context.Context, project string, f api.ShellFilter) ([]api.Shell, error) {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Shells(ctx, store.ShellFilter{Project: p.ID, Run: f.Run, Before: f.Before, Limit: f.Limit})
	out := []api.Shell{}
	for _, h := range list {
		out = append(out, api.Shell{ID: h.ID, Run: h.Run, Job: h.Job, Kind: api.ShellKind(h.Kind), Who: h.Who,
			Command: h.Command, Path: h.Path, Secrets: ground.NonNil(h.Secrets), Granted: h.GrantedBy, Asked: h.Asked,
			Opened: h.Opened, Ended: h.Ended, Why: h.EndedWhy, Code: h.ExitCode, Printed: h.Printed})
	}
	return out, err
}

// news is what a runner is told of a workspace that stays.
func (s *Stays) news(ctx context.Context, attempt record.AttemptID, in api.StayBeat, to age.Recipient) (api.StayNews,
	error) {
	news := api.StayNews{Shells: []api.ShellWanted{}}
	one, err := s.Store.StayOf(ctx, attempt)
	if err != nil {
		return news, err
	}
	news.LeftMs = max(0, time.Until(*one.Until).Milliseconds())
	list, err := s.Store.ShellsToOpen(ctx, attempt)
	if err != nil {
		return news, err
	}
	for _, h := range list {
		if slices.Contains(in.Open, h.ID) {
			continue
		}
		wanted := api.ShellWanted{ID: h.ID, Kind: api.ShellKind(h.Kind), Terminal: h.Terminal, Cols: h.Cols, Rows: h.Rows,
			Command: h.Command, Path: h.Path, Wants: h.Secrets}
		if len(h.Secrets) > 0 {
			if wanted.Secrets, wanted.SecretKinds, err = s.given(ctx, one, h, to); err != nil {
				return news, err
			}
		}
		news.Shells = append(news.Shells, wanted)
	}
	return news, nil
}

// given are the secrets that a shell was granted, sealed to its runner.
func (s *Stays) given(ctx context.Context, one store.Stay, h store.Shell, to age.Recipient) ([]byte, map[string]string,
	error) {
	run, err := s.Store.RunByID(ctx, one.RunID)
	if err != nil {
		return nil, nil, err
	}
	job, err := s.Store.JobByID(ctx, one.JobID)
	if err != nil {
		return nil, nil, err
	}
	some := map[string]bool{}
	for _, name := range h.Secrets {
		some[name] = true
	}
	given, err := s.secrets.SomeFor(ctx, run, job, to, some)
	return given.Sealed, given.Kinds, err
}

// Serve meets the runner that opens a shell, by a line, until either side ends it.
func (s *Stays) Serve(ctx context.Context, attempt record.AttemptID, id record.ShellID, line Line) error {
	h, err := s.Store.ShellByID(ctx, id)
	if err != nil {
		return ground.Gone(err, attempt)
	}
	from, cancel, err := s.Stream.Listen(toRunner(id))
	if err != nil {
		return err
	}
	defer cancel()
	if err := s.Store.OpenShell(ctx, attempt, id); err != nil {
		return ground.Gone(err, attempt)
	}
	one, err := s.Store.StayOf(ctx, attempt)
	if err != nil {
		return err
	}
	woken, deaf, err := s.Stream.OnWake(ground.StaysTopic)
	if err != nil {
		return err
	}
	defer deaf()
	r := newRecorder(s, h, one)
	b := &bridge{line: line, from: from, patience: answersWithin, seen: r.seen, woken: woken, overWhy: s.overWhy(ctx, id),
		pass: func(m []byte) error { return s.Stream.Pass(toPerson(id), m) }}
	during, over := s.during(ctx)
	defer over()
	ended := b.run(during)
	return errors.Join(r.close(context.WithoutCancel(ctx)), s.ended(ctx, id, ended))
}
