package disk

import (
	"errors"
	"os"
	"path/filepath"
)

// RemoveAll removes a folder even when parts of it were made read-only.
func RemoveAll(dir string) error {
	err := os.RemoveAll(dir)
	if errors.Is(err, os.ErrPermission) {
		_ = filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if d != nil && d.IsDir() {
				_ = os.Chmod(path, 0o700)
			}
			return nil
		})
		err = os.RemoveAll(dir)
	}
	return err
}
