package demo

import (
	"context"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// addPeople adds some. Their passwords are kept nowhere; by the story's end nobody can sign in as one of them.
func (s *Story) addPeople(ctx context.Context) error {
	s.people = map[string]*client.Client{}
	for _, name := range []string{"wren", "ines", "maro", "tove"} {
		made, err := s.Client.AddPerson(ctx, api.NewPerson{Name: name})
		if client.IsStatus(err, 409) {
			made, err = s.Client.ResetPassword(ctx, name)
		}
		if err != nil {
			return err
		}
		issued, err := s.Client.SignIn(ctx, api.Credentials{Name: name, Password: made.Password}, "the story")
		if err != nil {
			return err
		}
		if err := s.Client.SetMail(ctx, name, name+"@tidewick.example"); err != nil {
			return err
		}
		s.people[name] = client.New(s.Client.Address, issued.Secret)
	}
	if _, err := s.Client.SetGroup(ctx, "mobile", api.GroupChange{Members: []string{"ines", "wren"}}); err != nil {
		return err
	}
	for _, g := range []api.Grant{{Project: Project, Group: "mobile", Role: access.Builder},
		{Project: Project, Person: "wren", Role: access.Keeper}, {Project: Project, Person: "maro", Role: access.Keeper},
		{Person: "tove", Role: access.Reader}} {
		if err := s.Client.Grant(ctx, g); err != nil {
			return err
		}
	}
	return nil
}

// says has somebody say yes where a run waits.
func (s *Story) says(ctx context.Context, name string, run record.RunNumber, comment string) error {
	d, err := s.await(ctx, run, state.Waiting)
	if err != nil {
		return err
	}
	for _, j := range d.Jobs {
		if j.State != state.Waiting {
			continue
		}
		s.Tell("  %s says yes: %s", name, comment)
		if _, err := s.people[name].Answer(ctx, Project, j.Gate.ID, api.GateAnswer{Yes: true, Comment: comment}); err != nil {
			return err
		}
	}
	return nil // one that did not come to its question is told of by what follows it
}
