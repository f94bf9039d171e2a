package runner

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/core/definition"
)

// BenchmarkStepWithSecrets is what fifty secrets, half of them files, cost before and after a step.
func BenchmarkStepWithSecrets(b *testing.B) {
	secrets := map[string]string{}
	step := &definition.Step{Script: "true"}
	for i := range 50 {
		name := fmt.Sprintf("S%02d", i)
		secrets[name] = fmt.Sprintf("a value of secret %d", i)
		step.Secrets = append(step.Secrets, name)
	}
	j := testJob(b, secrets)
	if err := errors.Join(j.makeEtc(), os.MkdirAll(filepath.Join(j.build, "tmp"), 0o755)); err != nil {
		b.Fatal(err)
	}
	for i := range 25 {
		j.work.SecretKinds[fmt.Sprintf("S%02d", i)] = string(api.FileSecret)
	}
	for b.Loop() {
		spec, err := j.prepareStep(0, step)
		if err != nil {
			b.Fatal(err)
		}
		cmd, err := j.command(spec)
		if err != nil {
			b.Fatal(err)
		}
		if err := cmd.Run(); err != nil {
			b.Fatal(err)
		}
		if err := spec.cleanUp(); err != nil {
			b.Fatal(err)
		}
	}
}
