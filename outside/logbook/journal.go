package logbook

import (
	"errors"
	"io"
	"log/slog"
	"os"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
)

// Journal is a journal open for writing.
type Journal struct {
	book   *Logbook
	id     string
	f      *os.File
	chain  change.Chain
	counts change.Counts
	failed error // what kept a block from being written: nothing may come after it
}

// CreateJournal begins a journal with its header, through to the disk.
func (l *Logbook) CreateJournal(h change.JournalHeader) (*Journal, error) {
	if err := l.Ensure(); err != nil {
		return nil, err
	}
	folder, err := l.opened()
	if err != nil {
		return nil, err
	}
	name := h.ID + journalEnd
	f, err := folder.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL|os.O_APPEND)
	if err != nil {
		return nil, err
	}
	slog.Debug("journal begun", "file", l.JournalPath(h.ID))
	j := &Journal{book: l, id: h.ID, f: f}
	if err := j.Append(change.Record{Header: change.NewJournalHeader(h)}); err != nil {
		f.Close()
		_ = folder.Remove(name) // nothing is in it
		return nil, err
	}
	return j, folder.Sync()
}

// Read is a journal as it was read: how far it is verified, and what is in it.
type Read struct {
	Chain  change.Chain
	Counts change.Counts
	Older  bool // of a version whose journals are not chained
}

// ReopenJournal opens a journal to go on after what was read of it. A torn block at its end is not lost: its bytes are kept
// in a file beside, and then in the journal itself.
func (l *Logbook) ReopenJournal(id string, r Read) (*Journal, error) {
	folder, err := l.opened()
	if err != nil {
		return nil, err
	}
	f, err := folder.OpenFile(id+journalEnd, os.O_RDWR|os.O_APPEND)
	if err != nil {
		return nil, err
	}
	j := &Journal{book: l, id: id, f: f, chain: r.Chain, counts: r.Counts}
	if err := j.setTornAside(folder); err != nil {
		f.Close()
		return nil, err
	}
	return j, nil
}

// tornEnd ends the name of the file that holds the torn end of a journal until the journal holds it.
const tornEnd = ".torn"

func (j *Journal) setTornAside(folder *disk.Private) error {
	info, err := j.f.Stat()
	if err != nil {
		return err
	}
	kept, err := j.book.read(j.id + tornEnd)
	if err != nil {
		return err
	}
	if info.Size() > j.chain.Size {
		if kept == nil { // otherwise it is the record of the kept bytes that is torn
			kept = make([]byte, info.Size()-j.chain.Size)
			if _, err := j.f.ReadAt(kept, j.chain.Size); err != nil {
				return err
			}
			if err := j.book.writeFile(j.id+tornEnd, kept); err != nil {
				return err
			}
		}
		if err := j.f.Truncate(j.chain.Size); err != nil {
			return err
		}
	}
	if kept == nil {
		return nil
	}
	if err := j.Append(change.Record{Torn: &change.Torn{Bytes: kept}}); err != nil {
		return err
	}
	return folder.Remove(j.id + tornEnd)
}

// Append writes records as one block, through to the disk. A mark of the end gets the counts of all that is in the journal.
func (j *Journal) Append(records ...change.Record) error {
	j.Count(records)
	for i := range records {
		if records[i].Mark == change.Finished {
			counts := j.counts
			records[i].Counts = &counts
		}
	}
	b, err := change.EncodeBlock(records...)
	if err != nil {
		return err
	}
	return j.AppendBlocks(b)
}

// Count tells the journal what is in blocks of AppendBlocks.
func (j *Journal) Count(records []change.Record) { j.counts.Add(records) }

// AppendBlocks writes blocks that are encoded already, through to the disk.
func (j *Journal) AppendBlocks(blocks ...[]byte) error {
	if j.failed != nil {
		return j.failed
	}
	chain := j.chain
	for _, b := range blocks {
		chain.Seal(b)
		if _, j.failed = j.f.Write(b); j.failed != nil {
			return j.failed
		}
	}
	if j.failed = j.f.Sync(); j.failed != nil {
		return j.failed
	}
	j.chain = chain
	return nil
}

// Seal keeps the number of blocks and the chain of a finished journal in a file of its own, so that a journal from whose end whole blocks are
// missing is noticed.
func (j *Journal) Seal() error {
	return j.book.WriteJSON(j.id+sealEnd, seal{j.chain.Blocks, j.chain.Size, j.chain.Hex()})
}

// Close closes the journal.
func (j *Journal) Close() error { return j.f.Close() }

// sealEnd ends the name of that file.
const sealEnd = ".seal.json"

type seal struct {
	Blocks uint64 `json:"blocks"`
	Size   int64  `json:"size"`  // in bytes
	Chain  string `json:"chain"` // of its last block
}

// ReadJournal reads a journal block by block, verifies it, and returns how far it is verified. See change.EachBlock for
// the errors.
func (l *Logbook) ReadJournal(id string, visit func(change.Block) error) (Read, error) {
	var sealed seal
	if err := l.ReadJSON(id+sealEnd, &sealed); err != nil {
		return Read{}, err
	}
	f, err := l.OpenJournal(id)
	if err != nil {
		return Read{}, err
	}
	defer f.Close()
	var r Read
	r.Chain, err = change.EachBlock(f, func(b change.Block) error {
		r.Counts.Add(b.Records)
		if b.Number() == 0 {
			r.Older = b.Records[0].Header.Version < change.JournalVersion
		}
		for _, rec := range b.Records {
			if rec.Counts != nil && *rec.Counts != r.Counts {
				return &change.Damaged{Offset: b.Offset, Block: b.Number(), Why: "the run ended with other numbers than are in the journal"}
			}
		}
		if b.Number()+1 == sealed.Blocks && b.Chain().Hex() != sealed.Chain {
			return &change.Damaged{Offset: b.Offset, Block: b.Number(), Why: "the run ended with another block"}
		}
		return visit(b)
	})
	if (err == nil || errors.Is(err, change.ErrTorn)) && r.Chain.Blocks < sealed.Blocks {
		err = &change.Damaged{Offset: r.Chain.Size, Block: r.Chain.Blocks, Why: "its end is missing: the run had ended with more blocks"}
	}
	return r, err
}

// Glance returns where the blocks of a journal are without reading them, and the open file; ok is false if that does not
// tell. See change.Outline.
func (l *Logbook) Glance(id string) (f *os.File, blocks []change.Block, ok bool) {
	f, err := l.OpenJournal(id)
	if err != nil {
		return nil, nil, false
	}
	info, err := f.Stat()
	if err == nil {
		var sealed seal
		err = l.ReadJSON(id+sealEnd, &sealed)
		blocks, ok = change.Outline(f, info.Size())
		ok = ok && len(blocks) > 0 && uint64(len(blocks)) >= sealed.Blocks
	}
	if err != nil || !ok {
		f.Close()
		return nil, nil, false
	}
	return f, blocks, true
}

// JournalName returns the file name of the journal called id.
func JournalName(id string) string { return id + journalEnd }

// SetAside gives a damaged journal a name under which no command takes it for a journal. No byte of it is changed.
func (l *Logbook) SetAside(id string) error {
	folder, err := l.opened()
	if err != nil {
		return err
	}
	return folder.Rename(id+journalEnd, id+journalEnd+".damaged")
}

// Salvage makes a new journal called h.ID of the blocks of a damaged one that can be read. The damaged one stays as it is.
func (l *Logbook) Salvage(id string, h change.JournalHeader) (counts change.Counts, lost int64, err error) {
	f, err := l.OpenJournal(id)
	if err != nil {
		return counts, 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return counts, 0, err
	}
	if lost, err = change.Salvage(f, info.Size(), func([]change.Record) error { return nil }); err != nil {
		return counts, 0, err
	}
	h.Repairs, h.Lost = id, lost
	var out *Journal
	first := true
	_, err = change.Salvage(f, info.Size(), func(records []change.Record) error {
		if first && len(records) > 0 && records[0].Header != nil {
			was := records[0].Header
			h.Sheet, h.Database, h.Site, h.Folder, h.SheetSum, h.Drops = was.Sheet, was.Database, was.Site, was.Folder, was.SheetSum, was.Drops
			records = records[1:]
		}
		if first {
			var err error
			if out, err = l.CreateJournal(h); err != nil {
				return err
			}
		}
		first = false
		kept := records[:0]
		for _, r := range records {
			if r.Mark != change.Finished { // it is not all of it
				kept = append(kept, r)
			}
		}
		if len(kept) == 0 {
			return nil
		}
		return out.Append(kept...)
	})
	if out == nil {
		return counts, lost, errors.Join(err, io.ErrUnexpectedEOF)
	}
	return out.counts, lost, errors.Join(err, out.Close())
}
