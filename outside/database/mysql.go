package database

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"trimlantern/outside/disk"
)

// lockName is the name of the advisory lock.
const lockName = "trimlantern"

// plainCharsets are those in which no character has a byte that looks like a
// quote or a backslash, so that statements can be put together on this side.
var plainCharsets = []string{"utf8mb4", "utf8", "utf8mb3", "latin1", "latin2", "ascii", "binary"}

func openMySQL(ctx context.Context, c Config) (Database, error) {
	m := mysql.NewConfig()
	m.User, m.Passwd, m.DBName = c.User, c.Password, c.Name
	m.Net, m.Addr = "tcp", net.JoinHostPort(c.Host, strconv.Itoa(max(c.Port, 1)))
	if c.Port == 0 {
		m.Addr = net.JoinHostPort(c.Host, "3306")
	}
	if c.Socket != "" {
		m.Net, m.Addr = "unix", c.Socket
		if o := c.Owner; o != nil {
			m.DialFunc = func(ctx context.Context, network, addr string) (net.Conn, error) {
				return o.Dial(func() (net.Conn, error) { return (&net.Dialer{}).DialContext(ctx, network, addr) })
			}
		}
	}
	m.Timeout = 15 * time.Second
	m.ClientFoundRows = true // a row that is found counts, even where nothing differs
	m.MaxAllowedPacket = 0   // as the server has it
	m.Logger = &mysql.NopLogger{}
	// Strict, so that nothing is cut in silence; but a zero date elsewhere in a row is
	// no reason to refuse the row.
	m.Params = map[string]string{"sql_mode": "'STRICT_ALL_TABLES'"}
	charset := strings.ToLower(c.Charset)
	if charset == "" || charset == "utf8" || charset == "utf8mb3" {
		charset = "utf8mb4" // a superset: utf8 would turn an emoji into a question mark
	}
	m.InterpolateParams = slices.Contains(plainCharsets, charset)
	if err := m.Apply(mysql.Charset(charset, "")); err != nil {
		return nil, err
	}
	if err := mysqlTLS(m, c); err != nil {
		return nil, err
	}
	db, err := connectMySQL(ctx, m)
	if err != nil {
		return nil, err
	}
	s := &sqlDatabase{db: db, stated: c.Identity, failure: mysqlFailure, lock: mysqlLock}
	s.db.SetMaxOpenConns(6) // two for locks, two batches at work, and what they prepare
	s.d = mysqlDialect(charset)
	var host, dir, name, version sql.NullString
	if err := s.db.QueryRowContext(ctx, "SELECT @@hostname, @@datadir, DATABASE(), VERSION()").Scan(&host, &dir, &name, &version); err != nil {
		s.db.Close()
		return nil, mysqlFailure(err)
	}
	if strings.Contains(version.String, "MariaDB") { // MySQL settles the types of parameters beforehand
		s.statements = map[string]*sql.Stmt{}
	}
	at := host.String + dir.String
	if uuid, yes := clustered(ctx, s.db); yes { // each node is the same database
		at = uuid
	}
	s.identity = fmt.Sprintf("mysql:%s:%s", at, name.String)
	return s, nil
}

// largestPacket is how much is sent at once at the most: larger values are cut by the driver, which it does in place.
const largestPacket = 16 << 20

// connectMySQL opens a database with packets that the server takes.
func connectMySQL(ctx context.Context, m *mysql.Config) (*sql.DB, error) {
	for {
		connector, err := mysql.NewConnector(m)
		if err != nil {
			return nil, err
		}
		db := sql.OpenDB(connector)
		var takes sql.NullInt64
		err = db.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&takes)
		if err == nil && m.MaxAllowedPacket == 0 && takes.Int64 > largestPacket {
			err = db.Close()
			m.MaxAllowedPacket = largestPacket
			if err == nil {
				continue
			}
		}
		if err != nil {
			_ = db.Close() // what failed before counts
			return nil, mysqlFailure(err)
		}
		return db, nil
	}
}

// mysqlDialect is the dialect of MariaDB and MySQL on a connection with a charset.
func mysqlDialect(charset string) dialect {
	return dialect{
		quote: quoteMySQL,
		place: func(_ int, c Column) string {
			if c.Kind == Form {
				return "CAST(? AS JSON)"
			}
			return "?"
		},
		read: func(c Column) string { return quoteMySQL(c.Name) },
		param: func(c Column, v Value) any {
			switch {
			case v.Null:
				return nil
			case c.Kind == Binary, c.Type == "bit":
				return v.Bytes
			case c.Kind == Integer: // compared as a number: as a text it would be compared inexactly
				if n, err := strconv.ParseUint(string(v.Bytes), 10, 64); err == nil && (c.unsigned || n > math.MaxInt64) {
					return n // of the column's own kind, which is compared fastest
				}
				if n, err := strconv.ParseInt(string(v.Bytes), 10, 64); err == nil {
					return n
				}
			}
			if len(v.Bytes) == 0 {
				return ""
			}
			return json.RawMessage(v.Bytes) // how the driver takes a text without a copy
		},
		whole:     func(c Column) string { return mysqlWhole(c, charset) },
		digest:    mysqlDigest(charset),
		forUpdate: " FOR UPDATE",
		byKey:     " FORCE INDEX (PRIMARY)",
		cases:     true,
		apart:     true,
		writes:    "SHOW SESSION STATUS WHERE Variable_name IN ('Handler_write', 'Handler_update', 'Handler_delete')",
		tables:    mysqlTables,
		objects:   mysqlObjects,
		script:    mysqlScript(charset),
	}
}

// carried are the charsets that convert to utf8mb4 and back without a change.
var carried = []string{"utf8mb4", "utf8mb3", "utf8", "latin1"} // ascii can hold other bytes, which no conversion keeps

// mysqlWhole returns the SQL condition that a column's bytes survive conversion to the connection's
// charset and back, or "" if they always do.
func mysqlWhole(c Column, connection string) string {
	if c.Kind != Text || c.charset == "" || c.charset == connection || connection == "binary" || connection == "utf8mb4" && slices.Contains(carried, c.charset) {
		return ""
	}
	name := quoteMySQL(c.Name)
	return "CAST(CONVERT(CONVERT(" + name + " USING " + connection + ") USING " + c.charset + ") AS BINARY) <=> CAST(" + name + " AS BINARY)"
}

func quoteMySQL(n string) string { return "`" + strings.ReplaceAll(n, "`", "``") + "`" }

// mysqlTLS sets how the connection is protected.
func mysqlTLS(m *mysql.Config, c Config) error {
	conf, err := tlsConfig(c)
	if err != nil {
		return err
	}
	switch {
	case conf != nil:
		m.TLS = conf
	case c.TLS == "" && c.Socket == "":
		m.TLSConfig = "preferred"
	}
	return nil
}

// tlsConfig returns what "encrypt" and "verify" ask for, or nil.
func tlsConfig(c Config) (*tls.Config, error) {
	switch c.TLS {
	case "encrypt":
		return &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}, nil // asked for: no check of the certificate
	case "verify":
		conf := &tls.Config{ServerName: c.Host, MinVersion: tls.VersionTLS12}
		if c.CA == "" {
			return conf, nil
		}
		b, err := disk.ReadTrusted(c.CA, 4<<20)
		if err != nil {
			return nil, err
		}
		conf.RootCAs = x509.NewCertPool()
		if !conf.RootCAs.AppendCertsFromPEM(b) {
			return nil, fmt.Errorf("%s holds no certificate in PEM form", c.CA)
		}
		return conf, nil
	}
	return nil, nil
}

// mysqlFailure names what a user can do something about.
func mysqlFailure(err error) error {
	var e *mysql.MySQLError
	var op *net.OpError
	var cert *tls.CertificateVerificationError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &e):
		switch e.Number {
		case 1044, 1045, 1698:
			return fmt.Errorf("%w (error %d)", ErrDenied, e.Number)
		case 1142, 1143, 1227:
			return fmt.Errorf("%w (error %d)", ErrRights, e.Number)
		case 1290, 1792, 1836: // read_only, a read-only transaction, a replica
			return fmt.Errorf("%w (error %d)", ErrFrozen, e.Number)
		case 1205, 1213: // a lock not to be had in time, a deadlock or another node's change
			return fmt.Errorf("%w (error %d)", ErrAgain, e.Number)
		case 1047, 1180:
			// A node that is cut off from its cluster, or has not joined it yet.
			if strings.Contains(e.Message, "WSREP") || strings.Contains(e.Message, "provider status") {
				return fmt.Errorf("%w (error %d: %s)", ErrAgain, e.Number, e.Message)
			}
		case 1049:
			return fmt.Errorf("%w: %s", ErrAbsent, e.Message)
		case 1109: // a table of information_schema
			return fmt.Errorf("%w (error %d)", errNoCatalogue, e.Number)
		case 1178: // Aria
			return fmt.Errorf("%w (error %d)", errNoSteps, e.Number)
		case 1243, 1461, 1615: // unknown, one too many, to be prepared anew
			return fmt.Errorf("%w (error %d)", errUnprepared, e.Number)
		case 1021, 1037, 1038, 1041, 1053, 1077, 1079, 1158, 1159, 1160, 1161, 1317, 1927: // no disk or memory, the end of the server or of the connection
			return err
		case 1062, 1586, 4025, 3819, 1451, 1452, 1406, 1366: // whose messages hold values
			return fmt.Errorf("%w (error %d)", ErrRefused, e.Number)
		}
		return fmt.Errorf("%w (error %d: %s)", ErrRefused, e.Number, e.Message)
	case errors.Is(err, mysql.ErrPktTooLarge):
		return fmt.Errorf("%w: it is larger than the server's max_allowed_packet", ErrRefused)
	case errors.As(err, &cert), errors.Is(err, mysql.ErrNoTLS):
		return fmt.Errorf("%w: %w", ErrTLS, err)
	case errors.As(err, &op) && op.Op == "dial":
		return fmt.Errorf("%w: %w", ErrAbsent, op.Err)
	}
	return err
}

func mysqlLock(ctx context.Context, db *sql.DB) (held, error) {
	const id = "CONCAT('" + lockName + ":', DATABASE())"
	own, err := sessionLock(ctx, db, "SELECT GET_LOCK("+id+", 0)", "SELECT IS_USED_LOCK("+id+")", "DO RELEASE_LOCK("+id+")")
	if err != nil {
		return own, err
	}
	if _, yes := clustered(ctx, db); !yes {
		return own, nil
	}
	l, err := takeLease(ctx, db)
	if errors.Is(mysqlFailure(err), ErrRights) {
		own.oneNode = true // who may make no table has the lock of one node; no edit is lost without it
		return own, nil
	}
	if err != nil {
		own.release()
		return held{}, err
	}
	return held{
		release: func() { l.release(); own.release() },
		still:   func(ctx context.Context) error { return errors.Join(l.still(ctx), own.still(ctx)) },
	}, nil
}

// mysqlKinds is the one table of the types that can hold a reference.
var mysqlKinds = map[string]Kind{
	"char": Text, "varchar": Text, "tinytext": Text, "text": Text, "mediumtext": Text, "longtext": Text, "json": Form,
	"binary": Binary, "varbinary": Binary, "tinyblob": Binary, "blob": Binary, "mediumblob": Binary, "longblob": Binary,
	"enum": List, "set": List, // one of a few texts that the table's definition holds
	"tinyint": Integer, "smallint": Integer, "mediumint": Integer, "int": Integer, "bigint": Integer, "year": Integer,
}

func mysqlTables(ctx context.Context, db *sql.DB, prefix string) ([]Table, error) {
	like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(prefix) + "%"
	rows, err := db.QueryContext(ctx, `SELECT c.TABLE_NAME, c.COLUMN_NAME, LOWER(c.DATA_TYPE), c.COLUMN_TYPE LIKE '%unsigned%', LOWER(c.EXTRA),
		COALESCE(c.CHARACTER_MAXIMUM_LENGTH, 0), COALESCE(c.CHARACTER_OCTET_LENGTH, 0), COALESCE(e.TRANSACTIONS, '') <> 'YES', COALESCE(t.TABLE_ROWS, -1), COALESCE(c.CHARACTER_SET_NAME, '')
		FROM information_schema.COLUMNS c JOIN information_schema.TABLES t USING (TABLE_SCHEMA, TABLE_NAME)
		LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE
		WHERE c.TABLE_SCHEMA = DATABASE() AND t.TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED') AND c.TABLE_NAME LIKE ? AND c.TABLE_NAME <> '`+leaseTable+`'
		ORDER BY c.TABLE_NAME, c.ORDINAL_POSITION`, like)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var tables []Table
	for rows.Next() {
		var table, column, typ, extra, charset string
		var chars, octets uint64
		var loose, unsigned bool
		var about int64
		if err := rows.Scan(&table, &column, &typ, &unsigned, &extra, &chars, &octets, &loose, &about, &charset); err != nil {
			return nil, err
		}
		if len(tables) == 0 || tables[len(tables)-1].Name != table {
			tables = append(tables, Table{Name: table, loose: loose, about: about})
		}
		t := &tables[len(tables)-1]
		if strings.Contains(extra, "on update") {
			t.Stamps = append(t.Stamps, column)
		}
		if strings.Contains(extra, "generated") && !strings.Contains(extra, "default_generated") {
			continue
		}
		c := Column{Name: column, Kind: mysqlKinds[typ], Type: typ, MaxChars: int64(chars), MaxBytes: int64(octets), unsigned: unsigned, charset: strings.ToLower(charset)}
		if strings.HasSuffix(typ, "text") {
			c.MaxChars = 0 // such a type is bounded in bytes alone
		}
		t.All = append(t.All, c)
		if c.Kind >= Text {
			t.Columns = append(t.Columns, c)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if err := mysqlTriggers(ctx, db, tables); err != nil {
		return nil, err
	}
	follows, err := db.QueryContext(ctx, `SELECT k.REFERENCED_TABLE_NAME, k.REFERENCED_COLUMN_NAME, k.TABLE_NAME, r.UPDATE_RULE
		FROM information_schema.REFERENTIAL_CONSTRAINTS r JOIN information_schema.KEY_COLUMN_USAGE k
		ON k.CONSTRAINT_SCHEMA = r.CONSTRAINT_SCHEMA AND k.CONSTRAINT_NAME = r.CONSTRAINT_NAME AND k.TABLE_NAME = r.TABLE_NAME
		WHERE r.CONSTRAINT_SCHEMA = DATABASE() AND r.UPDATE_RULE IN ('SET NULL', 'SET DEFAULT') AND k.REFERENCED_COLUMN_NAME IS NOT NULL`)
	if err != nil {
		return nil, err
	}
	if err := addFollows(follows, tables); err != nil {
		return nil, err
	}
	return tables, mysqlKeys(ctx, db, tables)
}

func mysqlTriggers(ctx context.Context, db *sql.DB, tables []Table) error {
	rows, err := db.QueryContext(ctx, `SELECT EVENT_OBJECT_TABLE, TRIGGER_NAME FROM information_schema.TRIGGERS
		WHERE EVENT_OBJECT_SCHEMA = DATABASE() AND EVENT_MANIPULATION = 'UPDATE' ORDER BY 1, 2`)
	if err != nil {
		return err
	}
	return addTriggers(rows, tables)
}

// addTriggers reads tables' names with those of their triggers.
func addTriggers(rows *sql.Rows, tables []Table) error {
	defer rows.Close()
	for rows.Next() {
		var table, trigger string
		if err := rows.Scan(&table, &trigger); err != nil {
			return err
		}
		for i := range tables {
			if tables[i].Name == table {
				tables[i].Triggers = append(tables[i].Triggers, trigger)
			}
		}
	}
	return rows.Err()
}

// mysqlKeys finds each table's key: the primary one, or else the first unique
// one without nullable columns or prefixes.
func mysqlKeys(ctx context.Context, db *sql.DB, tables []Table) error {
	rows, err := db.QueryContext(ctx, `SELECT TABLE_NAME, INDEX_NAME, COLUMN_NAME, SUB_PART IS NOT NULL, NULLABLE = 'YES'
		FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = DATABASE() AND NON_UNIQUE = 0
		ORDER BY TABLE_NAME, INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX`)
	if err != nil {
		return err
	}
	return addIndexes(rows, tables)
}

// inexact reports whether a value of a column, read as text, does not find its row again.
func inexact(c Column) bool { return c.Type == "float" || c.Type == "bit" }

// addIndexes reads tables' names with their unique indexes and the indexes'
// columns, in order, the primary one first: whether a column is there only in part,
// and whether it may be NULL.
func addIndexes(rows *sql.Rows, tables []Table) error {
	defer rows.Close()
	part, nullable := map[[2]string]bool{}, map[[2]string]bool{} // by table and index
	for rows.Next() {
		var table, name string
		var column sql.NullString
		var inPart, null bool
		if err := rows.Scan(&table, &name, &column, &inPart, &null); err != nil {
			return err
		}
		i := slices.IndexFunc(tables, func(t Table) bool { return t.Name == table })
		if i < 0 {
			continue
		}
		t, id := &tables[i], [2]string{table, name}
		if n := len(t.Unique); n == 0 || t.Unique[n-1].Name != name {
			t.Unique = append(t.Unique, Index{Name: name})
		}
		ix := &t.Unique[len(t.Unique)-1]
		ix.Columns = append(ix.Columns, column.String)
		part[id] = part[id] || inPart || !column.Valid
		nullable[id] = nullable[id] || null
	}
	for i := range tables {
		t := &tables[i]
		t.Unique = slices.DeleteFunc(t.Unique, func(ix Index) bool {
			_, err := pickColumns(*t, ix.Columns) // generated columns are none of ours
			return err != nil || part[[2]string{t.Name, ix.Name}]
		})
		for _, ix := range t.Unique {
			columns, err := pickColumns(*t, ix.Columns)
			if err == nil && !nullable[[2]string{t.Name, ix.Name}] && !slices.ContainsFunc(columns, inexact) {
				t.Key, t.primary = columns, ix.Name == "PRIMARY"
				break
			}
		}
	}
	return rows.Err()
}
