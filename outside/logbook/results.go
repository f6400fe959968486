package logbook

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
)

// ErrDamaged says that a file of the logbook is not as it was written.
var ErrDamaged = errors.New("it is damaged: its checksum does not fit")

// A result is kept as JSON with one more line after it that holds the checksum of all before:
//
//	{
//	 "site": "https://ternrock.example"
//	}
//	{"sha256":"9f86d0…"}
//
// Results of versions before this one have no such line. Since nothing else may come after the JSON, a damaged last line
// is never taken for one of those.
type sumLine struct {
	SHA256 string `json:"sha256"`
}

var sumBegins = []byte("\n{\"sha256\":\"")

// WriteJSON keeps a result; ReadJSON reads it back.
func (l *Logbook) WriteJSON(name string, v any) error {
	p, err := l.create(name)
	if err != nil {
		return err
	}
	defer p.Discard()
	sum := sha256.New()
	e := json.NewEncoder(io.MultiWriter(p, sum))
	e.SetIndent("", " ")
	if err := e.Encode(v); err != nil {
		return err
	}
	if err := json.NewEncoder(p).Encode(sumLine{hex.EncodeToString(sum.Sum(nil))}); err != nil {
		return err
	}
	return p.Commit()
}

// ReadJSON reads what WriteJSON kept. A file that is not there leaves v as it is. The error names the file; it is
// ErrDamaged if the file was damaged.
func (l *Logbook) ReadJSON(name string, v any) error {
	b, err := l.read(name)
	if err != nil || b == nil {
		return err
	}
	if b, err = summed(b); err == nil {
		err = json.Unmarshal(b, v)
	}
	if err != nil {
		return fmt.Errorf("%s in the logbook: %w", name, err)
	}
	return nil
}

// summed verifies the checksum at the end of a result, and returns what is before it.
func summed(b []byte) ([]byte, error) {
	at := bytes.LastIndex(b, sumBegins)
	if at < 0 {
		return b, nil // older: whatever else is after the JSON does not parse
	}
	at++ // the break belongs to the result
	var last sumLine
	sum := sha256.Sum256(b[:at])
	if err := json.Unmarshal(b[at:], &last); err != nil || last.SHA256 != hex.EncodeToString(sum[:]) {
		return nil, ErrDamaged
	}
	return b[:at], nil
}

// jsonOnly says what is wrong with a result that has no checksum.
func jsonOnly(b []byte) error {
	if !json.Valid(b) {
		return ErrDamaged
	}
	return nil
}

// missing reports whether an error says that something is not there.
func missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// read returns what a file holds; nil if it is not there.
func (l *Logbook) read(name string) ([]byte, error) {
	f, err := l.open(name)
	if missing(err) {
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

// copyEnd ends the names of copies of what other hosts serve.
const copyEnd = ".copy"

// KeepCopy keeps content under its hash.
func (l *Logbook) KeepCopy(hash string, b []byte) error { return l.writeFile(hash+copyEnd, b) }

// writeFile keeps bytes as a file.
func (l *Logbook) writeFile(name string, b []byte) error {
	p, err := l.create(name)
	if err != nil {
		return err
	}
	defer p.Discard()
	if _, err := p.Write(b); err != nil {
		return err
	}
	return p.Commit()
}

// Copy returns the content that is kept under a hash; nil if there is none, or another.
func (l *Logbook) Copy(hash string) ([]byte, error) {
	b, err := l.read(hash + copyEnd)
	if err != nil || change.Hash(b) != hash {
		return nil, err
	}
	return b, nil
}

// siteFile keeps the site file as this program wrote it last, or as it was when a preview took it over.
const siteFile = "site.yaml.kept"

// KeepSiteFile keeps the site file as it is now.
func (l *Logbook) KeepSiteFile(b []byte) error {
	return l.WriteJSON(siteFile, struct{ Text string }{string(b)})
}

// SiteFile returns the site file as it was kept; ok is false if it never was.
func (l *Logbook) SiteFile() (text []byte, ok bool, err error) {
	var kept struct{ Text *string }
	if err := l.ReadJSON(siteFile, &kept); err != nil || kept.Text == nil {
		return nil, false, err
	}
	return []byte(*kept.Text), true, nil
}

// diary holds a line for each run that leaves nothing else: the CRC-32C of the JSON in hexadecimal, a space and the
// JSON. The lines of earlier versions are JSON alone.
const diary = "diary.jsonl"

// cutMark ends a line that a crash had cut off when the next one was written.
var cutMark = []byte(" -- cut off\n")

// SumLine returns JSON as a line with its checksum: its CRC-32C in hexadecimal, a blank, the JSON and a line break.
func SumLine(b []byte) []byte {
	return append(append(fmt.Appendf(nil, "%08x ", disk.Checksum(b)), b...), '\n')
}

// OpenLine returns the JSON of a line of SumLine, or of an earlier version that had no checksums; without the line break. It
// fails with ErrDamaged.
func OpenLine(line []byte) ([]byte, error) {
	if bytes.HasPrefix(line, []byte("{")) && json.Valid(line) {
		return line, nil
	}
	head, rest, _ := bytes.Cut(line, []byte(" "))
	if string(head) != fmt.Sprintf("%08x", disk.Checksum(rest)) {
		return nil, ErrDamaged
	}
	return rest, nil
}

// Note adds a line to the diary, through to the disk.
func (l *Logbook) Note(v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return l.Change(func() error {
		folder, err := l.opened()
		if err != nil {
			return err
		}
		f, err := folder.OpenFile(diary, os.O_RDWR|os.O_CREATE|os.O_APPEND)
		if err != nil {
			return err
		}
		line := SumLine(b)
		end := make([]byte, 1)
		if size, serr := f.Seek(0, io.SeekEnd); serr == nil && size > 0 {
			if _, rerr := f.ReadAt(end, size-1); rerr == nil && end[0] != '\n' {
				line = append(bytes.Clone(cutMark), line...)
			}
		}
		_, err = f.Write(line)
		return errors.Join(err, f.Sync(), f.Close())
	})
}

// Notes reads the diary line by line. A line that a crash cut off is left out; one that was damaged is an error.
func (l *Logbook) Notes(visit func(line []byte)) error {
	b, err := l.read(diary)
	if err != nil {
		return err
	}
	n := 0
	for line := range bytes.Lines(b) {
		n++
		text, cut := noteOf(line)
		if text == nil && !cut {
			return fmt.Errorf("%s in the logbook, line %d: %w", diary, n, ErrDamaged)
		}
		if text != nil {
			visit(text)
		}
	}
	return nil
}

// noteOf returns the JSON of a line of the diary; nil if it was cut off, or is damaged.
func noteOf(line []byte) (text []byte, cut bool) {
	whole, ended := bytes.CutSuffix(line, []byte("\n"))
	if !ended && len(whole) > 0 {
		// The last line was cut off, unless it is the break alone that is damaged.
		text, _ := noteOf(append(bytes.Clone(whole[:len(whole)-1]), '\n'))
		return nil, text == nil
	}
	if bytes.HasSuffix(line, cutMark) {
		return nil, true
	}
	if bytes.HasPrefix(line, []byte("{")) { // older
		if json.Valid(whole) {
			return whole, false
		}
		return nil, !bytes.HasSuffix(whole, []byte("}"))
	}
	text, _ = OpenLine(whole) // nil if it is damaged
	return text, false
}
