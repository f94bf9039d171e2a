package api

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"
)

// The forms in which a whole ledger is written.
const (
	AsCSV  = "csv"  // RFC 4180, with a line of names
	AsJSON = "json" // RFC 8259: an array of entries
)

var ledgerColumns = []string{"id", "app", "platform", "name", "build", "last_build", "state", "run", "pipeline",
	"branch", "commit", "landed", "issued", "why"}

func (e LedgerEntry) row() []string {
	return []string{fmt.Sprint(e.ID), e.App, e.Platform, e.Name, fmt.Sprint(e.Build), fmt.Sprint(e.LastBuild), e.State,
		fmt.Sprint(e.Run), asText(e.Pipeline), asText(e.Branch), e.Commit, e.Landed, e.Issued.UTC().Format(time.RFC3339),
		asText(e.Why)}
}

// asText keeps a spreadsheet from computing what is a name: whoever pushes says what a branch is called.
func asText(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}

// WriteLedger writes all entries of a ledger in a form, page by page; page gives those below an id, 0 for the newest.
func WriteLedger(w io.Writer, as string, page func(before int64) (Ledger, error)) error {
	table := csv.NewWriter(w)
	entry, between, end := func(e LedgerEntry) error { return table.Write(e.row()) }, "", ""
	if as == AsJSON {
		between, end = "[\n", "\n]\n"
		entry = func(e LedgerEntry) error {
			text, err := json.Marshal(e)
			if err == nil {
				_, err = fmt.Fprintf(w, "%s%s", between, text)
			}
			between = ",\n"
			return err
		}
	} else if err := table.Write(ledgerColumns); err != nil {
		return err
	}
	for before := int64(0); ; {
		p, err := page(before)
		if err != nil {
			return err
		}
		for _, e := range p.Entries {
			if err := entry(e); err != nil {
				return err
			}
		}
		if before = p.Next; before == 0 {
			break
		}
	}
	table.Flush()
	if between == "[\n" { // there was none
		end = "[]\n"
	}
	if _, err := io.WriteString(w, end); err != nil {
		return err
	}
	return table.Error()
}
