package runner

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"gentlepiston.example/piston/core/artifact"
	"gentlepiston.example/piston/core/quantity"
)

// takeFiles puts what earlier jobs hand on into the workspace.
func (j *job) takeFiles(ctx context.Context) error {
	for _, take := range j.work.Takes {
		began := time.Now()
		from, name, _ := strings.Cut(take, "/")
		err := j.insist(ctx, "taking "+take, func() error {
			packed, err := j.post.Handover(ctx, j.work.Attempt, from, name)
			if err != nil {
				return err
			}
			defer packed.Close()
			return j.unpackTaken(packed)
		})
		if err != nil {
			return fmt.Errorf("taking %s: %w", take, err)
		}
		j.say(outside, "took %s in %s", take, milliseconds(time.Since(began)))
	}
	return nil
}

func (j *job) unpackTaken(packed io.Reader) error {
	unpacked, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer unpacked.Close()
	return unpack(j.root, j.account, unpacked, []string{"."})
}

// handFiles sends what later jobs may take. Everything that is named must be there.
func (j *job) handFiles(ctx context.Context) error {
	names := make([]string, 0, len(j.work.Job.Hand))
	for name := range j.work.Job.Hand {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		if err := j.handOne(ctx, name, j.work.Job.Hand[name].Files); err != nil {
			j.say(outside, "failed: handing on %q: %v", name, err)
			return fmt.Errorf("handing on %q: %w", name, err)
		}
	}
	return nil
}

func (j *job) handOne(ctx context.Context, name string, globs []string) error {
	began := time.Now()
	found, err := artifact.Find(j.root.FS(), globs)
	switch {
	case err != nil:
		return err
	case len(found.Refused) > 0:
		return errors.New(strings.Join(found.Refused, "; "))
	case len(found.Files) == 0:
		return fmt.Errorf("nothing matches %s; did a step write it elsewhere?", strings.Join(globs, ", "))
	}
	paths, size := make([]string, len(found.Files)), int64(0)
	for i, f := range found.Files {
		paths[i], size = f.Path, size+f.Size
	}
	err = j.insist(ctx, "handing on "+name, func() error {
		return j.sendPacked(ctx, bounded{"hand", j.limits.Hand}, paths, func(content io.Reader) error {
			return j.post.HandOver(ctx, j.work.Attempt, name, content)
		})
	})
	if err == nil {
		j.say(outside, "handed on %s: %s, %s, in %s", name, counted(len(paths)), quantity.Bytes(size),
			milliseconds(time.Since(began)))
	}
	return err
}

// sendPacked packs paths of the workspace while they are being sent, when they hold no secret and fit the limit.
func (j *job) sendPacked(ctx context.Context, most bounded, paths []string, send func(io.Reader) error) error {
	if err := j.holdNone(ctx, most, paths); err != nil {
		return err
	}
	reader, writer := io.Pipe()
	packed := make(chan error, 1)
	go func() {
		packer, err := zstd.NewWriter(writer, zstd.WithEncoderConcurrency(1))
		if err == nil {
			err = errors.Join(pack(ctx, j.root, packer, most, paths), packer.Close())
		}
		writer.CloseWithError(err)
		packed <- err
	}()
	err := send(reader)
	reader.CloseWithError(cmp.Or(err, io.ErrClosedPipe))
	if packErr := <-packed; packErr != nil && !errors.Is(packErr, io.ErrClosedPipe) &&
		(err == nil || !errors.Is(packErr, err)) {
		return packErr // why there was nothing to send
	}
	return err
}

func counted(files int) string {
	if files == 1 {
		return "1 file"
	}
	return fmt.Sprintf("%d files", files)
}
