package bundle

import (
	"fmt"
	"io"
	"io/fs"
	"path"

	"gentlepiston.example/piston/core/archive"
)

// Pack writes a signed app as an IPA: an archive in which it lies in the folder Payload, under its name. The same app
// gives the same bytes.
func Pack(app fs.FS, name string, out io.Writer) error {
	w := archive.NewWriter(out)
	err := fs.WalkDir(app, ".", func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if !d.Type().IsRegular() {
			return fmt.Errorf("%s is no file: an app of iOS holds files and folders only", at)
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		f, err := app.Open(at)
		if err != nil {
			return err
		}
		defer f.Close()
		content, ok := f.(io.ReadSeeker)
		if !ok {
			return fmt.Errorf("%s cannot be read twice", at)
		}
		const file, program = 0o100644, 0o100755 // inode(7), S_IFREG
		mode := uint32(file)
		if info.Mode()&0o111 != 0 {
			mode = program
		}
		return w.AddFile(path.Join("Payload", name, at), content, mode, true)
	})
	if err != nil {
		return err
	}
	return w.Close()
}
