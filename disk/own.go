package disk

import (
	"os"
	"path/filepath"
)

// WriteOwn writes a file only its owner can read, whole or not at all. Its folder is made when there is none.
func WriteOwn(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	half := path + ".new"
	if err := os.WriteFile(half, text, 0o600); err != nil {
		return err
	}
	return os.Rename(half, path)
}
