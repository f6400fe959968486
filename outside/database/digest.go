package database

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"slices"
)

// Digest is what the database itself says of one cell: SHA-256, in lower-case hexadecimal digits.
// Both are "" where the cell is NULL.
type Digest struct {
	Text string // of the bytes as Read returns them
	Raw  string // of the column's own bytes, in the column's charset
}

// NoDigest is the digest of a cell of whose kind the database tells none.
var NoDigest = Digest{"none", "none"}

// digester says how a system computes the digests of a column: SQL expressions for its quoted name. An
// empty text says that there are none; an empty raw, that the column's own bytes are those that are read.
type digester func(c Column) (text, raw string)

// Converts reports whether the connection reads a column in another charset than it has.
func (b *sqlBatch) Converts(c Column) bool {
	if b.s.d.digest == nil {
		return false
	}
	_, raw := b.s.d.digest(c)
	return raw != ""
}

// Digests has the database compute the digests of columns of rows. The result has a list for each
// key, nil where there is no such row.
func (b *sqlBatch) Digests(ctx context.Context, t Table, keys [][][]byte, columns []string) ([][]Digest, error) {
	if b.s.d.digest == nil {
		return b.readDigests(ctx, t, keys, columns)
	}
	if err := keyed(t, keys...); err != nil {
		return nil, err
	}
	list, err := pickColumns(t, columns)
	if err != nil {
		return nil, err
	}
	out := make([][]Digest, 0, len(keys))
	for part := range slices.Chunk(keys, readAtOnce) {
		q := b.s.query()
		q.add("SELECT ")
		for i, k := range t.Key {
			if i > 0 {
				q.add(", ")
			}
			q.add(b.s.d.read(k))
		}
		width := len(t.Key)
		for _, c := range list {
			text, raw := b.s.d.digest(c)
			if text == "" {
				text = "NULL"
			}
			q.add(", ", text)
			if width++; raw != "" {
				q.add(", ", raw)
				width++
			}
		}
		q.add(" FROM ", b.s.d.tableByKey(t), " WHERE ")
		q.in(t, part)
		rows, err := all(ctx, b.tx, q, width)
		if err != nil {
			return nil, b.s.failure(err)
		}
		at := make(map[string][]Digest, len(rows))
		for _, r := range rows {
			ds := make([]Digest, len(list))
			k := len(t.Key)
			for i, c := range list {
				text, raw := b.s.d.digest(c)
				ds[i].Text = string(r[k].Bytes)
				ds[i].Raw = ds[i].Text
				if text == "" {
					ds[i] = NoDigest
				}
				k++
				if raw != "" {
					ds[i].Raw = string(r[k].Bytes)
					k++
				}
			}
			at[joined(bytesOf(r[:len(t.Key)]))] = ds
		}
		for _, key := range part {
			out = append(out, at[joined(key)])
		}
	}
	return out, nil
}

// readDigests hashes what is read, where the database is a library in this process.
func (b *sqlBatch) readDigests(ctx context.Context, t Table, keys [][][]byte, columns []string) ([][]Digest, error) {
	rows, err := b.Read(ctx, t, keys, columns)
	if err != nil {
		return nil, err
	}
	out := make([][]Digest, len(rows))
	for i, row := range rows {
		if row == nil {
			continue
		}
		out[i] = make([]Digest, len(row))
		for k, v := range row {
			if !v.Null {
				sum := sha256.Sum256(v.Bytes)
				out[i][k].Text = hex.EncodeToString(sum[:])
				out[i][k].Raw = out[i][k].Text
			}
		}
	}
	return out, nil
}

// mysqlDigest computes digests in MariaDB and MySQL.
func mysqlDigest(connection string) digester {
	return func(c Column) (text, raw string) {
		name := quoteMySQL(c.Name)
		own := "SHA2(CAST(" + name + " AS BINARY), 256)"
		switch {
		case c.Kind == Form:
			return "", ""
		case c.Kind != Text || c.charset == "" || c.charset == connection || connection == "binary" || unicode(c.charset) && unicode(connection):
			return own, ""
		}
		return "SHA2(CAST(CONVERT(" + name + " USING " + connection + ") AS BINARY), 256)", own
	}
}

// unicode reports whether a charset of MariaDB is UTF-8.
func unicode(charset string) bool {
	return charset == "utf8mb4" || charset == "utf8mb3" || charset == "utf8"
}

// postgresDigest computes digests in PostgreSQL, whose connections have the charset of the database.
func postgresDigest(c Column) (text, raw string) {
	name := quoteSQL(c.Name)
	switch c.Kind {
	case Binary:
		return "encode(sha256(" + name + "), 'hex')", ""
	case Text:
		return "encode(sha256(convert_to(" + name + "::text, getdatabaseencoding()::name)), 'hex')", ""
	}
	return "", ""
}
