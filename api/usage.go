package api

// UsageFilter says of which month usage is told, and by what.
type UsageFilter struct {
	Month string `query:"month" maxLength:"7" pattern:"^[0-9]{4}-[0-9]{2}$" doc:"Default: this one (UTC)"`
	By    string `query:"by" enum:"project,pipeline,job,machine,person" default:"pipeline" doc:"What it is told by"`
}

// Usage is how long machines were at work in a month. Times are in milliseconds.
type Usage struct {
	Month string `json:"month"`
	Used  int64  `json:"used_ms"`
	// What it will be at the month's end if it goes on as in the last four weeks.
	Forecast int64 `json:"forecast_ms"`
	// The most first.
	Parts  []UsedPart  `json:"parts"`
	Months []UsedMonth `json:"months"`
	// What could have been spared.
	Waste  []UsedPart `json:"waste"`
	Budget *Budget    `json:"budget,omitempty"`
}

// UsedPart is what one of several used. Of waste the name is superseded, repeated, flaky, missed-caches or planning.
type UsedPart struct {
	Name   string `json:"name"`
	Used   int64  `json:"used_ms"`
	Waited int64  `json:"waited_ms,omitempty"`
	Runs   int    `json:"runs"`
}

// UsedMonth is what was used in a month.
type UsedMonth struct {
	Month string `json:"month"`
	Used  int64  `json:"used_ms"`
}

// NewBudget gives a project a budget.
type NewBudget struct {
	// Minutes of machines in a month.
	Minutes int64 `json:"minutes" minimum:"1" maximum:"10000000"`
	// From how much of it on keepers are warned, in per cent; 0 for 80.
	WarnAt int `json:"warn_at,omitempty" minimum:"0" maximum:"100"`
	// Once it is used up the project is held until the next month, or until somebody resumes it.
	Hold bool `json:"hold,omitempty"`
}

// Budget is a project's budget, and how it stands.
type Budget struct {
	NewBudget
	By string `json:"by"`
	// Fine, warned or spent.
	State string `json:"state" enum:"fine,warned,spent"`
	// How much of it is used, in per cent.
	Percent int64 `json:"percent"`
}
