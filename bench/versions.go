package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"filippo.io/age"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/core/version"
	"gentlepiston.example/piston/core/versionfile"
)

// raises is how many runs raise a version, for each length of the ledger.
const raises = 40

// versions measures finding an app's versions among 20,000 files, beside git grep for the same words, and a raise from
// a ledger of a thousand and of a million rows, beside the one statement that counts a number up.
func versions(ctx context.Context) error {
	if err := findVersions(ctx); err != nil {
		return err
	}
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	var short []float64
	for _, rows := range []int{1_000, 1_000_000} {
		if err := y.fillLedger(ctx, rows); err != nil {
			return err
		}
		took, err := y.raise(ctx)
		if err != nil {
			return err
		}
		report(fmt.Sprintf("raise of two platforms, %d rows in the ledger", rows), took, "ms")
		if short == nil {
			short = took
			continue
		}
		bare, err := y.bareCount(ctx)
		if err != nil {
			return err
		}
		report("one bare UPDATE … RETURNING that counts up, by hand", bare, "ms")
		fmt.Printf("  a raise from a million rows costs %.2f times that from a thousand; wanted: the same\n",
			median(took)/median(short))
	}
	return nil
}

// findVersions compares piston versions with git grep in one repository.
func findVersions(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "piston-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for m := range 200 {
		files := map[string]string{
			"build.gradle.kts":             "plugins { id(\"com.android.library\") }\nandroid { defaultConfig { } }\n",
			"src/main/AndroidManifest.xml": fmt.Sprintf("<manifest package=\"net.tidewick.m%d\"/>\n", m)}
		for k := range 98 {
			files[fmt.Sprintf("src/main/F%d.kt", k)] = "package net.tidewick\n\nclass Tide\n"
		}
		if m == 0 {
			files["build.gradle.kts"] = "android {\n    defaultConfig {\n        versionCode = 12\n" +
				"        versionName = \"1.4.0\"\n    }\n}\n"
		}
		for name, text := range files {
			file := filepath.Join(dir, fmt.Sprint("m", m), name)
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				return err
			}
		}
	}
	run := func(name string, args ...string) (float64, error) {
		cmd := exec.CommandContext(ctx, name, args...)
		cmd.Dir = dir
		began := time.Now()
		out, err := cmd.CombinedOutput()
		if err != nil {
			return 0, fmt.Errorf("%s: %w: %s", name, err, out)
		}
		return time.Since(began).Seconds() * 1000, nil
	}
	for _, args := range [][]string{{"init", "--quiet"}, {"add", "-A"}} {
		if _, err := run("git", args...); err != nil {
			return err
		}
	}
	var ours, grep []float64
	for range 10 {
		took, err := run(os.Getenv("PISTON_BINARY"), "versions")
		if err != nil {
			return err
		}
		ours = append(ours, took)
		if took, err = run("git", "grep", "-nE", "versionCode|versionName|CFBundle.*Version|MARKETING_VERSION"); err != nil {
			return err
		}
		grep = append(grep, took)
	}
	fmt.Println()
	report("piston versions, 20,000 files", ours, "ms")
	report("git grep for the words, by hand", grep, "ms")
	fmt.Printf("  %.1f times the search; wanted: at most 300 ms\n", median(ours)/median(grep))
	return nil
}

// fillLedger adds versions that were handed out, until there are so many.
func (y *yard) fillLedger(ctx context.Context, rows int) error {
	if err := y.fill(ctx, 10); err != nil {
		return err
	}
	_, err := y.db.ExecContext(ctx, `WITH r AS (SELECT id, project_id FROM runs WHERE pipeline = 'old' LIMIT 1)
		INSERT INTO versions (project_id, app, platform, name, name_key, reserved, first_build, last_build, run_id, why,
			lands, state)
		SELECT r.project_id, 'app', 'android', '1.0.' || g, '0000000001.0000000000.' || lpad(g::text, 10, '0')
			|| '.0000000000.~', true, g, g, r.id, 'patch', false, 'void'
		FROM r, generate_series((SELECT coalesce(max(first_build), 0) + 1 FROM versions WHERE why = 'patch'
			AND state = 'void'), $1::bigint) AS g ON CONFLICT DO NOTHING`, rows)
	if err == nil {
		_, err = y.db.ExecContext(ctx, `INSERT INTO version_lines (project_id, app, platform, last_build)
			SELECT id, 'app', p, $1 FROM projects, unnest(ARRAY['android', 'ios']) AS p WHERE name = 'yard'
			ON CONFLICT (project_id, app, platform) DO UPDATE SET last_build = greatest(version_lines.last_build, $1)`, rows)
	}
	if err == nil {
		_, err = y.db.ExecContext(ctx, `ANALYZE`)
	}
	return err
}

// raise lets runs raise one after the other, as a runner asks for it.
func (y *yard) raise(ctx context.Context) (took []float64, err error) {
	for range raises {
		if err := y.begin(ctx, "raise", func(cl *client.Client, attempt record.AttemptID) error {
			began := time.Now()
			defer func() { took = append(took, time.Since(began).Seconds()*1000) }()
			_, err := cl.Raise(ctx, attempt, api.RaiseRequest{App: "app", By: string(version.Patch),
				Platforms: []string{string(versionfile.Android), string(versionfile.IOS)}, Name: "2.0.0"})
			return err
		}); err != nil {
			return nil, err
		}
	}
	return took, nil
}

// begin starts a run by hand, and does something as the runner that has its only job.
func (y *yard) begin(ctx context.Context, pipeline string,
	do func(cl *client.Client, attempt record.AttemptID) error) error {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	if _, err := y.cl.StartRun(ctx, "yard", api.StartRun{Pipeline: pipeline}); err != nil {
		return err
	}
	cl := client.New(y.host.Address, y.token)
	claimed, err := cl.Claim(ctx, api.ClaimRequest{Protocol: api.RunnerProtocol, Runner: "bench",
		Labels: []string{"linux"}, Slots: 1, Recipient: identity.Recipient().String(), WaitMs: 10_000})
	if err != nil || claimed.Work == nil {
		return fmt.Errorf("no work was handed out: %w", err)
	}
	attempt := claimed.Work.Attempt
	if err := do(cl, attempt); err != nil {
		return err
	}
	_, err = cl.Finish(ctx, attempt,
		api.Finish{State: "passed", At: time.Now().UnixMilli(), Caches: []api.CacheUse{}})
	return err
}

// bareCount is what somebody would write by hand.
func (y *yard) bareCount(ctx context.Context) (took []float64, err error) {
	for range 300 {
		began := time.Now()
		var n int64
		if err := y.db.QueryRowContext(ctx, `UPDATE version_lines SET last_build = last_build + 1 WHERE app = 'app'
			AND platform = 'ios' RETURNING last_build`).Scan(&n); err != nil {
			return nil, err
		}
		took = append(took, time.Since(began).Seconds()*1000)
	}
	return took, nil
}
