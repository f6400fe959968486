// Package logbook keeps what runs leave behind: a folder beside the site file, with sheets,
// journals, scan results and host verdicts. What is in it decides what apply and undo do, so
// that it is only used where nobody else can write it.
package logbook

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/gofrs/flock"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
)

// FolderOf returns the folder of the logbook that belongs to a site file. Two site files in one
// folder have a logbook each.
func FolderOf(siteFile string) string {
	name := strings.TrimSuffix(filepath.Base(siteFile), filepath.Ext(siteFile))
	if name == "trimlantern" {
		return filepath.Join(filepath.Dir(siteFile), ".trimlantern")
	}
	return filepath.Join(filepath.Dir(siteFile), "."+name+".trimlantern")
}

const (
	sheetEnd   = ".sheet.jsonl.zst"
	journalEnd = ".journal.jsonl.zst"
	scanEnd    = ".scan.json"
	pagesEnd   = ".pages.jsonl.zst"
	crawlEnd   = ".crawl.jsonl" // of a scan that is at work, or was interrupted
)

// Logbook is an open logbook.
type Logbook struct{ dir string }

// Open returns the logbook that belongs to a site file. It is made when first written to.
func Open(siteFile string) *Logbook { return &Logbook{FolderOf(siteFile)} }

// Path returns where the logbook lies.
func (l *Logbook) Path() string { return l.dir }

// denied tells Apache to hand out nothing of the folder, should it lie where a server can see it.
const denied = "Require all denied\n"

// Ensure makes the folder. It fails with a *disk.Untrusted where somebody else can write it.
func (l *Logbook) Ensure() error {
	if err := disk.PrivateFolder(l.dir); err != nil {
		return err
	}
	err := disk.CreateNew(filepath.Join(l.dir, ".htaccess"), []byte(denied), 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	return err
}

// open opens a file of the logbook for reading.
func (l *Logbook) open(name string) (*os.File, error) {
	if err := disk.TrustedFolder(l.dir); err != nil {
		return nil, err
	}
	return disk.Open(filepath.Join(l.dir, name))
}

// ErrBusy says that another run works on the site.
var ErrBusy = errors.New("another run is at work on this site")

// Lock keeps other runs out until release is called.
func (l *Logbook) Lock() (release func(), err error) {
	if err := l.Ensure(); err != nil {
		return nil, err
	}
	path := filepath.Join(l.dir, "lock")
	lock := flock.New(path, flock.SetPermissions(0o600))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !ok {
		if b, err := os.ReadFile(path); err == nil && len(b) > 0 {
			return nil, fmt.Errorf("%w (process %s)", ErrBusy, strings.TrimSpace(string(b)))
		}
		return nil, ErrBusy
	}
	if err := os.WriteFile(path, []byte(strconv.Itoa(os.Getpid())+"\n"), 0o600); err != nil {
		_ = lock.Unlock() // the failed write is what counts
		return nil, err
	}
	return func() { _ = lock.Unlock() }, nil // the process's end unlocks too
}

// Create makes a new file that appears under its name only when Commit is called.
func (l *Logbook) create(name string) (*disk.Pending, error) {
	if err := l.Ensure(); err != nil {
		return nil, err
	}
	return disk.Create(filepath.Join(l.dir, name), 0o600)
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// NewSheet begins the sheet called id.
func (l *Logbook) NewSheet(id string) (*disk.Pending, error) { return l.create(id + sheetEnd) }

// OpenSheet and OpenJournal open the sheet or journal called id for reading.
func (l *Logbook) OpenSheet(id string) (*os.File, error)   { return l.open(id + sheetEnd) }
func (l *Logbook) OpenJournal(id string) (*os.File, error) { return l.open(id + journalEnd) }

// copyEnd ends the names of copies of what other hosts serve.
const copyEnd = ".copy"

// KeepCopy keeps content under its hash.
func (l *Logbook) KeepCopy(hash string, b []byte) error {
	p, err := l.create(hash + copyEnd)
	if err != nil {
		return err
	}
	defer p.Discard()
	if _, err := p.Write(b); err != nil {
		return err
	}
	return p.Commit()
}

// Copy returns the content that is kept under a hash; nil where there is none, or another.
func (l *Logbook) Copy(hash string) ([]byte, error) {
	b, err := l.read(hash + copyEnd)
	if err != nil || change.Hash(b) != hash {
		return nil, err
	}
	return b, nil
}

// SheetPath and JournalPath return where the sheet or journal called id lies.
func (l *Logbook) SheetPath(id string) string   { return filepath.Join(l.dir, id+sheetEnd) }
func (l *Logbook) JournalPath(id string) string { return filepath.Join(l.dir, id+journalEnd) }

// Sheets, Journals and Scans list the names, the oldest first.
func (l *Logbook) Sheets() ([]string, error)   { return l.list(sheetEnd) }
func (l *Logbook) Journals() ([]string, error) { return l.list(journalEnd) }
func (l *Logbook) Scans() ([]string, error)    { return l.list(scanEnd) }

func (l *Logbook) list(end string) ([]string, error) {
	if err := disk.TrustedFolder(l.dir); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(l.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, e := range entries {
		if id, ok := strings.CutSuffix(e.Name(), end); ok {
			out = append(out, id)
		}
	}
	slices.Sort(out) // names begin with the time
	return out, nil
}

// WriteJSON keeps a result; ReadJSON reads it back.
func (l *Logbook) WriteJSON(name string, v any) error {
	p, err := l.create(name)
	if err != nil {
		return err
	}
	defer p.Discard()
	e := json.NewEncoder(p)
	e.SetIndent("", " ")
	if err := e.Encode(v); err != nil {
		return err
	}
	return p.Commit()
}

// ReadJSON reads what WriteJSON kept. A file that is not there leaves v as it is.
func (l *Logbook) ReadJSON(name string, v any) error {
	b, err := l.read(name)
	if err != nil || b == nil {
		return err
	}
	if err := json.Unmarshal(b, v); err != nil {
		return fmt.Errorf("%s in the logbook is broken: %w", name, err)
	}
	return nil
}

// read returns what a file holds; nil where there is none.
func (l *Logbook) read(name string) ([]byte, error) {
	f, err := l.open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(f)
	if b == nil {
		b = []byte{}
	}
	return b, err
}

// diary holds a line for each run that leaves nothing else behind.
const diary = "diary.jsonl"

// Note adds a line to the diary, through to the disk.
func (l *Logbook) Note(v any) error {
	if err := l.Ensure(); err != nil {
		return err
	}
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(l.dir, diary), os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	end := make([]byte, 1)
	if size, serr := f.Seek(0, io.SeekEnd); serr == nil && size > 0 {
		if _, rerr := f.ReadAt(end, size-1); rerr == nil && end[0] != '\n' { // a crash cut the last line off
			b = append([]byte{'\n'}, b...)
		}
	}
	_, err = f.Write(append(b, '\n'))
	return errors.Join(err, f.Sync(), f.Close())
}

// Notes reads the diary line by line. A line that a crash cut off is left out.
func (l *Logbook) Notes(visit func(line []byte)) error {
	b, err := l.read(diary)
	if err != nil {
		return err
	}
	for line := range bytes.Lines(b) {
		if json.Valid(line) {
			visit(line)
		}
	}
	return nil
}

// ScanName returns the file name of the scan called id.
func ScanName(id string) string { return id + scanEnd }

// OpenPages and OpenCrawl open the pages of the scan called id, when it has ended, and while it is
// at work or was interrupted; the latter for going on with it.
func (l *Logbook) OpenPages(id string) (*os.File, error) { return l.open(id + pagesEnd) }
func (l *Logbook) OpenCrawl(id string) (*os.File, error) {
	if err := disk.TrustedFolder(l.dir); err != nil {
		return nil, err
	}
	return os.OpenFile(l.CrawlPath(id), os.O_RDWR, 0)
}

// NewPages begins the pages of the scan called id.
func (l *Logbook) NewPages(id string) (*disk.Pending, error) { return l.create(id + pagesEnd) }

// PagesPath and CrawlPath return where the pages of the scan called id lie, when it
// has ended and while it is at work.
func (l *Logbook) PagesPath(id string) string { return filepath.Join(l.dir, id+pagesEnd) }
func (l *Logbook) CrawlPath(id string) string { return filepath.Join(l.dir, id+crawlEnd) }

// Crawls lists the scans that were interrupted, the oldest first.
func (l *Logbook) Crawls() ([]string, error) { return l.list(crawlEnd) }

// Journal is a journal open for writing.
type Journal struct{ f *os.File }

// CreateJournal begins a journal with its header, through to the disk.
func (l *Logbook) CreateJournal(h change.JournalHeader) (*Journal, error) {
	if err := l.Ensure(); err != nil {
		return nil, err
	}
	path := l.JournalPath(h.ID)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	slog.Debug("journal begun", "file", path)
	j := &Journal{f}
	if err := j.Append(change.Record{Header: change.NewJournalHeader(h)}); err != nil {
		f.Close()
		_ = os.Remove(path) // nothing is in it
		return nil, err
	}
	return j, syncDir(l.dir)
}

// ReopenJournal opens a journal to go on with it; end is where its last whole
// block ends, and what a crash left behind that is cut off.
func (l *Logbook) ReopenJournal(id string, end int64) (*Journal, error) {
	if err := disk.TrustedFolder(l.dir); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(l.JournalPath(id), os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	if err := f.Truncate(end); err != nil {
		f.Close()
		return nil, err
	}
	return &Journal{f}, nil
}

// Append writes records as one block, through to the disk.
func (j *Journal) Append(records ...change.Record) error {
	b, err := change.EncodeBlock(records...)
	if err != nil {
		return err
	}
	return j.AppendBlocks(b)
}

// AppendBlocks writes blocks that are encoded already, through to the disk.
func (j *Journal) AppendBlocks(blocks ...[]byte) error {
	for _, b := range blocks {
		if _, err := j.f.Write(b); err != nil {
			return err
		}
	}
	return j.f.Sync()
}

// Close closes the journal.
func (j *Journal) Close() error { return j.f.Close() }

// ReadJournal reads a journal block by block; see change.EachBlock.
func (l *Logbook) ReadJournal(id string, visit func(change.Block) error) (end int64, err error) {
	f, err := l.OpenJournal(id)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	return change.EachBlock(f, visit)
}
