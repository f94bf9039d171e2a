package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"gentlepiston.example/piston/core/logline"
	"gentlepiston.example/piston/core/record"
)

// comparedLines is how many lines the logs have that are compared.
const comparedLines = 20_000

// old is an old attempt.
type old struct {
	id, run int64
	number  record.RunNumber
}

// comparing sets two logs beside each other, of which one line of a hundred differs, and times in all; then two that
// have nothing in common. Beside it, diff over the same in plain files.
func (y *yard) comparing(ctx context.Context) error {
	rows, err := y.db.QueryContext(ctx, `SELECT a.id, a.run_id, r.number FROM attempts a JOIN runs r ON r.id = a.run_id
		JOIN jobs j ON j.id = a.job_id AND j.name = 'j1' WHERE a.runner = 'old' ORDER BY a.id DESC LIMIT 2`)
	if err != nil {
		return err
	}
	var list []old
	for rows.Next() {
		var o old
		if err := rows.Scan(&o.id, &o.run, &o.number); err != nil {
			return err
		}
		list = append(list, o)
	}
	if err := rows.Err(); err != nil || len(list) < 2 {
		return errors.Join(err, errors.New("there are no two old runs to compare"))
	}
	for _, kind := range []struct {
		name string
		line func(i, n int) string
	}{
		{"mostly the same", func(i, n int) string {
			if n%100 == 0 {
				return fmt.Sprintf("linking part %d of variant %c", n, 'a'+i)
			}
			return fmt.Sprintf("clang -O2 -c core/tide_%d.c -o out/tide_%d.o", n, n)
		}},
		{"nothing in common", func(i, n int) string { return fmt.Sprintf("variant %c of part %d", 'a'+i, n) }},
	} {
		var files []string
		for i, o := range list[:2] {
			var text []string
			for n := range comparedLines {
				text = append(text, fmt.Sprintf("[%02d:%02d:%02d] %s", i, n/60%60, n%60, kind.line(i, n)))
			}
			file := filepath.Join(y.home, fmt.Sprintf("compared%d.log", i))
			if err := os.WriteFile(file, []byte(strings.Join(text, "\n")+"\n"), 0o600); err != nil {
				return err
			}
			files = append(files, file)
			if err := y.keepLog(ctx, o, text); err != nil {
				return err
			}
		}
		began := time.Now()
		d, err := y.cl.CompareLogs(ctx, "yard", list[1].number, "j1", list[0].number)
		if err != nil {
			return err
		}
		took := time.Since(began).Seconds() * 1000
		began = time.Now()
		// Each line of theirs differs in its time, so that it shows nothing that would help.
		if _, err := exec.CommandContext(ctx, "diff", files...).Output(); err == nil {
			return errors.New("diff finds no difference")
		}
		fmt.Printf("  two logs of %d lines beside each other, %s: %.0f ms, %d lines differ; diff of plain files: %.0f ms\n",
			comparedLines, kind.name, took, d.Different, time.Since(began).Seconds()*1000)
	}
	return nil
}

// keepLog writes the finished log of an attempt.
func (y *yard) keepLog(ctx context.Context, o old, text []string) error {
	var b bytes.Buffer
	w, err := logline.NewFileWriter(&b)
	if err != nil {
		return err
	}
	for n, line := range text {
		if err := w.Append(logline.Line{N: int64(n + 1), At: 1754000000000 + int64(n), Text: line}); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return y.putLog(ctx, o.run, o.id, b.Bytes(), len(text))
}

// putLog puts a finished log where the service keeps it.
func (y *yard) putLog(ctx context.Context, run, attempt int64, content []byte, lines int) error {
	name := fmt.Sprintf("logs/%d/%d.zst", run, attempt)
	at := filepath.Join(y.home, "blobs", name)
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(at, content, 0o600); err != nil {
		return err
	}
	_, err := y.db.ExecContext(ctx, `UPDATE attempts SET log_blob = $2, log_size = $3, log_lines = $4,
		log_moved = now() WHERE id = $1`, attempt, name, len(content), lines)
	return err
}
