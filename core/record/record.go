// Package record has a type for each thing that is told apart by a number, so that none is taken for another: the id of
// a run names it in the records, its number is what people call it by, and neither is an attempt's.
package record

// Ids are given by the database, grow with age and are never given twice; 0 is none.
type (
	ProjectID     int64
	RunID         int64
	JobID         int64
	AttemptID     int64
	ArtifactID    int64
	PushID        int64
	PersonID      int64
	GroupID       int64
	TokenID       int64
	SecretID      int64
	IdentityID    int64
	PackageID     int64
	CacheID       int64
	LetterID      int64
	GateID        int64
	ReleaseID     int64
	OutletID      int64
	TesterID      int64
	TrialID       int64
	WordID        int64
	PublicationID int64
	PlaceID       int64
	CaseID        int64
	WebhookID     int64
	MessageID     int64
	ShellID       int64
	BisectionID   int64
)

// RunNumber counts the runs of one project, from 1.
type RunNumber int64
