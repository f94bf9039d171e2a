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
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/plan"
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
		return fmt.Errorf("%w (%s): add this line to it, after it has read its input into a variable, piping that in:\n  %s", ErrOtherHook, file, call)
	}
	if err := os.MkdirAll(hooks, 0o755); err != nil {
		return err
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := write(filepath.Join(repo, settingsFile), text, 0o600); err != nil {
		return err
	}
	script := "#!/bin/sh\n" + mark + "; it tells the service which refs a push has changed\n" + call + "\n"
	return write(file, []byte(script), 0o755)
}

// write replaces a file whole or not at all.
func write(path string, text []byte, mode os.FileMode) error {
	half := path + ".new"
	if err := os.WriteFile(half, text, mode); err != nil {
		return err
	}
	return os.Rename(half, path)
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
	text, err := os.ReadFile(filepath.Join(repo, settingsFile))
	if err != nil {
		return fmt.Errorf("the hook's settings cannot be read; run piston project hook again: %w", err)
	}
	var s Settings
	if err := json.Unmarshal(text, &s); err != nil {
		return fmt.Errorf("%s is damaged; run piston project hook again: %w", settingsFile, err)
	}
	waiting, err := List(repo)
	if err != nil {
		return err
	}
	for _, w := range waiting {
		if send(ctx, s, w.Missed) == nil {
			_ = os.Remove(w.File)
		}
	}
	for part := range slices.Chunk(updates, maxUpdates) {
		m := Missed{Delivery: "push_" + rand.Text(), Event: api.PushEvent{Type: "push", Timestamp: time.Now().UTC(), Data: api.PushData{Updates: part}}}
		err := send(ctx, s, m)
		if err == nil {
			continue
		}
		if layErr := lay(repo, m); layErr != nil {
			return errors.Join(err, layErr)
		}
		fmt.Fprintf(told, "piston: %v\npiston: the push is safe and will be built as soon as the service is back\n", err)
	}
	return nil
}

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
func send(ctx context.Context, s Settings, m Missed) error {
	body, err := json.Marshal(m.Event)
	if err != nil {
		return err
	}
	return Send(ctx, s, m.Delivery, body)
}

// Send delivers an event, signed by the rules of Standard Webhooks (1.0.0).
func Send(ctx context.Context, s Settings, delivery string, body []byte) error {
	signer, err := standardwebhooks.NewWebhook(s.Key)
	if err != nil {
		return err
	}
	now := time.Now()
	signature, err := signer.Sign(delivery, now, body)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(standardwebhooks.HeaderWebhookID, delivery)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, fmt.Sprint(now.Unix()))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("the service at %s does not answer", s.Address)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 2000))
		return fmt.Errorf("the service did not take the push: %s: %s", res.Status, bytes.TrimSpace(text))
	}
	return nil
}

func lay(repo string, m Missed) error {
	dir := filepath.Join(repo, missedFolder)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return write(filepath.Join(dir, fmt.Sprintf("%d-%s.json", time.Now().UnixNano(), m.Delivery)), text, 0o600)
}

// Waiting is a missed report and the file it is in.
type Waiting struct {
	Missed
	File string
}

// List finds the reports that wait beside a repository, oldest first. Damaged ones are passed over.
func List(repo string) ([]Waiting, error) {
	files, err := filepath.Glob(filepath.Join(repo, missedFolder, "*.json"))
	if err != nil {
		return nil, err
	}
	sort.Strings(files)
	var list []Waiting
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		var m Missed
		if json.Unmarshal(text, &m) == nil && m.Delivery != "" {
			list = append(list, Waiting{m, file})
		}
	}
	return list, nil
}
