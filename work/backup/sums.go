package backup

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
)

// sumsFile holds the checksums of a backup's files, in the form that `sha256sum -c` reads.
const sumsFile = "SHA256SUMS"

// maxSums bounds it: a backup has two files.
const maxSums = 1 << 16

// sum returns the SHA-256 of a file, in hexadecimal.
func sum(file string) (string, error) {
	f, err := disk.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// writeSums writes the checksums of the files of a backup beside them, and returns the hash of that list.
func writeSums(folder string, files ...string) (hash string, err error) {
	var out bytes.Buffer
	for _, file := range files {
		if file == "" {
			continue
		}
		s, err := sum(file)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&out, "%s  %s\n", s, filepath.Base(file))
	}
	return change.Hash(out.Bytes()), disk.CreateNew(filepath.Join(folder, sumsFile), out.Bytes(), 0o600)
}

// errSums says that a backup is not as it was written.
var errSums = errors.New("it is damaged: a checksum does not fit")

// Verify reads a backup again, to its last byte. older is true for one of a version without checksums. at is told which
// file is read.
func Verify(b *BackedUp, at func(name string)) (older bool, err error) {
	if b.Sums == "" {
		return true, nil
	}
	list, err := disk.Read(filepath.Join(b.Folder, sumsFile), maxSums)
	if err != nil {
		return false, err
	}
	if change.Hash(list) != b.Sums {
		return false, fmt.Errorf("%s: %w", sumsFile, errSums)
	}
	for line := range strings.Lines(string(list)) {
		want, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		at(name)
		got, err := sum(filepath.Join(b.Folder, filepath.Base(name)))
		if err != nil {
			return false, err
		}
		if got != want {
			return false, fmt.Errorf("%s: %w", name, errSums)
		}
	}
	return false, nil
}
