package dumps

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"strings"

	"trimlantern/outside/dump"
	"trimlantern/outside/system"
	"trimlantern/work"
)

// known is what the system descriptions know of a table of the dump.
type known struct {
	system.Known
	system *system.System
}

// look reads the dump once or twice before anything is written: its schema, the system it is of, the site's
// own addresses and its sister sites, and where a change would break a unique key.
func (f *filtering) look(ctx context.Context) error {
	var err error
	if f.o.Tables != "" {
		if f.defined, err = f.definitions(ctx); err != nil {
			return err
		}
	}
	if f.survey, err = f.surveyed(ctx); err != nil {
		return err
	}
	s := f.survey.Schema
	f.out.Dialect, f.out.BytesIn = s.Dialect.String(), f.survey.Bytes
	f.out.Makes, f.out.Drops, f.out.CutOff = s.Makes, s.Drops, f.survey.CutOff
	f.recognise(s)
	return f.learn(ctx)
}

// definitions reads the dump that defines the tables.
func (f *filtering) definitions(ctx context.Context) (*dump.Schema, error) {
	name := f.o.Tables
	other := &filtering{o: Options{In: name, Dialect: f.o.Dialect, Row: f.o.Row}, p: f.p}
	var err error
	if other.in, err = openInput(other.o); err != nil {
		return nil, other.failed(err, true)
	}
	defer other.in.close()
	s, err := other.surveyed(ctx)
	if err != nil {
		return nil, other.failed(err, true)
	}
	if !s.Schema.Makes {
		return nil, work.BadUse(nil, name+" defines no tables", "give a dump with the structure of the tables")
	}
	return s.Schema, nil
}

// dialects are the names of the dialects for users.
var dialects = map[string]dump.Dialect{"": dump.Unknown, "mysql": dump.MySQL, "mariadb": dump.MySQL, "postgres": dump.Postgres, "sqlite": dump.SQLite}

// surveyed surveys the dump. Where nothing tells its dialect, it is the only one in which the dump can be read,
// or any where it reads the same in all.
func (f *filtering) surveyed(ctx context.Context) (*dump.Survey, error) {
	is := dialects[f.o.Dialect]
	if is == dump.Unknown {
		is = dump.Sniff(f.in.head)
	}
	if is != dump.Unknown {
		return f.surveyAs(ctx, is)
	}
	var fits []*dump.Survey
	var first error
	for _, d := range []dump.Dialect{dump.MySQL, dump.Postgres, dump.SQLite} {
		s, err := f.surveyAs(ctx, d)
		if err == nil && len(s.Schema.Tables) > 0 {
			fits = append(fits, s)
		} else if first == nil {
			first = err
		}
	}
	if len(fits) == 0 && first != nil && !errors.Is(first, dump.ErrStatement) {
		return nil, first
	}
	if len(fits) == 0 {
		return nil, dump.ErrDialect
	}
	if len(fits) > 1 {
		same, err := f.without(ctx, "\\\"`$")
		if err != nil {
			return nil, err
		}
		if !same {
			return nil, work.BadUse(nil, "nothing in this dump tells whose SQL it is", "say it: --dialect mysql, --dialect postgres or --dialect sqlite")
		}
	}
	return fits[0], nil
}

func (f *filtering) surveyAs(ctx context.Context, d dump.Dialect) (*dump.Survey, error) {
	in, end, err := f.in.text()
	if err != nil {
		return nil, err
	}
	defer end()
	size, done := f.in.size(), int64(0)
	read := func(n int64) {
		done += n
		f.p.At("reading", done>>20, size>>20)
	}
	return dump.Look(ctx, in, dump.Options{Dialect: d, Known: f.defined, Charset: strings.ToLower(f.o.Charset), MaxUnit: f.o.Row << 20, Read: read})
}

// without reports whether the dump has none of some bytes.
func (f *filtering) without(ctx context.Context, set string) (bool, error) {
	return f.search(ctx, func(b []byte) bool { return !bytes.ContainsAny(b, set) })
}

// search reads the dump in pieces that overlap, for as long as each passes.
func (f *filtering) search(ctx context.Context, passes func([]byte) bool) (all bool, err error) {
	in, end, err := f.in.text()
	if err != nil {
		return false, err
	}
	defer end()
	const overlap = 300
	buf := make([]byte, 0, 1<<20)
	for ctx.Err() == nil {
		n, err := io.ReadFull(in, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if !passes(buf) {
			return false, nil
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return true, nil
		}
		if err != nil {
			return false, err
		}
		buf = buf[:copy(buf, buf[max(0, len(buf)-overlap):])]
	}
	return false, ctx.Err()
}

// recognise tells the system by the tables of the dump.
func (f *filtering) recognise(s *dump.Schema) {
	var seen []system.Seen
	for _, t := range s.Tables {
		one := system.Seen{Name: t.String(), Width: t.Width}
		columns := t.Columns
		if len(columns) == 0 {
			columns = t.Listed
		}
		for _, c := range columns {
			one.Columns = append(one.Columns, c.Name)
		}
		seen = append(seen, one)
	}
	f.known = map[string]known{}
	for _, l := range f.systems {
		for name, k := range l.Recognise(seen) {
			if _, ok := f.known[name]; !ok {
				f.known[name] = known{k, l}
				f.out.System = cmp.Or(f.out.System, l.Name)
			}
		}
	}
}
