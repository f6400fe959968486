package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"trimlantern/core/envelope"
)

// lockName is the name of the advisory lock in MariaDB and MySQL.
const lockName = "trimlantern"

func openMySQL(ctx context.Context, c Config) (Database, error) {
	m := mysql.NewConfig()
	m.User, m.Passwd, m.DBName = c.User, c.Password, c.Name
	m.Net, m.Addr = "tcp", net.JoinHostPort(c.Host, strconv.Itoa(max(c.Port, 1)))
	if c.Port == 0 {
		m.Addr = net.JoinHostPort(c.Host, "3306")
	}
	if c.Socket != "" {
		m.Net, m.Addr = "unix", c.Socket
	}
	m.Timeout = 15 * time.Second
	m.ClientFoundRows = true // a row that is found counts, even where nothing differs
	m.Logger = &mysql.NopLogger{}
	charset := c.Charset
	if charset == "" {
		charset = "utf8mb4"
	}
	if err := m.Apply(mysql.Charset(charset, "")); err != nil {
		return nil, err
	}
	connector, err := mysql.NewConnector(m)
	if err != nil {
		return nil, err
	}
	s := &sqlDatabase{db: sql.OpenDB(connector), failure: mysqlFailure, lock: mysqlLock}
	s.db.SetMaxOpenConns(4)
	s.d = dialect{
		quote: func(n string) string { return "`" + strings.ReplaceAll(n, "`", "``") + "`" },
		// latin1 keeps every ASCII letter of every charset, and all bytes of binary
		// columns. Base64 is looked for only where the letters are not there.
		coarse: func(column string, pick Pick) string {
			text := "CONVERT(" + column + " USING latin1)"
			if pick == Serialized {
				return text + " COLLATE latin1_bin REGEXP '^[sSaOCE]:[0-9]+:'"
			}
			return "LOCATE('http', LOWER(" + text + ")) > 0 OR " + text + " COLLATE latin1_bin REGEXP '" + coarsePattern + "'"
		},
		key: func(raw []byte) any { return string(raw) },
		value: func(v Value) any {
			if v.Null {
				return nil
			}
			return v.Bytes
		},
		scanned: func(raw any) (Value, error) {
			switch v := raw.(type) {
			case nil:
				return Value{Null: true}, nil
			case []byte:
				return Value{Bytes: slices.Clone(v)}, nil
			case string:
				return Value{Bytes: []byte(v)}, nil
			}
			return Value{}, fmt.Errorf("a text column came as %T", raw)
		},
		forUpdate: " FOR UPDATE",
		tables:    mysqlTables,
	}
	var host, dir, name sql.NullString
	if err := s.db.QueryRowContext(ctx, "SELECT @@hostname, @@datadir, DATABASE()").Scan(&host, &dir, &name); err != nil {
		s.db.Close()
		return nil, mysqlFailure(err)
	}
	s.identity = fmt.Sprintf("mysql:%s%s:%s", host.String, dir.String, name.String)
	return s, nil
}

// coarsePattern finds what the letters "http" do not: web sockets, and what base64
// makes of schemes. It is a part of SQL text.
var coarsePattern = `[wW][sS][:%&\\\\]|` + strings.Join(envelope.Base64Marks(), "|")

// mysqlFailure names what a user can do something about.
func mysqlFailure(err error) error {
	var e *mysql.MySQLError
	var op *net.OpError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &e) && (e.Number == 1045 || e.Number == 1044 || e.Number == 1698):
		return fmt.Errorf("%w (error %d)", ErrDenied, e.Number)
	case errors.As(err, &e) && e.Number == 1049:
		return fmt.Errorf("%w: %s", ErrAbsent, e.Message)
	case errors.As(err, &op) && op.Op == "dial":
		return fmt.Errorf("%w: %w", ErrAbsent, op.Err)
	}
	return err
}

func mysqlLock(ctx context.Context, db *sql.DB) (func(), error) {
	conn, err := db.Conn(ctx) // the lock lives as long as its connection
	if err != nil {
		return nil, err
	}
	var got sql.NullInt64
	if err := conn.QueryRowContext(ctx, "SELECT GET_LOCK(CONCAT(?, ':', DATABASE()), 0)", lockName).Scan(&got); err != nil {
		conn.Close()
		return nil, err
	}
	if got.Int64 != 1 {
		var holder sql.NullInt64
		err := conn.QueryRowContext(ctx, "SELECT IS_USED_LOCK(CONCAT(?, ':', DATABASE()))", lockName).Scan(&holder)
		conn.Close()
		if err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%w (database connection %d)", ErrLocked, holder.Int64)
	}
	return func() { conn.Close() }, nil
}

// textTypes are the types that can hold a reference, with what they hold at most
// where the catalogue does not say it in characters.
var textTypes = map[string]bool{
	"char": true, "varchar": true, "tinytext": true, "text": true, "mediumtext": true, "longtext": true, "json": true,
	"binary": true, "varbinary": true, "tinyblob": true, "blob": true, "mediumblob": true, "longblob": true,
}

func mysqlTables(ctx context.Context, db *sql.DB, prefix string) ([]Table, error) {
	like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(prefix) + "%"
	rows, err := db.QueryContext(ctx, `SELECT c.TABLE_NAME, c.COLUMN_NAME, c.DATA_TYPE, c.EXTRA,
		COALESCE(c.CHARACTER_MAXIMUM_LENGTH, 0), COALESCE(c.CHARACTER_OCTET_LENGTH, 0)
		FROM information_schema.COLUMNS c JOIN information_schema.TABLES t USING (TABLE_SCHEMA, TABLE_NAME)
		WHERE c.TABLE_SCHEMA = DATABASE() AND t.TABLE_TYPE = 'BASE TABLE' AND c.TABLE_NAME LIKE ?
		ORDER BY c.TABLE_NAME, c.ORDINAL_POSITION`, like)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var tables []Table
	for rows.Next() {
		var table, column, typ, extra string
		var chars, octets uint64
		if err := rows.Scan(&table, &column, &typ, &extra, &chars, &octets); err != nil {
			return nil, err
		}
		if len(tables) == 0 || tables[len(tables)-1].Name != table {
			tables = append(tables, Table{Name: table})
		}
		t := &tables[len(tables)-1]
		extra = strings.ToLower(extra)
		if strings.Contains(extra, "on update") {
			t.Stamps = append(t.Stamps, column)
		}
		if textTypes[strings.ToLower(typ)] && !strings.Contains(extra, "generated") {
			c := Column{Name: column, MaxChars: int64(chars), MaxBytes: int64(octets)}
			if strings.HasSuffix(strings.ToLower(typ), "text") {
				c.MaxChars = 0 // such a type is bounded in bytes alone
			}
			t.Columns = append(t.Columns, c)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	return tables, mysqlKeys(ctx, db, tables)
}

// mysqlKeys finds each table's key: the primary one, or else the first unique
// one without nullable columns or prefixes.
func mysqlKeys(ctx context.Context, db *sql.DB, tables []Table) error {
	rows, err := db.QueryContext(ctx, `SELECT TABLE_NAME, INDEX_NAME, COLUMN_NAME, NULLABLE = 'YES' OR SUB_PART IS NOT NULL
		FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = DATABASE() AND NON_UNIQUE = 0
		ORDER BY TABLE_NAME, INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX`)
	if err != nil {
		return err
	}
	defer rows.Close()
	type index struct {
		columns []string
		unfit   bool
	}
	keys := map[string][]string{} // table: index names in order
	found := map[[2]string]*index{}
	for rows.Next() {
		var table, name string
		var column sql.NullString
		var unfit bool
		if err := rows.Scan(&table, &name, &column, &unfit); err != nil {
			return err
		}
		at := [2]string{table, name}
		if found[at] == nil {
			found[at] = &index{}
			keys[table] = append(keys[table], name)
		}
		found[at].columns = append(found[at].columns, column.String)
		found[at].unfit = found[at].unfit || unfit || !column.Valid
	}
	for i := range tables {
		for _, name := range keys[tables[i].Name] {
			if ix := found[[2]string{tables[i].Name, name}]; !ix.unfit {
				tables[i].Key = ix.columns
				break
			}
		}
	}
	return rows.Err()
}
