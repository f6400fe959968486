// Package logbook keeps what runs leave behind: a folder beside the site file, with sheets,
// journals, scan results and host verdicts. What is in it decides what apply and undo do, so
// that it is only used where nobody else can write it.
package logbook

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

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

// Logbook is the logbook of one site. Its folder is opened when it is first needed, and used by its handle from then on.
type Logbook struct {
	dir string

	mu     sync.Mutex
	folder *disk.Private
}

// Open returns the logbook that belongs to a site file. It is made when first written to.
func Open(siteFile string) *Logbook { return &Logbook{dir: FolderOf(siteFile)} }

// Path returns where the logbook is.
func (l *Logbook) Path() string { return l.dir }

// denied tells Apache to hand out nothing of the folder, should it be where a server can see it.
const denied = "Require all denied\n"

// Ensure makes the folder. It fails with a *disk.Untrusted if somebody else can write it.
func (l *Logbook) Ensure() error {
	if err := disk.PrivateFolder(l.dir); err != nil {
		return err
	}
	folder, err := l.opened()
	if err != nil {
		return err
	}
	f, err := folder.OpenFile(".htaccess", os.O_WRONLY|os.O_CREATE)
	if err != nil {
		return err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || info.Size() == int64(len(denied)) {
		return err
	}
	_, err = f.WriteString(denied)
	return err
}

// opened returns the folder; it fails with fs.ErrNotExist if it is not there.
func (l *Logbook) opened() (*disk.Private, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.folder == nil {
		folder, err := disk.OpenPrivate(l.dir)
		if err != nil {
			return nil, err
		}
		l.folder = folder
	}
	return l.folder, nil
}

// open opens a file of the logbook for reading.
func (l *Logbook) open(name string) (*os.File, error) {
	folder, err := l.opened()
	if err != nil {
		return nil, err
	}
	return folder.Open(name)
}

// create begins a file that appears under its name only when Commit is called.
func (l *Logbook) create(name string) (*disk.Pending, error) {
	if err := l.Ensure(); err != nil {
		return nil, err
	}
	folder, err := l.opened()
	if err != nil {
		return nil, err
	}
	return folder.Create(name)
}

// NewSheet begins the sheet called id.
func (l *Logbook) NewSheet(id string) (*disk.Pending, error) { return l.create(id + sheetEnd) }

// OpenSheet and OpenJournal open the sheet or journal called id for reading.
func (l *Logbook) OpenSheet(id string) (*os.File, error)   { return l.open(id + sheetEnd) }
func (l *Logbook) OpenJournal(id string) (*os.File, error) { return l.open(id + journalEnd) }

// SheetPath and JournalPath return where the sheet or journal called id lies.
func (l *Logbook) SheetPath(id string) string   { return filepath.Join(l.dir, id+sheetEnd) }
func (l *Logbook) JournalPath(id string) string { return filepath.Join(l.dir, id+journalEnd) }

// Sheets, Journals and Scans list the names, the oldest first.
func (l *Logbook) Sheets() ([]string, error)   { return l.list(sheetEnd) }
func (l *Logbook) Journals() ([]string, error) { return l.list(journalEnd) }
func (l *Logbook) Scans() ([]string, error)    { return l.list(scanEnd) }

func (l *Logbook) list(end string) (out []string, err error) {
	folder, err := l.opened()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	names, err := folder.Names()
	for _, name := range names { // in order: names begin with the time
		if id, ok := strings.CutSuffix(name, end); ok {
			out = append(out, id)
		}
	}
	return out, err
}

// ScanName returns the file name of the scan called id.
func ScanName(id string) string { return id + scanEnd }

// OpenPages and OpenCrawl open the pages of the scan called id, when it has ended, and while it is
// at work or was interrupted; the latter for going on with it.
func (l *Logbook) OpenPages(id string) (*os.File, error) { return l.open(id + pagesEnd) }
func (l *Logbook) OpenCrawl(id string) (*os.File, error) {
	folder, err := l.opened()
	if err != nil {
		return nil, err
	}
	return folder.OpenFile(id+crawlEnd, os.O_RDWR)
}

// maxCrawls is how many logs of scans that were interrupted are kept.
const maxCrawls = 3

// NewCrawl begins the log of the scan called id. Of scans that were interrupted the newest stay.
func (l *Logbook) NewCrawl(id string) (*os.File, error) {
	if err := l.Ensure(); err != nil {
		return nil, err
	}
	old, err := l.Crawls()
	if err != nil {
		return nil, err
	}
	folder, err := l.opened()
	if err != nil {
		return nil, err
	}
	for _, o := range old[:max(0, len(old)-maxCrawls)] {
		if err := folder.Remove(o + crawlEnd); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return folder.OpenFile(id+crawlEnd, os.O_RDWR|os.O_CREATE|os.O_EXCL)
}

// NewPages begins the pages of the scan called id.
func (l *Logbook) NewPages(id string) (*disk.Pending, error) { return l.create(id + pagesEnd) }

// PagesPath and CrawlPath return where the pages of the scan called id lie, when it
// has ended and while it is at work.
func (l *Logbook) PagesPath(id string) string { return filepath.Join(l.dir, id+pagesEnd) }
func (l *Logbook) CrawlPath(id string) string { return filepath.Join(l.dir, id+crawlEnd) }

// Crawls lists the scans that were interrupted, the oldest first.
func (l *Logbook) Crawls() ([]string, error) { return l.list(crawlEnd) }
