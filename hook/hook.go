// Package hook connects a bare Git repository with the service: it installs a post-receive hook, and reports what
// was pushed, signed by the rules of Standard Webhooks. A push is never refused because the service is away: the
// report is laid beside the repository, where the service and the next push find it.
package hook

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/logline"
	words "gentlepiston.example/piston/core/plain"
	"gentlepiston.example/piston/core/plan"
	"gentlepiston.example/piston/core/state"
)

const (
	settingsFile = "piston-hook.json"
	missedFolder = "piston-missed"
	mark         = "# made by piston"
)

// Settings is what the hook needs to know; it holds the signing key, so only its owner may read it.
type Settings struct {
	Address string `json:"address"` // where pushes are reported, whole
	Key     string `json:"key"`     // whsec_…
}

// ErrOtherHook says that the repository has a hook of somebody else's.
var ErrOtherHook = errors.New("the repository has a post-receive hook already")

// Install writes the hook into a bare repository. binary is the piston program it calls.
func Install(repo, binary string, s Settings) error {
	hooks := filepath.Join(repo, "hooks")
	file := filepath.Join(hooks, "post-receive")
	call := fmt.Sprintf("exec %s hook-report --repo \"$PWD\"", shellQuote(binary))
	before, err := os.ReadFile(file)
	if err == nil && !strings.Contains(string(before), mark) {
		return fmt.Errorf("%w (%s): add this line to it, after it has read its input into a variable, piping that in:\n  %s",
			ErrOtherHook, file, call)
	}
	if err := os.MkdirAll(hooks, 0o755); err != nil {
		return err
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	of, err := ownerOf(repo)
	if err != nil {
		return err
	}
	missed := filepath.Join(repo, missedFolder)
	if err := os.MkdirAll(missed, 0o700); err != nil {
		return err
	}
	if err := of.give(missed, 0o700); err != nil {
		return err
	}
	if err := write(filepath.Join(repo, settingsFile), text, of, 0o600); err != nil {
		return err
	}
	if err := of.tryAs(binary, repo); err != nil {
		return err
	}
	script := "#!/bin/sh\n" + mark + "; it tells the service which refs a push has changed\n" + call + "\n"
	return write(file, []byte(script), of, 0o755)
}

// write replaces a file whole or not at all.
func write(path string, text []byte, of owner, private os.FileMode) error {
	half := path + ".new"
	if err := os.WriteFile(half, text, private); err != nil {
		return err
	}
	if err := of.give(half, private); err != nil {
		return err
	}
	return os.Rename(half, path)
}

func readSettings(repo string) (s Settings, err error) {
	text, err := os.ReadFile(filepath.Join(repo, settingsFile))
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	if err != nil {
		err = fmt.Errorf("the hook's settings cannot be read; whoever may should run piston project hook again: %w", err)
	}
	return s, err
}

func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Missed is a report that waits beside a repository.
type Missed struct {
	Delivery string        `json:"delivery"`
	Event    api.PushEvent `json:"event"`
}

// Report reads the lines Git gives a post-receive hook (githooks(5)) and reports them, after any that waited.
// When the service does not take them they are laid down and told makes that known to whoever pushed.
func Report(ctx context.Context, repo string, input io.Reader, told io.Writer) error {
	updates, err := readUpdates(input)
	if err != nil || len(updates) == 0 {
		return err
	}
	s, err := readSettings(repo)
	if err != nil {
		// Nothing is built of this push unless somebody reads this.
		fmt.Fprintf(told, "piston: %sTHIS PUSH IS NOT BUILT: %v%s\n", red, err, plain)
		return ErrTold
	}
	waiting, err := List(repo)
	if err != nil && !errors.Is(err, ErrUnreadable) {
		return err
	}
	for _, w := range waiting {
		if _, err := send(ctx, s, w.Missed, 0); err == nil {
			_ = os.Remove(w.File)
		}
	}
	for part := range slices.Chunk(updates, maxUpdates) {
		m := Missed{Delivery: "push_" + rand.Text(),
			Event: api.PushEvent{Type: "push", Timestamp: time.Now().UTC(), Data: api.PushData{Updates: part}}}
		accepted, err := send(ctx, s, m, waitForRuns)
		if err == nil {
			tell(told, accepted)
			continue
		}
		if layErr := lay(repo, m); layErr != nil {
			fmt.Fprintf(told, "piston: %sTHIS PUSH IS NOT BUILT: %v; and it cannot be kept for later: %v%s\n", red, err, layErr,
				plain)
			return ErrTold
		}
		fmt.Fprintf(told, "piston: %v\npiston: the push is safe and will be built as soon as the service is back\n", err)
	}
	return nil
}

// waitForRuns is how long a push is kept waiting to be told which runs it has started.
const waitForRuns = 3 * time.Second

// runsTold is how many runs of a push are told one by one.
const runsTold = 8

// tell says to whoever pushed what has come of it; Git shows it as the remote's words.
func tell(told io.Writer, a api.PushAccepted) {
	switch {
	case !a.Planned && a.Note != "":
		fmt.Fprintf(told, "piston: this push is recorded, and cannot be planned yet: %s\n", oneLine(a.Note))
	case !a.Planned:
		fmt.Fprintln(told, "piston: this push is recorded; piston watch waits for its runs")
	case len(a.Runs) == 0:
		fmt.Fprintln(told, "piston: no pipeline starts on this push")
	}
	for i, r := range a.Runs {
		if i == runsTold {
			fmt.Fprintf(told, "piston: and %d more\n", len(a.Runs)-i)
			break
		}
		fmt.Fprintf(told, "piston: run %d of %s: %s\n", r.Number, r.Pipeline, r.Page)
		if r.State == state.Failed {
			fmt.Fprintf(told, "piston:   %s%s: %s%s\n", red, r.State, oneLine(r.Reason), plain)
		}
	}
}

// Red words and the end of them (ECMA-48, SGR): a terminal at the other end shows what must not be missed.
const red, plain = "\x1b[31m", "\x1b[0m"

// maxUpdates is how many refs the service takes in one report.
const maxUpdates = 1000

func readUpdates(input io.Reader) ([]plan.RefUpdate, error) {
	var updates []plan.RefUpdate
	lines := bufio.NewScanner(input)
	for lines.Scan() {
		parts := strings.SplitN(lines.Text(), " ", 3)
		if len(parts) != 3 {
			return nil, fmt.Errorf("this is no line of a post-receive hook: %.100q", lines.Text())
		}
		updates = append(updates, plan.RefUpdate{Before: parts[0], After: parts[1], Ref: parts[2]})
	}
	return updates, lines.Err()
}

// send reports one push.
func send(ctx context.Context, s Settings, m Missed, wait time.Duration) (api.PushAccepted, error) {
	body, err := json.Marshal(m.Event)
	if err != nil {
		return api.PushAccepted{}, err
	}
	return Send(ctx, s, m.Delivery, body, wait)
}

// Send delivers an event, signed by the rules of Standard Webhooks (1.0.0). The answer waits a while for the runs.
func Send(ctx context.Context, s Settings, delivery string, body []byte, wait time.Duration) (a api.PushAccepted,
	err error) {
	signer, err := standardwebhooks.NewWebhook(s.Key)
	if err != nil {
		return a, err
	}
	now := time.Now()
	signature, err := signer.Sign(delivery, now, body)
	if err != nil {
		return a, err
	}
	ctx, cancel := context.WithTimeout(ctx, wait+5*time.Second)
	defer cancel()
	to := fmt.Sprintf("%s?wait_ms=%d", s.Address, wait.Milliseconds())
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return a, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(standardwebhooks.HeaderWebhookID, delivery)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, fmt.Sprint(now.Unix()))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return a, fmt.Errorf("the service at %s does not answer", s.Address)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 2000))
		return a, fmt.Errorf("the service did not take the push: %s: %s", res.Status, bytes.TrimSpace(text))
	}
	// It is taken; what comes of it is a courtesy, which an older service does not know.
	if json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&a) != nil {
		a = api.PushAccepted{}
	}
	return a, nil
}

// ErrTold says that something went wrong and whoever pushed has been told.
var ErrTold = errors.New("the push was not reported")

func lay(repo string, m Missed) error {
	of, err := ownerOf(repo)
	if err != nil {
		return err
	}
	dir := filepath.Join(repo, missedFolder)
	if err := os.MkdirAll(dir, of.mode(0o700)); err != nil {
		return err
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return write(filepath.Join(dir, fmt.Sprintf("%d-%s.json", time.Now().UnixNano(), m.Delivery)), text, of, 0o600)
}

// Waiting is a missed report and the file it is in.
type Waiting struct {
	Missed
	File string
}

// ErrUnreadable says that there are reports which this account cannot read.
var ErrUnreadable = errors.New("reports of pushes cannot be read")

// List finds the reports that wait beside a repository, oldest first. Damaged ones are passed over. With ErrUnreadable
// come those that can be read.
func List(repo string) ([]Waiting, error) {
	entries, err := os.ReadDir(filepath.Join(repo, missedFolder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	var list []Waiting
	var unread error
	for _, e := range entries { // by name, which begins with the time
		file := filepath.Join(repo, missedFolder, e.Name())
		if filepath.Ext(file) != ".json" {
			continue
		}
		text, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrPermission) {
			unread = fmt.Errorf("%w: %w", ErrUnreadable, err)
		}
		if err != nil {
			continue
		}
		var m Missed
		if json.Unmarshal(text, &m) == nil && m.Delivery != "" {
			list = append(list, Waiting{m, file})
		}
	}
	return list, unread
}

// oneLine is a text of the service for a terminal: what has come with a push others may have written.
func oneLine(text string) string { return words.Line(logline.Plain(text)) }
