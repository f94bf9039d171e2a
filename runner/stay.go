package runner

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/record"
	"gentlepiston.example/piston/runner/beside"
)

// visits are the shells that are open in a workspace.
type visits struct {
	*job
	going sync.WaitGroup
	mu    sync.Mutex
	open  map[record.ShellID]bool
}

// stay leaves the job's workspace standing for as long as the service says, and opens it to those it names.
func (v *visits) stay(ctx context.Context) {
	if !v.standing.add() {
		v.gone(fmt.Sprintf("on runner %s %d workspaces stay already", v.Name, mostStanding))
		return
	}
	defer v.standing.remove()
	log := v.attempt.Log
	log.Info("its workspace stays for a look around")
	life, end := context.WithCancelCause(ctx)
	defer end(nil)
	overLimit := func(what, most string) { end(fmt.Errorf("its limit of %s was reached: %s", what, most)) }
	defer beside.Do(life, func(ctx context.Context) {
		v.files.WatchDisk(ctx, &v.use, v.limits.Disk, func(why string) { overLimit("disk", why) })
	})()
	defer beside.Do(life, func(ctx context.Context) { v.box.Watch(ctx, overLimit) })()
	over := v.receive(life)
	cause := context.Cause(life)
	end(nil)
	v.going.Wait()
	if !over {
		if cause == nil || errors.Is(cause, context.Canceled) {
			cause = fmt.Errorf("runner %s is ending", v.Name)
		}
		v.gone(cause.Error())
	}
	log.Info("its workspace stays no longer")
}

// gone tells the service that the workspace is no longer there.
func (v *visits) gone(why string) {
	ctx, cancel := context.WithTimeout(context.Background(), goneWithin)
	defer cancel()
	_, err := v.Client.BeatStay(ctx, v.attempt.ID(), api.StayBeat{Gone: v.attempt.Hide(why), Open: []record.ShellID{}})
	if err != nil && !errors.Is(err, client.ErrGone) {
		v.attempt.Log.Warn("that a workspace stays no longer could not be told", "error", err)
	}
}

// goneWithin bounds what a runner takes to say so; the service finds out by itself, too.
const goneWithin = 3 * time.Second

// receive asks the service who wants in, and lets them; true when the service says that it is over.
func (v *visits) receive(life context.Context) (over bool) {
	until := time.Now().Add(time.Minute) // before the first answer
	for life.Err() == nil {
		// The client tries for long what fails; a workspace stays no longer than it was told.
		asking, done := context.WithDeadline(life, until)
		news, err := v.Client.BeatStay(asking, v.attempt.ID(),
			api.StayBeat{Recipient: v.identity.Recipient().String(), Open: v.known()})
		done()
		switch {
		case errors.Is(err, client.ErrGone), errors.Is(err, client.ErrNotFound):
			return true
		case err != nil:
			if time.Now().After(until) {
				return true
			}
			beside.Pause(life, time.Second)
			continue
		case news.Over:
			return true
		}
		until = time.Now().Add(time.Duration(news.LeftMs) * time.Millisecond)
		for _, wanted := range news.Shells {
			v.note(wanted.ID, true)
			v.going.Go(func() {
				defer v.note(wanted.ID, false)
				if err := v.visit(life, wanted); err != nil && life.Err() == nil {
					v.attempt.Log.Warn("a shell has failed", "shell", wanted.ID, "error", err)
				}
			})
		}
	}
	return false
}

func (v *visits) note(id record.ShellID, open bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if open {
		v.open[id] = true
	} else {
		delete(v.open, id)
	}
}

func (v *visits) known() []record.ShellID {
	v.mu.Lock()
	defer v.mu.Unlock()
	list := []record.ShellID{}
	for id := range v.open {
		list = append(list, id)
	}
	return list
}
