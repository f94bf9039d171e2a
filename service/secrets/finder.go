package secrets

import (
	"gentlepiston.example/piston/core/mask"
	"gentlepiston.example/piston/store"
)

// Finder opens secrets to look for them.
func (s *Secrets) Finder(list []store.Secret) (*mask.Masker, error) {
	values := make([]mask.Value, len(list))
	for i, v := range list {
		plain, err := s.vault.Open(v.Ciphertext)
		if err != nil {
			return nil, err
		}
		values[i] = mask.Value{Name: v.Name, Text: plain}
	}
	return mask.Finder(values...), nil
}
