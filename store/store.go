// Package store keeps the service's records in PostgreSQL (15 or later).
//
// Each file is one record with its queries. The methods of Q work on the database or in a transaction alike; what
// must happen together is done by Store.Tx. Lists are paged by key. ErrNotFound is the only error of its own that
// callers need to know, besides Unavailable.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"reflect"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound says that there is no such record.
var ErrNotFound = errors.New("not found")

// ErrExists says that a record of that name is there already.
var ErrExists = errors.New("exists already")

// ErrMaster says that a record was to be encrypted to a master that is not among those that are known, or that one
// was to be forgotten while a record needs it.
var ErrMaster = errors.New("the master is another meanwhile")

// Store is the database.
type Store struct {
	db *sqlx.DB
	Q
}

// Q is where queries run: the database itself or one transaction.
type Q struct{ x sqlx.ExtContext }

// Open connects to a database, waiting until ctx ends for it to answer, and brings its schema up to date.
func Open(ctx context.Context, dsn string) (*Store, error) {
	db, err := sqlx.Open("pgx", dsn)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	db.SetMaxOpenConns(24)
	db.SetMaxIdleConns(12)
	db.SetConnMaxIdleTime(5 * time.Minute)
	for {
		if err = db.PingContext(ctx); err == nil {
			break
		}
		select {
		case <-ctx.Done():
			db.Close()
			return nil, fmt.Errorf("the database does not answer: %w", err)
		case <-time.After(50 * time.Millisecond):
		}
	}
	if err := migrate(ctx, db.DB); err != nil {
		db.Close()
		return nil, err
	}
	return &Store{db: db, Q: Q{db}}, nil
}

// Prepare brings the records at an address up to date, and leaves them.
func Prepare(ctx context.Context, dsn string) error {
	s, err := Open(ctx, dsn)
	if err != nil {
		return err
	}
	return s.Close()
}

// migrate brings the schema up to date. Servers that start at the same moment do it one after the other.
func migrate(ctx context.Context, db *sql.DB) error {
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, `SELECT pg_advisory_lock($1)`, schemaLock); err != nil {
		return err
	}
	defer func() {
		// Should it fail, the connection is lost, and the lock with it.
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, schemaLock)
	}()
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, sub)
	if err != nil {
		return err
	}
	if err := checkSchema(ctx, provider); err != nil {
		return err
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database's schema up to date: %w", err)
	}
	if err := laterSchema(ctx, db); err != nil {
		return fmt.Errorf("bringing the tables of what is put off up to date: %w", err)
	}
	return nil
}

// ErrNewerSchema says that a newer program has changed the schema in a way this one does not know.
var ErrNewerSchema = errors.New("the records are of a newer version than this program knows")

// checkSchema refuses records that this program would read and write wrongly. Nothing is changed then.
func checkSchema(ctx context.Context, provider *goose.Provider) error {
	now, knows, err := provider.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("asking for the version of the database's schema: %w", err)
	}
	if now > knows {
		return fmt.Errorf("%w: their schema is of version %d, and it knows them up to %d; start the program that made it, "+
			"or a newer one", ErrNewerSchema, now, knows)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// Tx runs fn in one transaction: all of it happens or nothing.
func (s *Store) Tx(ctx context.Context, fn func(Q) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if err := fn(Q{tx}); err != nil {
		_ = tx.Rollback()
		if errors.Is(err, sql.ErrTxDone) && ctx.Err() != nil {
			return ctx.Err() // the transaction ended with it
		}
		return err
	}
	return tx.Commit()
}

// Unavailable reports whether an error means that the database cannot do it just now, so that the same call may succeed
// later.
func Unavailable(err error) bool {
	if err == nil {
		return false
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		// Class 57 is operator intervention (shutdown, crash recovery), 08 connection exceptions, 53 resources; of two
		// transactions that wait for each other one was undone (40P01).
		return pg.Code[:2] == "57" && pg.Code != "57014" || pg.Code[:2] == "08" || pg.Code[:2] == "53" || pg.Code == "40P01"
	}
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.As(err, &connect) || errors.As(err, &network) && !errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, sql.ErrConnDone) || pgconn.SafeToRetry(err) || isCutOff(err)
}

// isCutOff tells that a connection ended while something was under way.
func isCutOff(err error) bool {
	for _, cut := range []error{io.ErrUnexpectedEOF, io.EOF, net.ErrClosed, driver.ErrBadConn, syscall.ECONNRESET,
		syscall.EPIPE} {
		if errors.Is(err, cut) {
			return true
		}
	}
	return false
}

func (q Q) get(ctx context.Context, dest any, query string, args ...any) error {
	err := sqlx.GetContext(ctx, q.x, dest, query, args...)
	if err != nil {
		reflect.ValueOf(dest).Elem().SetZero() // sqlx has made room in it for what did not come
	}
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return meant(err)
}

func (q Q) list(ctx context.Context, dest any, query string, args ...any) error {
	return sqlx.SelectContext(ctx, q.x, dest, query, args...)
}

// do runs a statement; none says what it means when no row was touched (nil: nothing).
func (q Q) do(ctx context.Context, none error, query string, args ...any) error {
	res, err := q.x.ExecContext(ctx, query, args...)
	if err != nil {
		return meant(err)
	}
	if none != nil {
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, none)
		}
	}
	return nil
}

// What is held for a transaction, across all servers on the same records (PostgreSQL documentation, 13.3.5); the schema
// is, for a connection.
const (
	queueLock int64 = (iota + 1) << 56
	peopleLock
	secretsLock // of the project whose id is added
	schemaLock
	webhooksLock // of the project whose id is added
)

func (q Q) hold(ctx context.Context, lock int64) error {
	return q.do(ctx, nil, `SELECT pg_advisory_xact_lock($1)`, lock)
}

// meant turns a refusal of the database into what it means (PostgreSQL documentation, appendix A, class 23).
func meant(err error) error {
	var pg *pgconn.PgError
	switch {
	case !errors.As(err, &pg):
	case pg.ConstraintName == "secret_revisions_master", pg.ConstraintName == "projects_master":
		return ErrMaster
	case pg.Code == "23505":
		return ErrExists
	case pg.Code == "23503":
		return ErrNotFound // what it refers to, which somebody else has removed in this moment
	}
	return err
}

// JSON is a jsonb column of a Go type.
type JSON[T any] struct{ V T }

// Scan implements sql.Scanner.
func (j *JSON[T]) Scan(src any) error {
	switch text := src.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(text, &j.V)
	case string:
		return json.Unmarshal([]byte(text), &j.V)
	}
	return fmt.Errorf("a jsonb column came as %T", src)
}

func asJSON(v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("a record that is no JSON: %v", err)) // our own types only
	}
	return text
}

// Texts is a text[] column.
type Texts []string

// Scan implements sql.Scanner.
func (t *Texts) Scan(src any) error {
	var list []string
	if err := pgtype.NewMap().SQLScanner(&list).Scan(src); err != nil {
		return err
	}
	*t = list
	return nil
}
