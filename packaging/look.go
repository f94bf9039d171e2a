package packaging

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"

	"gentlepiston.example/piston/core/appfile"
)

// Looking says how closely a package is looked at.
type Looking struct {
	Search  bool // read all of it, for what is not for people
	Sum     bool // and take its SHA-256
	Symbols []appfile.Symbols
}

// Inspect looks into a package. What is in it cannot be read any more afterwards.
func Inspect(ctx context.Context, name string, how Looking) (p *appfile.Package, sum string, err error) {
	f, size, err := open(name)
	if err != nil {
		return nil, "", err
	}
	defer f.Close()
	if p, err = appfile.Open(f, size); err != nil {
		return nil, "", err
	}
	if how.Search {
		if err := p.Search(ctx); err != nil {
			return nil, "", err
		}
	}
	if len(how.Symbols) > 0 {
		p.Match(how.Symbols)
	}
	if how.Sum {
		sum, err = sumOf(f, size)
	}
	return p, sum, err
}

// open opens what is a file: of what is none, such as a pipe, one would wait for the other end.
func open(name string) (*os.File, int64, error) {
	info, err := os.Stat(name)
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is no file")
	}
	if err != nil {
		return nil, 0, err
	}
	f, err := os.Open(name)
	return f, info.Size(), err
}

// Sum is the SHA-256 of a file, hexadecimal.
func Sum(name string) (string, error) {
	f, size, err := open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return sumOf(f, size)
}

func sumOf(f io.ReaderAt, size int64) (string, error) {
	h := sha256.New()
	_, err := io.Copy(h, io.NewSectionReader(f, 0, size))
	return hex.EncodeToString(h.Sum(nil)), err
}

// ReadSymbols reads files of symbols. Others that lie beside them are passed by; it is an error when all are.
func ReadSymbols(files []string) (list []appfile.Symbols, err error) {
	for _, name := range files {
		if info, err := os.Stat(name); err == nil && info.IsDir() {
			continue // of an app
		}
		s, is, err := readSymbols(name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if is {
			list = append(list, s)
		}
	}
	if len(list) == 0 {
		err = fmt.Errorf("none of %d files has symbols: neither programs, nor libraries, nor a mapping", len(files))
	}
	return list, err
}

func readSymbols(name string) (s appfile.Symbols, is bool, err error) {
	f, size, err := open(name)
	if err != nil {
		return s, false, err
	}
	defer f.Close()
	if s, is = appfile.ReadSymbols(f, size); !is {
		return s, false, nil
	}
	s.Path = name
	s.SHA256, err = sumOf(f, size)
	return s, true, err
}
