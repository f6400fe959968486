package logbook

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/klauspost/compress/zstd"

	"trimlantern/core/change"
)

// Checked is what a check found out about one file of the logbook.
type Checked struct {
	Name  string
	State CheckState
	Err   error // why it is damaged
}

// CheckState is the outcome of a check.
type CheckState uint8

// The outcomes.
const (
	Sound     CheckState = iota // every byte is as it was written
	Older                       // written by a version without checksums: it can be read
	Torn                        // a journal whose last block an interrupted run did not write to its end
	DamagedIn                   // it is not as it was written
	Unchecked                   // it has no checksum: the working copy of a dump, a page for people, a scan at work
)

// Check reads every file of the logbook to its end and verifies it. It calls visit for each, in order of name.
func (l *Logbook) Check(visit func(Checked)) error {
	folder, err := l.opened()
	if missing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	names, err := folder.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		switch {
		case name == runLock, name == scanLock, name == changeLock, name == ".htaccess", strings.HasPrefix(name, ".trimlantern-"):
			continue
		}
		state, err := l.check(name)
		if err != nil {
			state = DamagedIn
		}
		visit(Checked{name, state, err})
	}
	return nil
}

func (l *Logbook) check(name string) (CheckState, error) {
	id := func(end string) string { return strings.TrimSuffix(name, end) }
	switch {
	case strings.HasSuffix(name, journalEnd):
		read, err := l.ReadJournal(id(journalEnd), func(change.Block) error { return nil })
		switch {
		case errors.Is(err, change.ErrTorn):
			return Torn, nil
		case err == nil && read.Older:
			return Older, nil
		}
		return Sound, err
	case strings.HasSuffix(name, sheetEnd):
		return Sound, l.reading(name, func(f *os.File) error {
			r, err := change.NewReader(f)
			if err != nil {
				return err
			}
			defer r.Close()
			return r.Each(change.Visit{Left: func(*change.Left) error { return nil }})
		})
	case strings.HasSuffix(name, pagesEnd):
		return Sound, l.reading(name, func(f *os.File) error {
			z, err := zstd.NewReader(f)
			if err != nil {
				return err
			}
			defer z.Close()
			_, err = io.Copy(io.Discard, z)
			return err
		})
	case strings.HasSuffix(name, copyEnd):
		b, err := l.read(name)
		if err == nil && change.Hash(b) != id(copyEnd) {
			err = ErrDamaged
		}
		return Sound, err
	case strings.HasSuffix(name, crawlEnd):
		return Sound, l.reading(name, func(f *os.File) error {
			for lines := bufio.NewReader(f); ; {
				line, err := lines.ReadBytes('\n')
				if errors.Is(err, io.EOF) {
					return nil // what comes after the last break is fetched once more
				}
				if err == nil {
					_, err = OpenLine(bytes.TrimSuffix(line, []byte("\n")))
				}
				if err != nil {
					return err
				}
			}
		})
	case name == diary:
		return Sound, l.Notes(func([]byte) {})
	case strings.HasSuffix(name, ".json"), name == clockFile, name == siteFile:
		b, err := l.read(name)
		if err != nil {
			return Sound, err
		}
		text, err := summed(b)
		if err == nil && len(text) == len(b) {
			return Older, jsonOnly(b)
		}
		return Sound, err
	}
	return Unchecked, nil
}

func (l *Logbook) reading(name string, read func(*os.File) error) error {
	f, err := l.open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := read(f); err != nil {
		return fmt.Errorf("%s in the logbook: %w", name, err)
	}
	return nil
}
