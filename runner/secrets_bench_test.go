package runner

import (
	"fmt"
	"io"
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
	for i := range 25 {
		j.attempt.Work.SecretKinds[fmt.Sprintf("S%02d", i)] = string(api.FileSecret)
	}
	for b.Loop() {
		spec, err := j.carrying().Prepare(0, step, step.Script)
		if err != nil {
			b.Fatal(err)
		}
		if code, err := j.box.Run(b.Context(), spec, func(output io.Reader) { _, _ = io.Copy(io.Discard, output) }); err != nil || code != 0 {
			b.Fatal(code, err)
		}
		if err := spec.CleanUp(); err != nil {
			b.Fatal(err)
		}
	}
}
