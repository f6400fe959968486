// Package files walks the text files of a site: themes, plugins, templates.
package files

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// endings are the endings of files that write or style pages.
var endings = map[string]bool{
	".php": true, ".phtml": true, ".inc": true, ".html": true, ".htm": true, ".xhtml": true, ".tpl": true, ".twig": true, ".tmpl": true,
	".css": true, ".scss": true, ".less": true, ".js": true, ".mjs": true, ".svg": true, ".json": true, ".xml": true,
}

// maxSize bounds the files that are read.
const maxSize = 8 << 20

// Skipped is a file that was not read, and why.
type Skipped struct{ Path, Why string }

// Walk calls visit for each text file below dir, in order of name. Symbolic
// links are not followed.
func Walk(dir string, visit func(path string, b []byte) error) (skipped []Skipped, err error) {
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil && path == dir:
			return err
		case err != nil:
			skipped = append(skipped, Skipped{path, err.Error()})
			return nil
		case !d.Type().IsRegular() || !endings[strings.ToLower(filepath.Ext(path))]:
			return nil
		}
		if info, err := d.Info(); err == nil && info.Size() > maxSize {
			skipped = append(skipped, Skipped{path, "larger than 8 MB"})
			return nil
		}
		b, err := os.ReadFile(path)
		if err != nil {
			var pe *fs.PathError
			if errors.As(err, &pe) {
				err = pe.Err
			}
			skipped = append(skipped, Skipped{path, err.Error()})
			return nil
		}
		if bytes.IndexByte(b, 0) >= 0 {
			return nil // binary
		}
		return visit(path, b)
	})
	return skipped, err
}

// Line returns the number of the line, from 1, in which an offset lies.
func Line(b []byte, offset int) int {
	return 1 + bytes.Count(b[:min(offset, len(b))], []byte("\n"))
}

// Column returns the place in the line, from 1, in bytes.
func Column(b []byte, offset int) int {
	offset = min(offset, len(b))
	return offset - bytes.LastIndexByte(b[:offset], '\n')
}

// Text returns the line in which an offset lies, without the spaces around it, cut
// around the offset where it is long.
func Text(b []byte, offset int) string {
	const most = 160
	offset = min(offset, len(b))
	from := bytes.LastIndexByte(b[:offset], '\n') + 1
	to := len(b)
	if n := bytes.IndexByte(b[offset:], '\n'); n >= 0 {
		to = offset + n
	}
	if offset-from > most/2 {
		from = offset - most/2
	}
	if to-from > most {
		to = from + most
	}
	return string(bytes.TrimSpace(b[from:to]))
}
