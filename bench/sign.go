package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/archive"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/record"
)

const signatures = 200 // all of them within a lease, which nobody renews here

// signing measures signing an APK beside Debian's apksigner, looking into one, and signatures that the service gives
// beside the same key in memory.
func signing(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "piston-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for _, megabytes := range []int{100, 1000} {
		if err := signPackage(ctx, dir, megabytes); err != nil {
			return err
		}
	}
	y, err := openYard(ctx)
	if y != nil {
		defer y.close()
	}
	if err != nil {
		return err
	}
	for _, kind := range []identity.Algorithm{identity.RSA4096, identity.RSA3072, identity.P256} {
		if err := y.signatures(ctx, kind); err != nil {
			return err
		}
	}
	return nil
}

// signPackage has one package signed by both, in turns.
func signPackage(ctx context.Context, dir string, megabytes int) error {
	apk := filepath.Join(dir, fmt.Sprintf("%d.apk", megabytes))
	if err := makePackage(ctx, dir, apk, megabytes); err != nil {
		return err
	}
	key := filepath.Join(dir, "key.p12")
	s, err := identity.Make(identity.RSA3072, "Bench", 30, time.Now())
	if err != nil {
		return err
	}
	file, err := identity.Export(s, "the ebb and the flood")
	if err != nil {
		return err
	}
	if err := os.WriteFile(key, file, 0o600); err != nil {
		return err
	}
	var ours, theirs, look []float64
	memory := int64(0)
	for range max(1, 300/megabytes) + 1 {
		out := filepath.Join(dir, "out")
		took, used, err := timed(ctx, os.Getenv("PISTON_BINARY"), "sign", "--key", key, "--into", out, apk)
		if err != nil {
			return err
		}
		ours, memory = append(ours, took), max(memory, used)
		signed := filepath.Join(out, filepath.Base(apk))
		if took, _, err = timed(ctx, os.Getenv("PISTON_BINARY"), "inspect", "--json", signed); err != nil {
			return err
		}
		look = append(look, took)
		if err := os.RemoveAll(out); err != nil {
			return err
		}
		if took, _, err = timed(ctx, "apksigner", "sign", "--ks", key, "--ks-pass", "pass:the ebb and the flood",
			"--v4-signing-enabled", "false", "--out", filepath.Join(dir, "theirs.apk"), apk); err != nil {
			return err
		}
		theirs = append(theirs, took)
	}
	report(fmt.Sprintf("piston sign, an APK of %d MB", megabytes), ours, "ms")
	report("apksigner sign, the same", theirs, "ms")
	fmt.Printf("  %.2f times the time; wanted: at most 0.25. Memory %d MB; wanted: under 60\n",
		median(ours)/median(theirs), memory>>20)
	report(fmt.Sprintf("piston inspect, an APK of %d MB", megabytes), look, "ms")
	return os.Remove(apk)
}

// makePackage makes one of libraries that are stored and assets that are packed, for Android from 6 on: it needs every
// scheme.
func makePackage(ctx context.Context, dir, name string, megabytes int) error {
	text := `<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="net.tidewick.bench"
		android:versionCode="1" android:versionName="1"><uses-sdk android:minSdkVersion="23"/>
		<application android:hasCode="false"/></manifest>`
	manifest, small := filepath.Join(dir, "AndroidManifest.xml"), filepath.Join(dir, "small.apk")
	if err := os.WriteFile(manifest, []byte(text), 0o600); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, "aapt", "package", "-f", "-M", manifest, "-I",
		"/usr/share/android-framework-res/framework-res.apk", "-F", small)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("aapt: %w: %s", err, out)
	}
	b, err := os.ReadFile(small)
	if err != nil {
		return err
	}
	a, err := archive.Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return err
	}
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	w := archive.NewWriter(f)
	for _, e := range a.Entries() {
		if err := w.Copy(a, e, 4); err != nil {
			return err
		}
	}
	noise, r := make([]byte, 10<<20), rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	for i := range megabytes / 10 {
		noise[i] ^= 1
		path, pack := fmt.Sprintf("lib/arm64-v8a/libtide%d.so", i), false
		if i%4 == 3 {
			path, pack = fmt.Sprintf("assets/tide%d.bin", i), true
		}
		if err := w.AddFile(path, bytes.NewReader(noise), 0o644, pack); err != nil {
			return err
		}
	}
	return errors.Join(w.Close(), f.Sync())
}

// timed runs a program once and tells how long it took, and the most memory it had.
func timed(ctx context.Context, name string, args ...string) (ms float64, memory int64, err error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin, cmd.Stdout = strings.NewReader("the ebb and the flood\n"), io.Discard
	var said bytes.Buffer
	cmd.Stderr = &said
	began := time.Now()
	if err := cmd.Run(); err != nil {
		return 0, 0, fmt.Errorf("%s %s: %w: %s", filepath.Base(name), args[0], err, said.String())
	}
	usage := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	return time.Since(began).Seconds() * 1000, usage.Maxrss << 10, nil
}

// signatures measures those that a runner asks the service for over loopback, one by one and four at a time.
func (y *yard) signatures(ctx context.Context, kind identity.Algorithm) error {
	name := string(kind)
	i, err := y.cl.SetIdentity(ctx, "yard", name, api.NewIdentity{Platform: "android",
		Make:     &api.MakeKey{Algorithm: kind, Name: name, Years: 30},
		Settings: &api.IdentitySettings{Apps: &[]string{"net.tidewick." + name}}})
	if err != nil {
		return err
	}
	key, err := identity.Make(kind, name, 30, time.Now())
	if err != nil {
		return err
	}
	var one, bare []float64
	return y.begin(ctx, "sign", func(cl *client.Client, attempt record.AttemptID) error {
		sign := func() error {
			sum := sha256.Sum256([]byte(name))
			_, err := cl.Sign(ctx, attempt, api.SignatureRequest{IdentityRequest: api.IdentityRequest{Platform: "android",
				App: "net.tidewick." + name}, Identity: i.Name, Revision: i.Revision, File: "bench.apk", Hash: "sha256",
				Digest: sum[:]})
			return err
		}
		for range signatures {
			began := time.Now()
			if err := sign(); err != nil {
				return err
			}
			one = append(one, time.Since(began).Seconds()*1000)
			began = time.Now()
			if _, err := key.Over([]byte(name)); err != nil {
				return err
			}
			bare = append(bare, time.Since(began).Seconds()*1000)
		}
		report("signature by the service, "+name, one, "ms")
		report("the same with a key in memory", bare, "ms")
		var all sync.WaitGroup
		errs := make([]error, 4)
		began := time.Now()
		for n := range errs {
			all.Go(func() {
				for range signatures / len(errs) {
					errs[n] = errors.Join(errs[n], sign())
				}
			})
		}
		all.Wait()
		if err := errors.Join(errs...); err != nil {
			return err
		}
		fmt.Printf("  %.0f a second, four at a time; wanted: 100\n", signatures/time.Since(began).Seconds())
		return nil
	})
}
