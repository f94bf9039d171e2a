package intake

import (
	"context"
	"errors"
	"slices"
	"strings"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/check"
	"gentlepiston.example/piston/core/definition"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/source"
)

// Pipelines lists a project's pipelines as they stand at a branch, tag or commit; "" for the main branch.
func (s *Intake) Pipelines(ctx context.Context, project, ref string) (api.Pipelines, error) {
	out := api.Pipelines{Pipelines: []api.PipelineNote{}, Findings: []definition.Finding{}}
	err := s.withTree(ctx, project, ref, func(snap *snapshot, known *check.Service) error {
		out.Ref, out.Commit = ref, snap.commit.ID
		if ref == "" {
			out.Ref = snap.view.main
		}
		result := snap.check(known, "")
		for _, f := range result.Files {
			text, err := snap.read(f.Path, definition.MaxFileSize)
			if err != nil {
				return err
			}
			out.Pipelines = append(out.Pipelines, noteOf(f, text))
		}
		out.Findings = append(out.Findings, result.Findings...)
		return nil
	})
	return out, err
}

// Check looks for mistakes in a pipeline file that is not pushed yet.
func (s *Intake) Check(ctx context.Context, project string, in api.CheckRequest) (api.PipelineNote, error) {
	var note api.PipelineNote
	err := s.withTree(ctx, project, in.Ref, func(snap *snapshot, known *check.Service) error {
		file := definition.Folder + "/" + in.Name + ".toml"
		note = noteOf(check.One(check.NewTree(snap.tree), known, file, []byte(in.Text)), nil)
		return nil
	})
	return note, err
}

// Knowledge is what a check on a person's machine may know of the service.
func (s *Intake) Knowledge(ctx context.Context, project string) (api.Knowledge, error) {
	out := api.Knowledge{Secrets: []api.SecretRule{}}
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return out, err
	}
	about, _, err := s.knowledge(ctx, s.Store.Q, p)
	if err != nil {
		return out, err
	}
	for _, v := range about.Secrets {
		out.Secrets = append(out.Secrets, api.SecretRule{Name: v.Name, Scope: v.Scope, Expires: v.Expires,
			Profile: v.Profile})
	}
	out.Given = []api.LedgerLine{}
	for _, g := range about.Given {
		out.Given = append(out.Given, api.LedgerLine{App: g.App, Platform: g.Platform, Name: g.Name,
			Last: version.BuildNumber(g.Build)})
	}
	out.LastBuild, out.Outlets = about.LastBuild, about.Outlets
	out.Runners, err = s.work.Runners(ctx, api.Page{})
	return out, err
}

// withTree opens a project's repository at a commit.
func (s *Intake) withTree(ctx context.Context, project, ref string, do func(*snapshot, *check.Service) error) error {
	p, err := s.FindProject(ctx, project)
	if err != nil {
		return err
	}
	v, err := s.lookForPerson(ctx, p)
	if err != nil {
		return err
	}
	defer v.close()
	event, err := v.resolve(ref)
	if errors.Is(err, source.ErrNoObject) {
		return v.notThere(ref, project)
	}
	if err != nil {
		return err
	}
	snap, err := v.at(ctx, event.Commit)
	if err != nil {
		return err
	}
	about, _, err := s.knowledge(ctx, s.Store.Q, p)
	if err != nil {
		return err
	}
	return do(snap, about)
}

func noteOf(f check.File, text []byte) api.PipelineNote {
	n := api.PipelineNote{Name: f.Name, Path: f.Path, Text: string(text), Triggers: []string{},
		Inputs: []*definition.Input{}, Jobs: []api.GraphJob{},
		Findings: append([]definition.Finding{}, f.Findings...)}
	p := f.Pipeline
	if p == nil {
		return n
	}
	n.About, n.Triggers = p.About, p.Trigger.Sentences()
	for _, input := range p.Input {
		n.Inputs = append(n.Inputs, input)
	}
	slices.SortFunc(n.Inputs, func(a, b *definition.Input) int { return strings.Compare(a.Name, b.Name) })
	for _, name := range p.JobNames() {
		j := p.Job[name]
		n.Jobs = append(n.Jobs,
			api.GraphJob{Name: name, After: ground.NonNil(j.After), Of: j.Of, Steps: len(j.Step), When: j.When, Line: p.Line(j)})
	}
	return n
}
