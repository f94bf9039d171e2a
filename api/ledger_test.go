package api

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAWholeLedgerIsWritten(t *testing.T) {
	pages := map[int64]Ledger{0: {Entries: []LedgerEntry{{ID: 9, Name: "1.5.0", Why: "a \"size\",\nof input", Issued: time.Unix(0, 0)}, {ID: 8}}, Next: 8},
		8: {Entries: []LedgerEntry{{ID: 7, Build: 3}}}}
	page := func(before int64) (Ledger, error) { return pages[before], nil }
	var b strings.Builder
	require.NoError(t, WriteLedger(&b, AsCSV, page))
	rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, ledgerColumns, rows[0])
	assert.Equal(t, []string{"9", "", "", "1.5.0", "0", "0", "", "0", "", "", "", "", "1970-01-01T00:00:00Z", "a \"size\",\nof input"}, rows[1])

	asked := LedgerEntry{Pipeline: "-x", Branch: `=HYPERLINK("http://a.example")`, Why: "@a", Issued: time.Unix(0, 0)}
	assert.Equal(t, []string{"'-x", `'=HYPERLINK("http://a.example")`, "'@a"}, []string{asked.row()[8], asked.row()[9],
		asked.row()[13]}, "no spreadsheet computes it")

	b.Reset()
	require.NoError(t, WriteLedger(&b, AsJSON, page))
	var entries []LedgerEntry
	require.NoError(t, json.Unmarshal([]byte(b.String()), &entries))
	require.Len(t, entries, 3)
	assert.EqualValues(t, 3, entries[2].Build)

	b.Reset()
	require.NoError(t, WriteLedger(&b, AsJSON, func(int64) (Ledger, error) { return Ledger{}, nil }))
	assert.Equal(t, "[]\n", b.String())
	away := errors.New("away")
	assert.ErrorIs(t, WriteLedger(&b, AsCSV, func(before int64) (l Ledger, err error) {
		if before != 0 {
			err = away
		}
		return pages[before], err
	}), away)
}
