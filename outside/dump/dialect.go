// Package dump reads SQL dumps as streams, the way the dump programs of MariaDB
// and MySQL, PostgreSQL and SQLite write them, row by row, and writes them again
// with nothing changed but what it is told to.
package dump

import "regexp"

// Dialect is whose SQL a dump is written in.
type Dialect uint8

// The dialects.
const (
	Unknown Dialect = iota
	MySQL           // MariaDB too
	Postgres
	SQLite
)

// String names the dialect.
func (d Dialect) String() string {
	return [...]string{"unknown", "MariaDB or MySQL", "PostgreSQL", "SQLite"}[d]
}

// sniffs is the one table of signs by which a dump is told. Those that come first
// are the surer.
var sniffs = []struct {
	sign *regexp.Regexp
	is   Dialect
}{
	{regexp.MustCompile(`(?m)^-- (MariaDB|MySQL) dump|^/\*M?!\d+`), MySQL},
	{regexp.MustCompile(`(?m)^-- PostgreSQL database dump|^COPY [^;]+ FROM stdin;|^SELECT pg_catalog\.`), Postgres},
	{regexp.MustCompile(`(?m)^PRAGMA foreign_keys=|^BEGIN TRANSACTION;\s+CREATE TABLE`), SQLite},
	{regexp.MustCompile("(?mi)^(INSERT|REPLACE) (IGNORE )?INTO `|^CREATE TABLE (IF NOT EXISTS )?`|^LOCK TABLES "), MySQL},
	{regexp.MustCompile(`(?m)^SET standard_conforming_strings|^SET client_encoding|^\\restrict `), Postgres},
}

// Sniff tells the dialect from the beginning of a dump.
func Sniff(head []byte) Dialect {
	for _, s := range sniffs {
		if s.sign.Match(head) {
			return s.is
		}
	}
	return Unknown
}
