package scan

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/zstd"

	"trimlantern/core/coverage"
	"trimlantern/outside/disk"
	"trimlantern/outside/fetch"
	"trimlantern/outside/logbook"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// errRobots says that robots.txt keeps us out.
var errRobots = errors.New("robots.txt forbids it")

// crawlLine is one line of a crawl's log: what became of one job. A scan is counted
// from these lines alone, so that one that was interrupted can go on.
type crawlLine struct {
	Scan    *findings.Scan        `json:"scan,omitempty"` // the first line
	Job     *fetch.Job            `json:"job,omitempty"`
	Doc     *findings.ScannedPage `json:"doc,omitempty"`
	Next    []fetch.Job           `json:"next,omitempty"` // what was found there first
	Broken  *findings.Unread      `json:"broken,omitempty"`
	Outward int                   `json:"outward,omitempty"`

	Browsed   *browsed `json:"browsed,omitempty"`   // a page that the browser looked at
	Canonical string   `json:"canonical,omitempty"` // what the page calls itself

	Hints []fetch.Job `json:"hints,omitempty"` // what it only names: asked for at the end
	Once  string      `json:"once,omitempty"`  // a page at which one visitor looked
	Print uint64      `json:"print,omitempty"` // of the words of the page at Path
	Path  string      `json:"path,omitempty"`
	To    string      `json:"to,omitempty"` // where the job's address leads

	Marks []coverage.Mark `json:"marks,omitempty"` // what became of the job's address, and of others that it named
}

// depth returns how many links the job was from the start.
func (l crawlLine) depth() int {
	if l.Job == nil {
		return 0
	}
	return l.Job.Depth
}

// crawlLog is the log of a crawl at work. It grows on the disk, not in memory.
type crawlLog struct {
	f       *os.File
	w       *bufio.Writer
	n       int
	flushed time.Time
	book    *logbook.Logbook // nil: it belongs to none
}

// flushTime is how long lines may wait in memory.
const flushTime = 300 * time.Millisecond

// newCrawl begins a log. What an interrupted scan left is given up.
func newCrawl(j *work.Job, s *findings.Scan) (*crawlLog, error) {
	if j.Book == nil {
		dir, _, err := disk.TempFolder("scan") // it goes with the next scan, should this one be killed
		if err != nil {
			return nil, err
		}
		f, err := os.OpenFile(filepath.Join(dir, "crawl"), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return nil, err
		}
		return &crawlLog{f: f, w: bufio.NewWriterSize(f, 1<<16)}, nil
	}
	f, err := j.Book.NewCrawl(s.ID)
	if err != nil {
		return nil, err
	}
	return &crawlLog{f: f, w: bufio.NewWriterSize(f, 1<<16), book: j.Book}, nil
}

// openCrawl reads a log back and goes on behind its last whole line.
func openCrawl(book *logbook.Logbook, id string, visit func(crawlLine) error) (*crawlLog, error) {
	f, err := book.OpenCrawl(id)
	if err != nil {
		return nil, work.Failed(err, "the interrupted scan cannot be read", "trimlantern scan starts anew")
	}
	end, err := findings.EachLine(f, func(b []byte) error {
		var l crawlLine
		if json.Unmarshal(b, &l) != nil {
			return io.ErrUnexpectedEOF
		}
		return visit(l)
	})
	if err == nil {
		err = f.Truncate(end)
	}
	if err == nil {
		_, err = f.Seek(end, io.SeekStart)
	}
	if err != nil {
		f.Close()
		var fault *work.Fault
		if errors.As(err, &fault) {
			return nil, fault
		}
		return nil, work.Failed(err, "the interrupted scan cannot be read", "trimlantern scan starts anew")
	}
	return &crawlLog{f: f, w: bufio.NewWriterSize(f, 1<<16)}, nil
}

func (c *crawlLog) put(l crawlLine) error {
	b, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if _, err := c.w.Write(logbook.SumLine(b)); err != nil {
		return err
	}
	// What a crash takes is fetched once more; it is to be little.
	if c.n++; c.n%100 == 0 || time.Since(c.flushed) > flushTime {
		c.flushed = time.Now()
		return c.w.Flush()
	}
	return nil
}

func (c *crawlLog) flush() error { return c.w.Flush() }
func (c *crawlLog) close()       { c.f.Close() }

// discard removes a log that came to nothing.
func (c *crawlLog) discard() {
	_ = os.Remove(c.f.Name()) // a file that cannot be removed is given up by the next scan
	if c.book == nil {
		disk.RemoveTemp(filepath.Dir(c.f.Name()))
	}
}

// each reads the documents of the log.
func (c *crawlLog) each(visit func(crawlLine) error) error {
	if err := c.flush(); err != nil {
		return err
	}
	f, err := os.Open(c.f.Name())
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = findings.EachLine(f, func(b []byte) error {
		var l crawlLine
		if err := json.Unmarshal(b, &l); err != nil {
			return err
		}
		if l.Doc == nil {
			return nil
		}
		return visit(l)
	})
	return err
}

// end keeps the scan: its summary, and its documents packed. Without a logbook the
// documents stay where they are until Forget is called.
func (c *crawlLog) end(s *findings.Scan) error {
	if c.book == nil {
		s.KeptIn(c.f.Name(), true)
		return c.flush()
	}
	s.KeptIn(c.book.PagesPath(s.ID), false)
	out, err := c.book.NewPages(s.ID)
	if err != nil {
		return err
	}
	defer out.Discard()
	z, err := zstd.NewWriter(out, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	lines := json.NewEncoder(z)
	lines.SetEscapeHTML(false)
	err = c.each(func(l crawlLine) error { return lines.Encode(l.Doc) })
	if err := errors.Join(err, z.Close()); err != nil {
		return err
	}
	if err := out.Commit(); err != nil {
		return err
	}
	if err := c.book.WriteJSON(logbook.ScanName(s.ID), s); err != nil {
		return err
	}
	return os.Remove(c.f.Name())
}
