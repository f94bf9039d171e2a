// Package testdb gives tests a PostgreSQL of their own, and each test a database in it.
package testdb

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver

	"gentlepiston.example/piston/local"
)

var (
	mu     sync.Mutex
	server *local.Postgres
	home   string
	count  int

	prepare  func(ctx context.Context, dsn string) error
	template string // what a new database is made like
)

// Given names the variable with the address of a server that is there already, for who starts many tests one by one.
const Given = "PISTON_TEST_DATABASE"

// New makes a database, empty or as Main was told to prepare it, and returns its address.
func New(t testing.TB) string {
	t.Helper()
	mu.Lock()
	defer mu.Unlock()
	at := os.Getenv(Given)
	if at == "" {
		at = own(t)
	}
	if prepare != nil && template == "" {
		made := create(t, at, "")
		if err := prepare(t.Context(), made); err != nil {
			t.Fatal(err)
		}
		template = fmt.Sprintf(" TEMPLATE test%d_%d", os.Getpid(), count)
	}
	return create(t, at, template)
}

// create makes a database on the server at an address, like another or empty.
func create(t testing.TB, at, like string) string {
	t.Helper()
	count++
	name := fmt.Sprintf("test%d_%d", os.Getpid(), count)
	db, err := sql.Open("pgx", at)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.ExecContext(t.Context(), "CREATE DATABASE "+name+like); err != nil {
		t.Fatal(err)
	}
	return strings.Replace(at, "dbname=postgres", "dbname="+name, 1)
}

// own starts the server of this package's tests, once.
func own(t testing.TB) string {
	t.Helper()
	if server == nil {
		dir, err := os.MkdirTemp("", "piston-testdb-")
		if err != nil {
			t.Fatal(err)
		}
		home = dir
		if server, err = local.StartPostgres(context.Background(), dir, slog.New(slog.DiscardHandler)); err != nil {
			t.Fatal(err)
		}
	}
	return server.DSN()
}

// Main runs a package's tests and stops the server after them. Unless with is nil, it prepares the first database, and
// each test is given a copy of that.
func Main(m *testing.M, with func(ctx context.Context, dsn string) error) {
	prepare = with
	code := m.Run()
	Stop()
	os.Exit(code)
}

// Stop ends the server, when one was started.
func Stop() {
	if server == nil {
		return
	}
	server.Stop()
	if err := local.RemoveFolder(home); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
}
