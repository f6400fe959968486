// Package backup writes all of a site, its database and its files, into a folder, and reads it back.
package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"trimlantern/outside/database"
	"trimlantern/outside/disk"
	"trimlantern/outside/dump"
	"trimlantern/outside/pack"
	"trimlantern/work"
)

const (
	backupRecord = "backup.json"
	half         = ".part" // ends the name of a backup's folder until it is whole
)

// Run writes all of the site's database by the database's own means, and the files of the declared folders, into
// a new folder below folder ("": beside the site file), which only the caller can enter. All of it is read back and
// counted against the database.
func Run(ctx context.Context, j *work.Job, folder string) (*BackedUp, error) {
	defer j.Progress.End()
	if folder == "" {
		folder = filepath.Join(filepath.Dir(j.Book.Path()), "backups")
	}
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, work.Failed(err, "cannot determine the current folder", "change to a folder that exists")
	}
	if err := j.PrivatePlace(folder); err != nil {
		return nil, err
	}
	release, err := j.Book.Lock("backup")
	if err != nil {
		return nil, work.LockFault(err)
	}
	defer release()
	out := &BackedUp{Site: j.Site.String(), Time: j.Now().UTC(), Without: []string{}, Differs: []RowsCount{}, Left: []string{}}
	name := filepath.Join(folder, out.Time.Format("20060102-150405"))
	whole := name
	for i := 1; ; i++ { // two may be made in one second
		if _, err := os.Lstat(whole); errors.Is(err, fs.ErrNotExist) {
			break
		}
		whole = fmt.Sprintf("%s-%d", name, i)
	}
	halves, _ := filepath.Glob(filepath.Join(folder, "*"+half)) // the pattern is one
	for _, left := range halves {
		_ = os.RemoveAll(left) // of runs that were killed: then it stays
	}
	out.Folder = whole + half
	if err := disk.PrivateFolder(out.Folder); err != nil {
		if refused := work.Untrusted(err); refused != nil {
			return nil, refused
		}
		return nil, work.Failed(err, "the folder cannot be made", "name one that you may write to")
	}
	err = backupDatabase(ctx, j, out)
	if err == nil {
		err = backupFiles(ctx, j, out)
	}
	if err == nil && out.File == "" && out.Archive == "" {
		err = work.BadUse(nil, "there is nothing to back up: the site file names neither a database nor files", "for a dump, keep a copy of the dump itself")
	}
	if ctx.Err() != nil {
		err = work.Failed(nil, "interrupted", "run the same command again")
	}
	if err == nil {
		if out.Sums, err = writeSums(out.Folder, out.File, out.Archive); err != nil {
			err = work.Failed(err, "the backup cannot be read back", "free some disk space, then run the same command again")
		}
	}
	if err == nil {
		if err = os.Rename(out.Folder, whole); err != nil {
			err = work.Failed(err, "the backup cannot be given its name", "make "+folder+" writable, then run the same command again")
		}
	}
	if err != nil {
		_ = os.RemoveAll(out.Folder) // half a backup is none
		return nil, err
	}
	out.Folder = whole
	for _, file := range []*string{&out.File, &out.Archive} {
		if *file != "" {
			*file = filepath.Join(whole, filepath.Base(*file))
		}
	}
	if err := j.Book.WriteJSON(backupRecord, out); err != nil {
		return nil, work.Failed(err, "the backup is made, but cannot be recorded in the logbook", "make the folder of the site file writable")
	}
	return out, j.Note("backup", fmt.Sprintf("%d rows, %d files", out.Rows, out.Files), 0)
}

// rowsOf counts the rows of all tables of the database, by name.
func rowsOf(ctx context.Context, db database.Database, p work.Progress) (map[string]int64, error) {
	tables, err := db.Tables(ctx, "")
	if err != nil {
		return nil, err
	}
	rows := map[string]int64{}
	for i, t := range tables {
		p.At("counting the rows of "+t.Name, int64(i), int64(len(tables)))
		if rows[t.Name], err = db.CountRows(ctx, t); err != nil {
			return nil, err
		}
	}
	return rows, nil
}

func backupDatabase(ctx context.Context, j *work.Job, out *BackedUp) error {
	switch {
	case j.IsDump():
		out.Without = append(out.Without, "the database: it is an exported file; keep a copy of "+j.File.Abs(j.File.Database.File))
		return nil
	case !j.Stored() || j.File.Database.Kind == database.NoneKind:
		return nil
	}
	c, err := j.Config()
	if err != nil {
		return err
	}
	c.ReadOnly = true
	db, err := j.Connect(ctx, c)
	if err != nil {
		return work.DatabaseFault(err, c)
	}
	defer db.Close()
	before, err := rowsOf(ctx, db, j.Progress)
	if err != nil {
		return work.DatabaseFault(err, c)
	}
	var held map[string]int64
	if c.Kind == "sqlite" {
		held, err = copySQLite(ctx, j, c, out)
	} else {
		held, err = dumpSQL(ctx, j, c, out)
	}
	if err != nil {
		return err
	}
	after, err := rowsOf(ctx, db, j.Progress)
	if err != nil {
		return work.DatabaseFault(err, c)
	}
	for name, n := range before {
		out.Tables++
		out.Rows += held[name]
		if has, there := held[name]; has < min(n, after[name]) || has > max(n, after[name]) || !there && n > 0 {
			out.Differs = append(out.Differs, RowsCount{name, has, n, after[name]})
		}
	}
	slices.SortFunc(out.Differs, func(a, b RowsCount) int { return strings.Compare(a.Table, b.Table) })
	return nil
}

// copySQLite copies a database file by the database's own means, and counts the rows of the copy.
func copySQLite(ctx context.Context, j *work.Job, c database.Config, out *BackedUp) (map[string]int64, error) {
	j.Progress.At("copying the database", 0, 0)
	file := filepath.Join(out.Folder, "database.sqlite")
	from, err := filepath.Abs(c.File)
	if err == nil {
		err = database.CopySQLite(ctx, from, file)
	}
	if err != nil {
		return nil, work.Failed(err, "the database cannot be copied", "free some disk space, then run the same command again")
	}
	out.File, out.Program = file, "SQLite (VACUUM INTO)"
	if err := sized(j, file, &out.Bytes); err != nil {
		return nil, err
	}
	c.File, c.ReadOnly = file, true
	db, err := database.Open(ctx, c)
	if err != nil {
		return nil, work.Failed(err, "the copy cannot be read back", "run the same command again")
	}
	defer db.Close()
	held, err := rowsOf(ctx, db, j.Progress)
	if err != nil {
		return nil, work.Failed(err, "the copy cannot be read back", "run the same command again")
	}
	return held, nil
}

func sized(j *work.Job, file string, n *int64) error {
	info, err := os.Stat(file)
	if err != nil {
		return work.Failed(err, "the backup cannot be read back", "run the same command again")
	}
	*n = info.Size()
	return os.Chmod(file, 0o600)
}

// dumpSQL has the database's own program write a dump, and reads it back with our own reader.
func dumpSQL(ctx context.Context, j *work.Job, c database.Config, out *BackedUp) (map[string]int64, error) {
	j.Progress.At("dumping the database", 0, 0)
	file := filepath.Join(out.Folder, "database.sql.zst")
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, work.Failed(err, "the backup cannot be written", "make the folder writable, with room on its disk")
	}
	defer f.Close()
	z, err := zstd.NewWriter(f)
	if err != nil {
		return nil, work.Failed(err, "the backup cannot be written", "run the same command again")
	}
	var written int64
	made, err := database.Dump(ctx, c, out.Folder, func() (io.Writer, error) {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		z.Reset(f)
		written = 0
		return &counted{z, j.Progress, &written}, f.Truncate(0)
	})
	if errors.Is(err, database.ErrNoProgram) {
		return nil, work.BadUse(nil, err.Error(), "install it (Debian: mariadb-client, postgresql-client), or export the database in your host's panel")
	}
	if err = errors.Join(err, z.Close(), f.Sync()); err != nil {
		return nil, work.Failed(err, "the database cannot be dumped", "see what it says; an export in your host's panel is a backup too")
	}
	out.File, out.Program = file, filepath.Base(made.Program)
	for _, what := range made.Without {
		out.Without = append(out.Without, what+": the database user may not dump them")
	}
	if err := sized(j, file, &out.Bytes); err != nil {
		return nil, err
	}
	return rowsInDump(ctx, j, file)
}

// counted tells how many bytes went through.
type counted struct {
	w io.Writer
	p work.Progress
	n *int64
}

// Write writes on.
func (c *counted) Write(b []byte) (int, error) {
	*c.n += int64(len(b))
	c.p.At("dumping the database (MB)", *c.n>>20, 0)
	return c.w.Write(b)
}

// maxBackupRow is the largest row that is read back, in bytes: what servers take at the most.
const maxBackupRow = 1 << 30

// rowsInDump reads a dump to its end and counts the rows of each table.
func rowsInDump(ctx context.Context, j *work.Job, file string) (map[string]int64, error) {
	back := func(err error) error {
		return work.Failed(err, "the backup cannot be read back", "it is not kept; run the same command again")
	}
	src, err := pack.Open(file, nil)
	if err != nil {
		return nil, back(err)
	}
	defer src.Close()
	in, end, err := src.Text()
	if err != nil {
		return nil, back(err)
	}
	survey, err := dump.Look(ctx, in, dump.Options{MaxUnit: maxBackupRow, Read: func(n int64) { j.Progress.At("reading the backup back", 0, 0) }})
	end()
	if err != nil {
		return nil, back(err)
	}
	if survey.CutOff {
		return nil, back(errors.New("its end is missing"))
	}
	if in, end, err = src.Text(); err != nil {
		return nil, back(err)
	}
	defer end()
	const workers = 256 // more than there are
	var rows [workers]map[string]int64
	h := dump.Handler{Only: func(*dump.Table) bool { return true }, Row: func(worker int, r *dump.Row) {
		if rows[worker] == nil {
			rows[worker] = map[string]int64{}
		}
		if r.Table != nil {
			rows[worker][r.Table.Name]++
		}
	}}
	if err := survey.Rewrite(ctx, in, io.Discard, h, dump.Output{}); err != nil {
		return nil, back(err)
	}
	total := map[string]int64{}
	for _, t := range survey.Schema.Tables {
		total[t.Name] += 0
	}
	for _, of := range rows {
		for name, n := range of {
			total[name] += n
		}
	}
	return total, nil
}

// backupFiles packs the files of the declared folders, and the system's configuration.
func backupFiles(ctx context.Context, j *work.Job, out *BackedUp) error {
	var folders, single []string
	for _, dir := range j.File.Files {
		folders = append(folders, filepath.Clean(j.File.Abs(dir)))
	}
	if c := j.File.Configuration(); c != "" {
		single = append(single, filepath.Clean(c))
	}
	if len(folders) == 0 {
		out.Without = append(out.Without, "files: the site file declares no folders (files)")
	}
	if len(folders)+len(single) == 0 {
		return nil
	}
	file := filepath.Join(out.Folder, "files.tar.zst")
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return work.Failed(err, "the backup cannot be written", "make the folder writable, with room on its disk")
	}
	defer f.Close()
	z, err := zstd.NewWriter(f)
	if err != nil {
		return work.Failed(err, "the backup cannot be written", "run the same command again")
	}
	p := &packing{job: j, out: out, w: tar.NewWriter(z), sums: map[string][32]byte{}}
	for _, dir := range folders {
		if err := p.folder(ctx, dir); err != nil {
			return err
		}
	}
	for _, name := range single {
		if _, done := p.sums[tarName(name)]; done {
			continue
		}
		if err := p.single(name); err != nil {
			return err
		}
	}
	if err := errors.Join(p.w.Close(), z.Close(), f.Sync()); err != nil {
		return work.Failed(err, "the backup cannot be written", "free some disk space, then run the same command again")
	}
	out.Archive, out.Files = file, len(p.sums)
	if err := sized(j, file, &out.Packed); err != nil {
		return err
	}
	return p.compare(file)
}

// packing is one archive at work.
type packing struct {
	job  *work.Job
	out  *BackedUp
	w    *tar.Writer
	sums map[string][32]byte // by name in the archive
}

// tarName is the name of a file in the archive: its path from the root on, so that it is restored where it was.
func tarName(path string) string {
	return strings.TrimPrefix(filepath.ToSlash(strings.TrimPrefix(path, filepath.VolumeName(path))), "/")
}

func (p *packing) left(path string, why error) {
	if len(p.out.Left) < 1000 {
		p.out.Left = append(p.out.Left, path+": "+work.WhyNot(why))
	}
}

func (p *packing) folder(ctx context.Context, dir string) error {
	tree, err := disk.OpenTree(dir)
	if err != nil {
		return work.Failed(err, "the folder "+dir+" cannot be read", "make it readable, or fix files in the site file")
	}
	defer tree.Close()
	err = tree.Walk(".", func(name string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			p.left(filepath.Join(dir, name), err)
			return nil
		case e.IsDir():
			return nil
		}
		return p.add(tree, name, filepath.Join(dir, name))
	})
	if err != nil && ctx.Err() == nil && !work.IsFault(err) {
		err = work.Failed(err, "the files cannot be packed", "free some disk space, then run the same command again")
	}
	return err
}

func (p *packing) single(path string) error {
	tree, err := disk.OpenTree(filepath.Dir(path))
	if err != nil {
		p.left(path, err)
		return nil
	}
	defer tree.Close()
	return p.add(tree, filepath.Base(path), path)
}

// add packs one file. What is no regular file, or cannot be read, is named.
func (p *packing) add(tree *disk.Tree, name, path string) error {
	f, info, err := tree.Open(name)
	if err != nil {
		p.left(path, err)
		return nil
	}
	defer f.Close()
	p.job.Progress.At("packing the files", int64(len(p.sums)), 0)
	h, err := tar.FileInfoHeader(info, "")
	if err != nil {
		p.left(path, err)
		return nil
	}
	h.Name, h.Format = tarName(path), tar.FormatPAX
	if err := p.w.WriteHeader(h); err != nil {
		return work.Failed(err, "the backup cannot be written", "free some disk space, then run the same command again")
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(p.w, sum), io.LimitReader(f, h.Size))
	if err == nil && n < h.Size { // it got shorter while it was read
		p.left(path, errors.New("was changed while it was read"))
		_, err = io.CopyN(p.w, zeros{}, h.Size-n)
	}
	if err != nil {
		return work.Failed(err, "the backup cannot be written", "free some disk space, then run the same command again")
	}
	p.sums[h.Name] = [32]byte(sum.Sum(nil))
	return nil
}

// zeros is without an end.
type zeros struct{}

// Read reads zeros.
func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// compare reads the archive back and holds each file against what was read of it.
func (p *packing) compare(file string) error {
	back := func(err error) error {
		return work.Failed(err, "the backup cannot be read back", "it is not kept; run the same command again")
	}
	f, err := os.Open(file)
	if err != nil {
		return back(err)
	}
	defer f.Close()
	z, err := zstd.NewReader(f)
	if err != nil {
		return back(err)
	}
	defer z.Close()
	seen := 0
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return back(err)
		}
		p.job.Progress.At("reading the files back", int64(seen), int64(len(p.sums)))
		sum := sha256.New()
		if _, err := io.Copy(sum, r); err != nil {
			return back(err)
		}
		want, ok := p.sums[h.Name]
		changed := slices.ContainsFunc(p.out.Left, func(l string) bool { return strings.HasPrefix(l, "/"+h.Name+": ") })
		if !ok || !changed && !bytes.Equal(sum.Sum(nil), want[:]) {
			return back(fmt.Errorf("%s is not in it as it was read", h.Name))
		}
		seen++
	}
	if seen != len(p.sums) {
		return back(fmt.Errorf("it holds %d of %d files", seen, len(p.sums)))
	}
	return nil
}

// BackedUp is a backup that was made and read back.
type BackedUp struct {
	Site    string      `json:"site"`
	Time    time.Time   `json:"time"`
	Folder  string      `json:"folder"`
	File    string      `json:"file"`    // of the database; "": it has none, or is a dump
	Bytes   int64       `json:"bytes"`   // of that file
	Program string      `json:"program"` // that wrote it
	Without []string    `json:"without"` // what the backup leaves out by its nature, and why
	Tables  int         `json:"tables"`
	Rows    int64       `json:"rows"`
	Differs []RowsCount `json:"differs"` // tables of which the backup holds another number of rows than the database
	Archive string      `json:"archive"` // of the files; "": none are declared
	Packed  int64       `json:"packed"`  // bytes of the archive
	Files   int         `json:"files"`
	Left    []string    `json:"left"`           // files that are not in it, and why
	Sums    string      `json:"sums,omitempty"` // SHA-256 of the list of checksums in the folder, SHA256SUMS; "": of an earlier version
}

// Code is the exit code that it comes to.
func (b *BackedUp) Code() int {
	if len(b.Differs) > 0 || len(b.Left) > 0 {
		return work.Remain
	}
	return work.Clean
}

// Last returns the last backup that was made; nil where none was.
func Last(j *work.Job) (*BackedUp, error) {
	var b BackedUp
	if j.Book == nil {
		return nil, nil
	}
	if err := j.Book.ReadJSON(backupRecord, &b); err != nil {
		return nil, work.BookFault(err)
	}
	if b.Site != j.Site.String() {
		return nil, nil
	}
	return &b, nil
}

// RowsCount compares one table.
type RowsCount struct {
	Table  string `json:"table"`
	Backup int64  `json:"backup"`
	Before int64  `json:"before"` // rows in the database before the backup was made
	After  int64  `json:"after"`
}
