package cli

import (
	"bytes"
	"compress/gzip"
	_ "embed" // the licences
	"io"
)

// licences are those of all modules that the program is made of. packaging/supply writes the file.
//
//go:embed notices/licences.txt.gz
var licences []byte

// writeLicences writes them as text.
func writeLicences(w io.Writer) error {
	z, err := gzip.NewReader(bytes.NewReader(licences))
	if err != nil {
		return err
	}
	if _, err := io.Copy(w, z); err != nil {
		return cannotWrite(err)
	}
	return z.Close()
}
