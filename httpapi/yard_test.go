package httpapi

import (
	"database/sql"
	"net/netip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func write(t *testing.T, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
}

// expire makes a token one that was good until a moment ago: the clock cannot be turned.
func expire(t *testing.T, dsn, name string) {
	t.Helper()
	db, err := sql.Open("pgx", dsn)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(`UPDATE tokens SET expires_at = now() - interval '1 second' WHERE name = $1`, name)
	require.NoError(t, err)
}

func prefixes(t *testing.T, list ...string) (out []netip.Prefix) {
	t.Helper()
	for _, text := range list {
		p, err := netip.ParsePrefix(text)
		require.NoError(t, err)
		out = append(out, p)
	}
	return out
}
