package store

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/core/record"
)

// Webhook is an address at which a program is told of what happens in a project.
type Webhook struct {
	ID         record.WebhookID `db:"id"`
	ProjectID  record.ProjectID `db:"project_id"`
	Name       string           `db:"name"`
	URL        string           `db:"url"`
	Kinds      Texts            `db:"kinds"`
	Inside     bool             `db:"inside"`
	Ciphertext []byte           `db:"ciphertext"` // by what it is signed
	Paused     string           `db:"paused"`     // why nothing is sent; "" it is
	SetBy      string           `db:"set_by"`
	Set        time.Time        `db:"set_at"`
}

var webhookColumns = columnsOf[Webhook]("w")

// LockWebhooks holds which webhooks a project has for the transaction.
func (q Q) LockWebhooks(ctx context.Context, project record.ProjectID) error {
	return q.hold(ctx, webhooksLock+int64(project))
}

// SetWebhook writes one, or another in its place.
func (q Q) SetWebhook(ctx context.Context, w Webhook, sealedTo string) error {
	return q.do(ctx, nil, `INSERT INTO webhooks (project_id, name, url, kinds, inside, ciphertext, sealed_to, set_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (project_id, name) DO UPDATE SET url = $3, kinds = $4,
			inside = $5, ciphertext = $6, sealed_to = $7, set_by = $8, set_at = now(), paused = ''`, w.ProjectID, w.Name, w.URL,
		w.Kinds, w.Inside, w.Ciphertext, sealedTo, w.SetBy)
}

// DropWebhook removes one, with what was sent to it.
func (q Q) DropWebhook(ctx context.Context, project record.ProjectID, name string) error {
	return q.do(ctx, ErrNotFound, `DELETE FROM webhooks WHERE project_id = $1 AND name = $2`, project, name)
}

// Webhooks lists a project's by name.
func (q Q) Webhooks(ctx context.Context, project record.ProjectID) (list []Webhook, err error) {
	err = q.list(ctx, &list, `SELECT `+webhookColumns+` FROM webhooks w WHERE w.project_id = $1 ORDER BY w.name`, project)
	return list, err
}

// WebhookByName finds one of a project.
func (q Q) WebhookByName(ctx context.Context, project record.ProjectID, name string) (w Webhook, err error) {
	err = q.get(ctx, &w, `SELECT `+webhookColumns+` FROM webhooks w WHERE w.project_id = $1 AND w.name = $2`, project,
		name)
	return w, err
}

// WebhookByID finds one.
func (q Q) WebhookByID(ctx context.Context, id record.WebhookID) (w Webhook, err error) {
	err = q.get(ctx, &w, `SELECT `+webhookColumns+` FROM webhooks w WHERE w.id = $1`, id)
	return w, err
}

// PauseWebhook has nothing sent to one, and says why.
func (q Q) PauseWebhook(ctx context.Context, id record.WebhookID, why string) error {
	return q.do(ctx, ErrNotFound, `UPDATE webhooks SET paused = $2 WHERE id = $1`, id, why)
}

// The states of a message.
const (
	MessageQueued  = "queued"
	MessageSent    = "sent"
	MessageRefused = "refused"
)

// Message is something that is sent to a webhook.
type Message struct {
	ID        record.MessageID `db:"id"`
	WebhookID record.WebhookID `db:"webhook_id"`
	Key       string           `db:"key"`
	Kind      string           `db:"kind"`
	Body      string           `db:"body"`
	State     string           `db:"state"`
	Tries     int              `db:"tries"`
	Status    int              `db:"status"` // of the last answer; 0 none came
	Answer    string           `db:"answer"`
	Queued    time.Time        `db:"queued_at"`
	Tried     *time.Time       `db:"tried_at"`
	Ended     *time.Time       `db:"ended_at"`
}

var messageColumns = columnsOf[Message]("m")

// AddMessage writes one and gives its id; 0 when the same was written before.
func (q Q) AddMessage(ctx context.Context, m Message) (id record.MessageID, err error) {
	err = q.get(ctx, &id, `INSERT INTO messages (webhook_id, key, kind, body) VALUES ($1, $2, $3, $4)
		ON CONFLICT (webhook_id, key) DO NOTHING RETURNING id`, m.WebhookID, m.Key, m.Kind, m.Body)
	if errors.Is(err, ErrNotFound) {
		err = nil
	}
	return id, err
}

// MessageByID finds one.
func (q Q) MessageByID(ctx context.Context, id record.MessageID) (m Message, err error) {
	err = q.get(ctx, &m, `SELECT `+messageColumns+` FROM messages m WHERE m.id = $1`, id)
	return m, err
}

// TriedMessage writes what came of sending one.
func (q Q) TriedMessage(ctx context.Context, id record.MessageID, state string, status int, answer string) error {
	return q.do(ctx, ErrNotFound, `UPDATE messages SET state = $2, status = $3, answer = $4, tries = tries + 1,
		tried_at = now(), ended_at = CASE WHEN $2 <> 'queued' THEN now() END WHERE id = $1`, id, state, status, answer)
}

// RequeueMessage has one sent again.
func (q Q) RequeueMessage(ctx context.Context, id record.MessageID) error {
	return q.do(ctx, ErrNotFound, `UPDATE messages SET state = 'queued', queued_at = now(), ended_at = NULL
		WHERE id = $1 AND state <> 'queued'`, id)
}

// MessageFilter narrows a list of messages. Zero fields do not.
type MessageFilter struct {
	State  string
	Before record.MessageID
	Limit  int
}

// Messages lists what was sent to a webhook, the latest first.
func (q Q) Messages(ctx context.Context, webhook record.WebhookID, f MessageFilter) (list []Message, err error) {
	err = q.list(ctx, &list, `SELECT `+messageColumns+` FROM messages m WHERE m.webhook_id = $1
		AND ($2 = '' OR m.state = $2) AND ($3 = 0 OR m.id < $3) ORDER BY m.id DESC LIMIT $4`, webhook, f.State, f.Before,
		f.Limit)
	return list, err
}

// DropMessages forgets messages that ended before a time.
func (q Q) DropMessages(ctx context.Context, before time.Time) error {
	return q.do(ctx, nil, `DELETE FROM messages WHERE ended_at < $1`, before)
}

// Wish is of what somebody wants to be told; of all projects where none is named.
type Wish struct {
	PersonID record.PersonID `db:"person_id"`
	Project  *string         `db:"project"`
	Kinds    Texts           `db:"kinds"`
}

// SetWish writes one; project 0 is all. No kinds at all want nothing to be told.
func (q Q) SetWish(ctx context.Context, person record.PersonID, project record.ProjectID, kinds []string) error {
	return q.do(ctx, nil, `INSERT INTO wishes (person_id, project_id, kinds) VALUES ($1, nullif($2::bigint, 0), $3)
		ON CONFLICT (person_id, project_id) DO UPDATE SET kinds = $3`, person, project, kinds)
}

// DropWish takes one back, so that what nobody has chosen counts.
func (q Q) DropWish(ctx context.Context, person record.PersonID, project record.ProjectID) error {
	return q.do(ctx, nil, `DELETE FROM wishes WHERE person_id = $1
		AND project_id IS NOT DISTINCT FROM nullif($2::bigint, 0)`, person, project)
}

// WishesOf lists somebody's, that of all projects first.
func (q Q) WishesOf(ctx context.Context, person record.PersonID) (list []Wish, err error) {
	err = q.list(ctx, &list, `SELECT w.person_id, p.name AS project, w.kinds FROM wishes w
		LEFT JOIN projects p ON p.id = w.project_id WHERE w.person_id = $1 ORDER BY p.name NULLS FIRST`, person)
	return list, err
}

// WishesFor lists what people want to be told of a project: of it, or else of all.
func (q Q) WishesFor(ctx context.Context, project record.ProjectID) (map[record.PersonID][]string, error) {
	var list []Wish
	err := q.list(ctx, &list, `SELECT DISTINCT ON (w.person_id) w.person_id, w.kinds FROM wishes w
		WHERE w.project_id = $1 OR w.project_id IS NULL ORDER BY w.person_id, w.project_id NULLS LAST`, project)
	all := map[record.PersonID][]string{}
	for _, w := range list {
		all[w.PersonID] = w.Kinds
	}
	return all, err
}

// StateBefore is how the run of a branch's pipeline before one ended; "" when there is none. Runs that were cancelled
// tell nothing.
func (q Q) StateBefore(ctx context.Context, r Run) (s string, err error) {
	err = q.get(ctx, &s, `SELECT coalesce((SELECT state FROM runs WHERE project_id = $1 AND pipeline = $2 AND branch = $3
		AND tag = $4 AND number < $5 AND bisection = 0 AND state IN ('passed', 'failed', 'timed-out')
		ORDER BY number DESC LIMIT 1), '')`,
		r.ProjectID, r.Pipeline, r.Branch, r.Tag, r.Number)
	return s, err
}

// FeedKey is by what a project's badge and feed are found; "" for none.
func (q Q) FeedKey(ctx context.Context, project record.ProjectID) (key string, err error) {
	err = q.get(ctx, &key, `SELECT feed_key FROM projects WHERE id = $1`, project)
	return key, err
}

// SetFeedKey gives it another; "" takes it back.
func (q Q) SetFeedKey(ctx context.Context, project record.ProjectID, key string) error {
	return q.do(ctx, ErrNotFound, `UPDATE projects SET feed_key = $2 WHERE id = $1`, project, key)
}

// ProjectByFeedKey finds the project that a key leads to.
func (q Q) ProjectByFeedKey(ctx context.Context, key string) (p Project, err error) {
	err = q.get(ctx, &p, `SELECT `+projectColumns+` FROM projects WHERE feed_key = $1 AND feed_key <> ''`, key)
	return p, err
}
