package judge

import (
	"fmt"
	"strconv"
	"unicode/utf8"

	"trimlantern/core/beside"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/system"
)

// beside looks for other columns of a row that a value cannot change without: a digest of it, found by trying, and
// what the system description says is derived from it. It returns those that are set anew with the value; or why the
// value is left, since one of them would no longer fit.
func (g *Judge) beside(r row, i int, v []byte, edits []rewrite.Edit) (seals []Seal, torn string, err error) {
	for _, d := range g.System.DerivedFrom(r.short, r.columns[i].Name) {
		j := columnNamed(r.columns, d.Column)
		if j < 0 {
			return nil, fmt.Sprintf("column %s is derived from it, and holds no text", d.Column), nil
		}
		was, ok := r.value(j)
		if !ok || len(was) == 0 {
			continue // nothing is derived yet
		}
		write := derivation(d, was, v)
		if write == nil {
			return nil, fmt.Sprintf("column %s is derived from it, and does not fit it now", d.Column), nil
		}
		if r.refuse != nil && r.refuse(j) != "" {
			return nil, fmt.Sprintf("column %s is derived from it, and is left by your choice", d.Column), nil
		}
		after, err := rewrite.Apply(v, edits)
		if err != nil {
			return nil, "", err
		}
		seal := Seal{Column: j, After: write(after)}
		if seal.After == nil {
			return nil, fmt.Sprintf("column %s is derived from it, and it is uncertain how the new one is written", d.Column), nil
		}
		if string(seal.After) == string(was) {
			continue
		}
		if note := Outgrows(r.columns[j], int64(len(seal.After)), seal.After); note != "" {
			return nil, fmt.Sprintf("column %s is derived from it, and would outgrow its own: %s", d.Column, note), nil
		}
		seal.Edits = []rewrite.Edit{{Offset: 0, Removed: string(was), Inserted: string(seal.After)}}
		seals = append(seals, seal)
	}
	more, torn, err := g.digests(r, i, v, edits, seals)
	if err != nil || torn != "" {
		return nil, torn, err
	}
	return append(seals, more...), "", nil
}

// digests finds the columns that hold a digest of a value, besides those that are set already: they are set again with
// it; or it says why the value is left, since one of them is not to be changed.
func (g *Judge) digests(r row, i int, v []byte, edits []rewrite.Edit, known []Seal) (seals []Seal, torn string, err error) {
	var after []byte
	for j, c := range r.columns {
		if j == i || g.Size != nil && g.Size(j) > 4*maxDigest || hasSeal(known, j) {
			continue
		}
		w, ok := r.value(j)
		if !ok {
			continue
		}
		name, write := computed(c, w, v)
		if write == nil {
			continue
		}
		torn := fmt.Sprintf("%s holds its %s", called(c, j), name)
		if g.Sealable == nil || !g.Sealable(j) || r.refuse != nil && r.refuse(j) != "" || len(g.Rules.Value(w).Edits) > 0 {
			return nil, torn, nil
		}
		if after == nil {
			if after, err = rewrite.Apply(v, edits); err != nil {
				return nil, "", err
			}
		}
		seal := Seal{Column: j, After: write(after)}
		if seal.After == nil || Outgrows(c, int64(len(seal.After)), seal.After) != "" {
			return nil, torn, nil
		}
		if string(seal.After) == string(w) {
			continue
		}
		seal.Edits = []rewrite.Edit{{Removed: string(w), Inserted: string(seal.After)}}
		seals = append(seals, seal)
	}
	return seals, "", nil
}

// computed returns how what a column holds is computed from a value, and what that is called; nil if it is not: a digest, or
// a length if the column's name says so.
func computed(c database.Column, w, v []byte) (name string, write func([]byte) []byte) {
	if beside.MayBeDigest(len(w)) {
		if d, ok := beside.FindDigest(w, v); ok {
			return d.Algorithm, d.Of
		}
	}
	if !beside.SaysLength([]byte(c.Name)) || len(v) < leastLength {
		return "", nil
	}
	for _, length := range []func([]byte) []byte{inBytes, inCharacters} {
		if string(length(v)) == string(w) {
			return "length", length
		}
	}
	return "", nil
}

// leastLength is the least length that counts as evidence.
const leastLength = 8

func inBytes(b []byte) []byte { return strconv.AppendInt(nil, int64(len(b)), 10) }

func inCharacters(b []byte) []byte { return strconv.AppendInt(nil, int64(utf8.RuneCount(b)), 10) }

// digest names a column that holds a digest of a value, besides those that are set anew; "" where there is none.
func (g *Judge) digest(columns []database.Column, value func(i int) ([]byte, bool), i int, v []byte, seals []Seal) string {
	for j, c := range columns {
		if j == i || g.Size != nil && g.Size(j) > 4*maxDigest {
			continue
		}
		if hasSeal(seals, j) {
			continue
		}
		if w, ok := value(j); ok {
			if name, write := computed(c, w, v); write != nil {
				return fmt.Sprintf("%s holds its %s", called(c, j), name)
			}
		}
	}
	return ""
}

// maxDigest is about how long a digest is at most; written with escapes it is longer.
const maxDigest = 140

// Beside says why a value must stay as it is, since a column of its row holds a digest of it; "" where none does.
func Beside(columns []database.Column, value func(i int) ([]byte, bool), i int, v []byte) string {
	g := Judge{}
	return g.digest(columns, value, i, v, nil)
}

func hasSeal(seals []Seal, column int) bool {
	for _, s := range seals {
		if s.Column == column {
			return true
		}
	}
	return false
}

func columnNamed(columns []database.Column, name string) int {
	for i, c := range columns {
		if c.Name == name {
			return i
		}
	}
	return -1
}

// derivation returns how a column is derived from a value, where what it holds now fits; else nil.
func derivation(d system.Derived, was, v []byte) func([]byte) []byte {
	var write func([]byte) []byte
	switch d.As {
	case system.Bytes:
		write = inBytes
	case system.Characters:
		write = inCharacters
	default:
		digest, ok := beside.FindDigest(was, v)
		if !ok {
			return nil
		}
		return digest.Of
	}
	if string(write(v)) != string(was) {
		return nil
	}
	return write
}

// called names a column; of an export that does not name them, by its place.
func called(c database.Column, i int) string {
	if c.Name == "" {
		return fmt.Sprintf("the column at place %d", i+1)
	}
	return "column " + c.Name
}
