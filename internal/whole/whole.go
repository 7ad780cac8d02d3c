// Package whole writes files that are whole whenever the machine goes down.
package whole

import (
	"errors"
	"os"
	"path/filepath"
)

// Write leaves the file as it was, or with all of data, on disk. Nobody but its owner
// may read it.
func Write(file string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(data) // of mode 0600, as every temporary file
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	if err := os.Rename(f.Name(), file); err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	dir, err := os.Open(filepath.Dir(file))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
