package ground

import (
	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/store"
)

// NonNone is what is written as an empty table rather than as none.
func NonNone(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

// NonNil is what is written as an empty list rather than as none.
func NonNil(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// ArtifactOf is an artifact as it is told.
func ArtifactOf(f store.Artifact) api.Artifact {
	return api.Artifact{ID: f.ID, Job: f.Job, Name: f.Name, Path: f.Path, Size: f.Size, SHA256: f.SHA256,
		Created: f.Created}
}

// RunOf is a run as it is told.
func RunOf(r store.Run) api.Run {
	return api.Run{Project: r.Project, Number: r.Number, Pipeline: r.Pipeline, Trigger: r.Trigger, Branch: r.Branch,
		Tag:    r.Tag,
		Commit: r.Commit, Subject: r.Subject, Author: r.Author, StartedBy: r.StartedBy, BuildNumber: r.BuildNumber,
		VersionName: r.VersionName, State: r.State, Reason: r.Reason, FailedAt: r.FailedAt,
		Queued: r.Queued, Started: r.Started, Finished: r.Finished, Target: r.Target, Proposal: r.Proposal,
		Outside:  r.Outside,
		Schedule: r.Schedule, CausedBy: r.CausedBy, Inputs: r.Inputs.V, Group: r.Group}
}
