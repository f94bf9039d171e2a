// Package service joins the rooms of the use cases: people, secrets, what comes in, work, logs, and reports. Each has
// its own type, the records, and only what it needs of the others.
package service

import (
	"context"
	"log/slog"
	"path/filepath"
	"time"

	"gentlepiston.example/piston/blob"
	"gentlepiston.example/piston/service/bisect"
	"gentlepiston.example/piston/service/caches"
	"gentlepiston.example/piston/service/expiries"
	"gentlepiston.example/piston/service/gates"
	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/service/history"
	"gentlepiston.example/piston/service/identities"
	"gentlepiston.example/piston/service/intake"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/service/logs"
	"gentlepiston.example/piston/service/notify"
	"gentlepiston.example/piston/service/own"
	"gentlepiston.example/piston/service/packages"
	"gentlepiston.example/piston/service/people"
	"gentlepiston.example/piston/service/projects"
	"gentlepiston.example/piston/service/publish"
	"gentlepiston.example/piston/service/releases"
	"gentlepiston.example/piston/service/report"
	"gentlepiston.example/piston/service/secrets"
	"gentlepiston.example/piston/service/stays"
	"gentlepiston.example/piston/service/testers"
	"gentlepiston.example/piston/service/traces"
	"gentlepiston.example/piston/service/vault"
	"gentlepiston.example/piston/service/versions"
	"gentlepiston.example/piston/service/work"
	"gentlepiston.example/piston/store"
	"gentlepiston.example/piston/stream"
	"gentlepiston.example/piston/token"
)

// Service is one server's share of the work.
type Service struct {
	*ground.Ground
	Vault      *vault.Vault
	People     *people.People
	Secrets    *secrets.Secrets
	Projects   *projects.Projects
	Identities *identities.Identities
	Intake     *intake.Intake
	Work       *work.Work
	Gates      *gates.Gates
	Letters    *letters.Letters
	Notify     *notify.Notify
	Versions   *versions.Versions
	Packages   *packages.Packages
	Caches     *caches.Caches
	Logs       *logs.Logs
	Releases   *releases.Releases
	Testers    *testers.Testers
	Publish    *publish.Publish
	Report     *report.Report
	History    *history.History
	Stays      *stays.Stays
	Bisect     *bisect.Bisect
	Expiries   *expiries.Expiries
}

// Options are what a service is told at its start.
type Options struct {
	Home   string // the data folder: mirrors are there, and the master key unless it is elsewhere
	Master vault.Master
	Tokens *token.Module // where signing keys may be, too; nil for none
	Issuer people.Issuer // where people may sign in; the zero value for none
	// Reserve is how much of the disk is kept free, in bytes: with less, no job is handed out.
	Reserve int64
	Mail    letters.Server // by what mail is sent; the zero value for none
	// Outlets is the folder below which outlets that are folders are; "" for one in the data folder.
	Outlets string
	Public  string // address by which people reach the console; "" when that is not known
	Traces  string // address of a collector that runs are told to as traces; "" for none
	Log     *slog.Logger
}

// MasterFile is where the master key of a data folder is, unless it is elsewhere.
func MasterFile(home string) string { return filepath.Join(home, "secrets.key") }

// Open joins the rooms and starts the background work.
func Open(ctx context.Context, st *store.Store, sm *stream.Stream, blobs *blob.Blobs, o Options) (*Service, error) {
	g, err := ground.New(st, sm, o.Home, o.Reserve, o.Log)
	if err != nil {
		return nil, err
	}
	v, err := vault.Open(ctx, o.Master, g)
	if err != nil {
		return nil, err
	}
	s := &Service{Ground: g, Vault: v, People: people.New(g, v, o.Issuer, o.Public), Secrets: secrets.New(g, v),
		Projects: projects.New(g, v, blobs, o.Public), Identities: identities.New(g, v, o.Tokens)}
	s.Logs = logs.New(g, blobs)
	s.Work = work.New(g, s.Secrets, blobs)
	s.Letters = letters.New(g, o.Mail, o.Public)
	s.Notify = notify.New(g, v, s.Letters)
	if _, err = traces.New(g, o.Traces, o.Public); err != nil {
		return nil, err
	}
	s.Gates = gates.New(g, s.Work, s.Letters)
	if s.Versions, err = versions.New(g, s.Secrets); err != nil {
		return nil, err
	}
	s.Packages = packages.New(g, v, s.Versions)
	s.Releases = releases.New(g, s.Versions, s.Packages, s.Gates)
	s.Testers = testers.New(g, s.Letters, s.Releases, blobs)
	s.Publish = publish.New(g, v, s.Letters, s.Versions, s.Releases, s.Testers, blobs, o.Outlets, o.Public)
	own.New(g, s.Work, s.Logs, s.Versions, s.Releases, s.Publish)
	s.Caches = caches.New(g, blobs)
	s.Report = report.New(g, s.Work, s.Gates, s.Logs, s.Caches, blobs)
	s.History = history.New(g, s.Report)
	s.Stays = stays.New(g, s.Secrets)
	s.Intake = intake.New(g, v, s.Secrets, s.Work, o.Public)
	s.Bisect = bisect.New(g, s.Intake, s.Work)
	s.Expiries = expiries.New(g)
	// The server was away: runners that kept working need time to report before they count as lost.
	if err := st.ExtendLeases(ctx, work.Lease); err != nil {
		return nil, err
	}
	if err := st.SeeStaysAnew(ctx); err != nil {
		return nil, err
	}
	if err := s.background(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// background starts the loops that run beside requests. Each looks at the records only, so any number of servers
// may run them at the same time, and what a crash cut short is found again.
func (s *Service) background() error {
	s.People.Background()
	s.Intake.Background()
	s.Work.Background()
	s.Logs.Background()
	s.Report.Background()
	s.History.Background()
	s.Notify.Background()
	s.Stays.Background()
	s.Expiries.Background()
	s.OneOfAll(ground.Upkeep{What: "dropping expired sessions", Every: time.Hour, Do: s.Store.DropExpired})
	return s.Ground.Background()
}
