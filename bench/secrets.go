package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/mask"
)

const (
	maskRounds  = 5
	maskSecrets = 200
	maskBytes   = 512 << 20
	secretSteps = 60
	manySecrets = 50
)

// mask measures the hiding of 200 secrets in half a gibibyte of a build's log, beside cat of the same file.
func (b *bench) mask(ctx context.Context) error {
	file := filepath.Join(b.home, "log.txt")
	defer os.Remove(file)
	if err := writeLog(file); err != nil {
		return err
	}
	values := make([]mask.Value, maskSecrets)
	for i := range values {
		values[i] = mask.Value{Name: fmt.Sprint(i),
			Text: []byte(fmt.Sprintf("tok_%d_%x", i, time.Unix(int64(i)*977, 0).UnixNano()))}
	}
	began := time.Now()
	masker := mask.New(values...)
	made := time.Since(began)
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1)) // one core
	fmt.Printf("\nhiding %d secrets in %d MiB of a log, on one core (the masker was made in %.1f ms)\n", maskSecrets,
		maskBytes>>20, made.Seconds()*1000)
	for range maskRounds {
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		began := time.Now()
		w := masker.Writer(func(p []byte) { _, _ = io.Discard.Write(p) })
		_, err = io.CopyBuffer(w, struct{ io.Reader }{f}, make([]byte, 64<<10))
		w.Flush()
		ours := time.Since(began)
		f.Close()
		if err != nil {
			return err
		}
		cat := exec.CommandContext(ctx, "cat", file)
		cat.Stdout = pipeToNothing()
		began = time.Now()
		if err := cat.Run(); err != nil {
			return err
		}
		byHand := time.Since(began)
		rate := func(d time.Duration) float64 { return maskBytes / d.Seconds() / 1e6 }
		fmt.Printf("  piston %6.0f MB/s   cat %6.0f MB/s   ratio %.2f\n", rate(ours), rate(byHand),
			ours.Seconds()/byHand.Seconds())
	}
	fmt.Println("  wanted: at least 400 MB/s")
	return nil
}

// pipeToNothing is a writer that makes cat write into a pipe, as a step does.
func pipeToNothing() io.Writer { return struct{ io.Writer }{io.Discard} }

func writeLog(name string) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	var chunk strings.Builder
	for i := 0; chunk.Len() < 1<<20; i++ {
		fmt.Fprintf(&chunk, "2026-11-25T04:%02d:%02dZ clang -std=gnu11 -O2 -Wall -c -o out/obj/unit_%d.o core/unit_%d.c  "+
			"# \x1b[32mok\x1b[0m\n"[:96+i%9], i/60%60, i%60, i, i*7)
		chunk.WriteByte('\n')
	}
	for written := 0; written < maskBytes; {
		n, err := f.WriteString(chunk.String()[:min(chunk.Len(), maskBytes-written)])
		if err != nil {
			return err
		}
		written += n
	}
	return f.Close()
}

// secrets measures the start of a step that gets fifty secrets, half of them files, beside one that gets none.
func (b *bench) secrets(ctx context.Context) error {
	var names []string
	for i := range manySecrets {
		name := fmt.Sprintf("BENCH_%02d", i)
		kind := []api.SecretKind{api.TextSecret, api.FileSecret}[i%2]
		if _, err := b.cl.SetSecret(ctx, "tidewick", name,
			api.NewSecret{Kind: kind,
				Value: []byte(fmt.Sprintf("a value of secret %d, as long as such values are", i))}); err != nil {
			return err
		}
		names = append(names, fmt.Sprintf("%q", name))
	}
	var file strings.Builder
	for i := range secretSteps {
		fmt.Fprintf(&file, "[[job.a.step]]\nname = \"none %d\"\nscript = \"true\"\n[[job.a.step]]\nname = \"fifty "+
			"%d\"\nscript = \"true\"\nsecrets = [%s]\n", i, i, strings.Join(names, ", "))
	}
	if err := b.offer(ctx, "fifty", file.String()); err != nil {
		return err
	}
	fmt.Printf("\na step with %d secrets beside one with none, %d of each in turn\n", manySecrets, secretSteps)
	for range emptyRuns {
		d, err := b.passed(ctx, "fifty")
		if err != nil {
			return err
		}
		took := map[bool][]float64{}
		for _, s := range d.Jobs[0].Steps {
			many := strings.HasPrefix(s.Name, "fifty")
			took[many] = append(took[many], s.Finished.Sub(*s.Started).Seconds()*1000)
		}
		mean := func(list []float64) (sum float64) {
			sort.Float64s(list)
			list = list[:len(list)*9/10] // what a noisy machine does to a few says nothing
			for _, v := range list {
				sum += v / float64(len(list))
			}
			return sum
		}
		none, fifty := mean(took[false]), mean(took[true])
		fmt.Printf("  none %5.2f ms   fifty %5.2f ms   more by %5.2f ms\n", none, fifty, fifty-none)
	}
	fmt.Println("  wanted: at most 2 ms more")
	return nil
}
