package store

import (
	"context"

	"gentlepiston.example/piston/core/record"
)

// Budget is how many minutes of machines a project may use in a month.
type Budget struct {
	ProjectID   record.ProjectID `db:"project_id"`
	Minutes     int64            `db:"minutes"`
	WarnAt      int              `db:"warn_at"` // per cent
	Hold        bool             `db:"hold"`
	SetBy       string           `db:"set_by"`
	WarnedMonth string           `db:"warned_month"`
	SpentMonth  string           `db:"spent_month"`
}

var budgetColumns = columnsOf[Budget]("b")

// SetBudget gives a project a budget, or another.
func (q Q) SetBudget(ctx context.Context, b Budget) error {
	return q.do(ctx, nil, `INSERT INTO budgets (project_id, minutes, warn_at, hold, set_by) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (project_id) DO UPDATE SET minutes = $2, warn_at = $3, hold = $4, set_by = $5, warned_month = '',
			spent_month = ''`, b.ProjectID, b.Minutes, b.WarnAt, b.Hold, b.SetBy)
}

// DropBudget takes it back.
func (q Q) DropBudget(ctx context.Context, project record.ProjectID) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM budgets WHERE project_id = $1`, project)
}

// BudgetOf finds a project's.
func (q Q) BudgetOf(ctx context.Context, project record.ProjectID) (b Budget, err error) {
	err = q.get(ctx, &b, `SELECT `+budgetColumns+` FROM budgets b WHERE b.project_id = $1`, project)
	return b, err
}

// Budgets lists them all.
func (q Q) Budgets(ctx context.Context) (list []Budget, err error) {
	err = q.list(ctx, &list, `SELECT `+budgetColumns+` FROM budgets b ORDER BY b.project_id`)
	return list, err
}

// MarkBudget notes in which months a budget was warned of and used up; ErrNotFound when another has noted it.
func (q Q) MarkBudget(ctx context.Context, before, b Budget) error {
	return q.do(ctx, ErrNotFound, `UPDATE budgets SET warned_month = $2, spent_month = $3 WHERE project_id = $1
		AND warned_month = $4 AND spent_month = $5`, b.ProjectID, b.WarnedMonth, b.SpentMonth, before.WarnedMonth,
		before.SpentMonth)
}
