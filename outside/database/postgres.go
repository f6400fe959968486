package database

import (
	"cmp"
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
)

func openPostgres(ctx context.Context, c Config) (Database, error) {
	p, err := postgresConfig(c)
	if err != nil {
		return nil, err
	}
	p.ConnectTimeout = 15 * time.Second
	if o := c.Owner; o != nil && c.Socket != "" {
		p.DialFunc = func(ctx context.Context, network, addr string) (net.Conn, error) {
			return o.Dial(func() (net.Conn, error) { return (&net.Dialer{}).DialContext(ctx, network, addr) })
		}
	}
	p.RuntimeParams["application_name"] = "trimlantern"
	p.RuntimeParams["standard_conforming_strings"] = "on"
	if c.Schema != "" {
		p.RuntimeParams["search_path"] = quoteSQL(c.Schema)
	}
	if c.ReadOnly {
		p.RuntimeParams["default_transaction_read_only"] = "on"
	}
	if err := postgresTLS(p, c); err != nil {
		return nil, err
	}
	s := &sqlDatabase{db: stdlib.OpenDB(*p), stated: c.Identity, failure: postgresFailure, lock: postgresLock}
	s.db.SetMaxOpenConns(4)
	s.d = dialect{
		quote: quoteSQL,
		// A parameter is a text that the server reads as a value of the column's type.
		place: func(n int, c Column) string {
			if c.Kind == Binary {
				return fmt.Sprintf("$%d::bytea", n)
			}
			if c.Type == "" {
				return fmt.Sprintf("$%d::text", n)
			}
			return fmt.Sprintf("CAST($%d::text AS %s)", n, c.Type)
		},
		read: func(c Column) string {
			if c.Kind == Binary {
				return quoteSQL(c.Name)
			}
			return quoteSQL(c.Name) + "::text"
		},
		param: func(c Column, v Value) any {
			switch {
			case v.Null:
				return nil
			case c.Kind == Binary:
				return v.Bytes
			}
			return unsafe.String(unsafe.SliceData(v.Bytes), len(v.Bytes)) // nobody writes into it while the statement runs
		},
		raw:       postgresRaw,
		digest:    postgresDigest,
		forUpdate: " FOR UPDATE",
		insert:    " OVERRIDING SYSTEM VALUE",
		savepoint: true,
		objects:   postgresObjects,
		ruled:     "SET CONSTRAINTS ALL IMMEDIATE",
		writes:    "SELECT COALESCE(sum(n_tup_ins + n_tup_upd + n_tup_del), 0)::bigint FROM pg_stat_xact_user_tables",
		only:      "ONLY ",
		tables:    postgresTables,
	}
	var server, name, schema sql.NullString
	err = s.db.QueryRowContext(ctx, "SELECT (SELECT system_identifier::text FROM pg_control_system()), current_database(), current_schema()").Scan(&server, &name, &schema)
	if err != nil {
		s.db.Close()
		return nil, postgresFailure(err)
	}
	if !schema.Valid {
		s.db.Close()
		return nil, fmt.Errorf("%w: it has no schema %q", ErrAbsent, c.Schema)
	}
	s.d.script = postgresScript(schema.String)
	s.identity = fmt.Sprintf("postgres:%s:%s:%s", server.String, name.String, schema.String)
	return s, nil
}

// postgresRaw runs a statement whose parameters are texts, bytes or NULL.
func postgresRaw(ctx context.Context, conn *sql.Conn, text string, args []any) (did int64, err error) {
	values, formats := make([][]byte, len(args)), make([]int16, len(args))
	for i, a := range args {
		switch a := a.(type) {
		case []byte:
			values[i], formats[i] = a, pgx.BinaryFormatCode
			if a == nil {
				values[i] = []byte{}
			}
		case string:
			values[i] = unsafe.Slice(unsafe.StringData(a), len(a))
			if a == "" {
				values[i] = []byte{}
			}
		}
	}
	err = conn.Raw(func(c any) error {
		r := c.(*stdlib.Conn).Conn().PgConn().ExecParams(ctx, text, values, nil, formats, nil).Read()
		did = r.CommandTag.RowsAffected()
		return r.Err
	})
	return did, err
}

// postgresConfig says where to connect and as whom. Without a password of its own it takes the
// one that the user's password file has for exactly this host, port, database and user.
func postgresConfig(c Config) (*pgx.ConnConfig, error) {
	host, port := c.Host, cmp.Or(c.Port, 5432)
	if c.Socket != "" {
		host = c.Socket
	}
	var words []string
	for _, w := range [][2]string{{"host", host}, {"port", strconv.Itoa(port)}, {"user", c.User}, {"dbname", c.Name}} {
		if w[1] != "" {
			words = append(words, w[0]+"='"+strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(w[1])+"'")
		}
	}
	p, err := pgx.ParseConfig(strings.Join(append(words, "sslmode=disable"), " ")) // see postgresTLS
	if err != nil {
		return nil, fmt.Errorf("the settings of the connection cannot be used: %w", err)
	}
	if c.Password != "" {
		p.Password = c.Password
	}
	return p, nil
}

// postgresTLS sets how the connection is protected. Without a word on it, TLS is
// tried first, then plain.
func postgresTLS(p *pgx.ConnConfig, c Config) error {
	p.TLSConfig, p.Fallbacks = nil, nil
	if c.Socket != "" || c.TLS == "off" {
		return nil
	}
	conf, err := tlsConfig(c)
	if err != nil {
		return err
	}
	if p.TLSConfig = conf; conf == nil {
		p.TLSConfig = &tls.Config{InsecureSkipVerify: true} // better than nothing, and nothing is the alternative
		p.Fallbacks = []*pgconn.FallbackConfig{{Host: p.Host, Port: p.Port}}
	}
	return nil
}

// postgresFailure names what a user can do something about.
func postgresFailure(err error) error {
	var e *pgconn.PgError
	var op *net.OpError
	var cert *tls.CertificateVerificationError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &e):
		switch {
		case e.Code == "28P01", e.Code == "28000":
			return fmt.Errorf("%w (%s)", ErrDenied, e.Code)
		case e.Code == "42501":
			return fmt.Errorf("%w (%s)", ErrRights, e.Code)
		case e.Code == "25006": // a replica, or a database that is set so
			return fmt.Errorf("%w (%s)", ErrFrozen, e.Code)
		case e.Code == "40001", e.Code == "40P01", e.Code == "55P03": // serialization, a deadlock, a lock
			return fmt.Errorf("%w (%s)", ErrAgain, e.Code)
		case e.Code == "3D000":
			return fmt.Errorf("%w: %s", ErrAbsent, e.Message)
		case e.Code == "57014": // stopped by a limit of time, or by a trigger
		case slices.Contains([]string{"08", "53", "57", "58", "XX"}, e.Code[:min(2, len(e.Code))]): // the server or the connection itself
			return fmt.Errorf("%s (%s)", e.Message, e.Code)
		case strings.HasPrefix(e.Code, "22"), strings.HasPrefix(e.Code, "23"): // whose messages hold values
			return fmt.Errorf("%w (%s)", ErrRefused, e.Code)
		}
		return fmt.Errorf("%w (%s: %s)", ErrRefused, e.Code, e.Message) // its details may hold values
	case errors.As(err, &cert), strings.Contains(err.Error(), "server refused TLS connection"):
		return fmt.Errorf("%w: %w", ErrTLS, err)
	case errors.As(err, &op) && op.Op == "dial":
		return fmt.Errorf("%w: %w", ErrAbsent, op.Err)
	}
	return err
}

func postgresLock(ctx context.Context, db *sql.DB) (held, error) {
	const id = "hashtext('" + lockName + "')"
	return sessionLock(ctx, db, "SELECT pg_try_advisory_lock("+id+")",
		"SELECT pid FROM pg_locks WHERE locktype = 'advisory' AND objid::bigint = "+id+"::bigint & 4294967295 AND granted LIMIT 1",
		"SELECT pg_advisory_unlock("+id+")")
}

// postgresTables reads the catalogue: tables and partitioned tables of the current
// schema; a partition is read through its table.
func postgresTables(ctx context.Context, db *sql.DB, prefix string) ([]Table, error) {
	rows, err := db.QueryContext(ctx, `SELECT c.relname, c.relkind = 'p', a.attname, a.attgenerated <> '',
		format_type(a.atttypid, a.atttypmod), COALESCE(NULLIF(t.typbasetype, 0), t.oid)::regtype::text,
		t.typcategory = 'A' OR t.typcategory = 'C',
		CASE WHEN COALESCE(NULLIF(t.typbasetype, 0), t.oid) IN ('varchar'::regtype, 'bpchar'::regtype)
			AND GREATEST(a.atttypmod, t.typtypmod) > 4 THEN GREATEST(a.atttypmod, t.typtypmod) - 4 ELSE 0 END,
		c.reltuples::bigint, row_security_active(c.oid)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid JOIN pg_type t ON t.oid = a.atttypid
		WHERE n.nspname = current_schema() AND c.relkind IN ('r', 'p') AND NOT c.relispartition AND a.attnum > 0 AND NOT a.attisdropped
		AND starts_with(c.relname::text, $1) ORDER BY c.relname COLLATE "C", a.attnum`, prefix)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var tables []Table
	for rows.Next() {
		var table, column, typ, base string
		var parts, generated, list, hidden bool
		var chars, about int64
		if err := rows.Scan(&table, &parts, &column, &generated, &typ, &base, &list, &chars, &about, &hidden); err != nil {
			return nil, err
		}
		if len(tables) == 0 || tables[len(tables)-1].Name != table {
			tables = append(tables, Table{Name: table, children: parts, about: about, Hidden: hidden})
		}
		if generated {
			continue
		}
		t := &tables[len(tables)-1]
		c := Column{Name: column, Kind: postgresKinds[base], Type: typ, MaxChars: chars}
		if list || base == "hstore" {
			c.Kind = List
		}
		t.All = append(t.All, c)
		if c.Kind >= Text {
			t.Columns = append(t.Columns, c)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	triggers, err := db.QueryContext(ctx, `SELECT c.relname, t.tgname FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid
		JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = current_schema() AND NOT t.tgisinternal AND t.tgenabled <> 'D' AND t.tgtype & 16 <> 0 ORDER BY 1, 2`)
	if err != nil {
		return nil, err
	}
	if err := addTriggers(triggers, tables); err != nil {
		return nil, err
	}
	follows, err := db.QueryContext(ctx, `SELECT r.relname, a.attname, c.relname, CASE k.confupdtype WHEN 'n' THEN 'SET NULL' ELSE 'SET DEFAULT' END
		FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_class r ON r.oid = k.confrelid JOIN pg_namespace n ON n.oid = r.relnamespace
		JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum = ANY (k.confkey)
		WHERE k.contype = 'f' AND k.confupdtype IN ('n', 'd') AND n.nspname = current_schema()`)
	if err != nil {
		return nil, err
	}
	if err := addFollows(follows, tables); err != nil {
		return nil, err
	}
	indexes, err := db.QueryContext(ctx, `SELECT c.relname, i.relname, a.attname, x.indpred IS NOT NULL OR a.attnum IS NULL OR NOT x.indimmediate, COALESCE(NOT a.attnotnull, true)
		FROM pg_index x JOIN pg_class c ON c.oid = x.indrelid JOIN pg_class i ON i.oid = x.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		CROSS JOIN LATERAL generate_series(0, x.indnkeyatts - 1) k LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = x.indkey[k]
		WHERE n.nspname = current_schema() AND x.indisunique AND x.indisvalid ORDER BY c.relname, NOT x.indisprimary, i.relname, k`)
	if err != nil {
		return nil, err
	}
	return tables, addIndexes(indexes, tables)
}

// postgresKinds is the one table of the types that can hold a reference.
var postgresKinds = map[string]Kind{
	"text": Text, "character varying": Text, "character": Text, "citext": Text, "name": Text, "xml": Text, "json": Text,
	"jsonb": Form, "bytea": Binary, "smallint": Integer, "integer": Integer, "bigint": Integer,
}
