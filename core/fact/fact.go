// Package fact names what can happen that somebody may want to hear of, and who that is. A use case tells a fact once,
// in the transaction in which it happens; the audit trail, what consoles hear and who is woken follow from its kind.
package fact

import (
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/state"
)

// Kind is what happened, such as secret.set.
type Kind string

// Follows says what follows from a fact.
type Follows struct {
	Audit   bool // it is somebody's act, and is kept in the audit trail
	Console bool // whoever watches the run is told
	Work    bool // there may be jobs to claim: runners that wait are looked after
	Runners bool // runners at work should learn of it with their next beat, now
	Logs    bool // a log may be ready to move
	Next    bool // pipelines wait for it
	Stays   bool // who has, or uses, a workspace that stays should learn of it now
}

// The kinds.
const (
	BisectionBegin    Kind = "bisection.begin"
	BisectionStop     Kind = "bisection.stop"
	BudgetDrop        Kind = "budget.drop"
	BudgetSet         Kind = "budget.set"
	BudgetSpent       Kind = "budget.spent"
	BudgetWarn        Kind = "budget.warn"
	CacheDrop         Kind = "cache.drop"
	CaseAside         Kind = "case.aside"
	CaseBack          Kind = "case.back" // it is set aside no longer
	FeedSet           Kind = "feed.set"  // where its badge and feed are
	GateAnswer        Kind = "gate.answer"
	GroupDrop         Kind = "group.drop"
	GroupSet          Kind = "group.set"
	HookKeyRead       Kind = "hook-key.read"
	IdentityAllow     Kind = "identity.allow"
	IdentityChange    Kind = "identity.change"
	IdentityDrop      Kind = "identity.drop"
	IdentityExport    Kind = "identity.export"
	IdentityProfile   Kind = "identity.profile"
	IdentitySet       Kind = "identity.set"
	JobEnded          Kind = "job.ended"
	KeptRules         Kind = "kept.rules"
	LedgerFloor       Kind = "ledger.floor"
	MasterRotate      Kind = "master.rotate"
	NotesCorrect      Kind = "notes.correct"
	OutletDrop        Kind = "outlet.drop"
	OutletSet         Kind = "outlet.set"
	PublicationBegin  Kind = "publication.begin"
	PublicationChange Kind = "publication.change" // it stands elsewhere
	PublicationWish   Kind = "publication.wish"
	PersonAdd         Kind = "person.add"
	PersonMail        Kind = "person.mail"
	PersonChange      Kind = "person.change"
	PasswordChange    Kind = "person.change-password"
	PasswordReset     Kind = "person.reset-password"
	ProjectAdd        Kind = "project.add"
	ProjectBot        Kind = "project.bot"
	ProjectHold       Kind = "project.hold"
	ProjectLend       Kind = "project.lend"
	ProjectLimit      Kind = "project.limit"
	ProjectNetwork    Kind = "project.network"
	ProjectRemove     Kind = "project.remove"
	PushRetry         Kind = "push.retry"
	ReleaseMake       Kind = "release.make"
	ReleaseWithdraw   Kind = "release.withdraw"
	RoleGrant         Kind = "role.grant"
	RoleTake          Kind = "role.take"
	RunAgain          Kind = "run.again"
	RunChanged        Kind = "run.changed" // its state, or what its jobs wait for
	RunEnding         Kind = "run.ending"  // its jobs are asked to end
	RunGoesOn         Kind = "run.goes-on" // something in it has begun or ended
	RunStart          Kind = "run.start"
	RunStop           Kind = "run.stop"
	RunOver           Kind = "run.over" // and pipelines wait for that
	RunnerForget      Kind = "runner.forget"
	RunnerHold        Kind = "runner.hold"
	SecretChange      Kind = "secret.change"
	SecretDrop        Kind = "secret.drop"
	SecretRestore     Kind = "secret.restore"
	SecretSet         Kind = "secret.set"
	SessionClose      Kind = "session.close"
	SessionOpen       Kind = "session.open"
	SessionRefuse     Kind = "session.refuse"
	ShellGrant        Kind = "shell.grant" // it may have secrets
	ShellOpen         Kind = "shell.open"
	StayAsk           Kind = "stay.ask"
	StayEnd           Kind = "stay.end"
	TesterAdd         Kind = "tester.add"
	TesterDrop        Kind = "tester.drop"
	TesterLink        Kind = "tester.link" // given anew, so that the one before leads nowhere
	TokenAdd          Kind = "token.add"
	TokenRevoke       Kind = "token.revoke"
	VersionLand       Kind = "version.land"
	WebhookDrop       Kind = "webhook.drop"
	WebhookSet        Kind = "webhook.set"
)

// act is what follows from most of what people do, and stays from what they do with workspaces that stay.
var act, stays = Follows{Audit: true}, Follows{Audit: true, Stays: true}

// Kinds lists them all, with what follows.
var Kinds = map[Kind]Follows{
	BisectionBegin: act, BisectionStop: act, BudgetDrop: act, BudgetSet: act, BudgetSpent: act, BudgetWarn: act,
	FeedSet: act, WebhookDrop: act, WebhookSet: act,
	CacheDrop: act, CaseAside: act, CaseBack: act, GroupDrop: act, GroupSet: act, HookKeyRead: act,
	IdentityAllow: act, IdentityChange: act,
	IdentityDrop:   act,
	IdentityExport: act, IdentityProfile: act, IdentitySet: act, KeptRules: act, LedgerFloor: act, MasterRotate: act,
	OutletDrop: act, OutletSet: act, PublicationBegin: act, PublicationWish: act,
	PublicationChange: {Console: true},
	NotesCorrect:      act, PasswordChange: act, PasswordReset: act, PersonAdd: act, PersonChange: act, PersonMail: act,
	ProjectAdd: act, ProjectBot: act, ProjectLend: act, ProjectNetwork: act, PushRetry: act, ReleaseMake: act,
	ReleaseWithdraw: act, RoleGrant: act,
	RoleTake: act, RunAgain: act, RunStart: act, RunStop: act, RunnerForget: act, SecretChange: act,
	SecretDrop: act, SecretRestore: act, SecretSet: act, SessionClose: act, SessionOpen: act,
	SessionRefuse: act,
	ShellGrant:    stays, ShellOpen: stays, StayAsk: stays, StayEnd: stays,
	TesterAdd: act, TesterDrop: act, TesterLink: act, TokenAdd: act, TokenRevoke: act, VersionLand: act,
	ProjectHold:   {Audit: true, Work: true},
	ProjectLimit:  {Audit: true, Work: true},
	RunnerHold:    {Audit: true, Work: true},
	ProjectRemove: {Audit: true, Runners: true},
	GateAnswer:    {Audit: true, Console: true},
	RunChanged:    {Console: true, Work: true},
	RunGoesOn:     {Console: true},
	RunEnding:     {Runners: true},
	RunOver:       {Next: true},
	JobEnded:      {Logs: true},
}

// And is what follows from both.
func (f Follows) And(other Follows) Follows {
	return Follows{f.Audit || other.Audit, f.Console || other.Console, f.Work || other.Work, f.Runners || other.Runners,
		f.Logs || other.Logs,
		f.Next || other.Next, f.Stays || other.Stays}
}

// Fact is something that happened. It holds no secrets.
type Fact struct {
	Kind    Kind
	Project string // its name; "" when it is of none
	Subject string // what it happened to, such as a secret's name
	Before  any    // as it was, and as it is; nil for nothing
	After   any

	ProjectID record.ProjectID // of those of a run, with its number and state
	Run       record.RunNumber
	State     state.State
}
