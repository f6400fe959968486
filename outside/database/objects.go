package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Object is something in the catalogue other than the rows of a table: code and definitions, which hold text, and what is not read.
type Object struct {
	Kind   string // view, trigger, routine, event, definition, comment, or what it is that is not read
	Name   string // with its table, where it has one
	Text   string
	Unread bool // its content is not looked at
}

// Objects lists what the catalogue has beside the rows of tables. A part of the catalogue that this server does not have, or
// does not show to the user, is one that is not read.
func (s *sqlDatabase) Objects(ctx context.Context) (all []Object, err error) {
	for _, query := range s.d.objects {
		rows, err := s.db.QueryContext(ctx, query)
		if err == nil {
			err = eachObject(rows, func(o Object) { all = append(all, o) })
		}
		switch err = s.failure(err); {
		case errors.Is(err, errNoCatalogue): // an older server, which has nothing of that kind
		case errors.Is(err, ErrRefused), errors.Is(err, ErrRights):
			kind, _, _ := strings.Cut(strings.TrimPrefix(query, "SELECT '"), "'")
			all = append(all, Object{Kind: "catalogue: " + err.Error(), Name: kind, Unread: true})
		case err != nil:
			return nil, err
		}
	}
	return all, nil
}

// eachObject reads rows of kind, name and text; a text that is NULL is one that may not be read.
func eachObject(rows *sql.Rows, visit func(Object)) error {
	defer rows.Close()
	for rows.Next() {
		var o Object
		var text sql.NullString
		if err := rows.Scan(&o.Kind, &o.Name, &text); err != nil {
			return err
		}
		o.Text, o.Unread = text.String, !text.Valid
		visit(o)
	}
	return rows.Err()
}

// sqliteObjects: a virtual table of which the module keeps the rows, and a full-text index of rows that are elsewhere, are not
// read.
var sqliteObjects = []string{
	`SELECT CASE type WHEN 'table' THEN 'definition' WHEN 'index' THEN 'definition' ELSE type END, name, sql FROM sqlite_schema
		WHERE sql IS NOT NULL AND name NOT IN (SELECT name FROM pragma_table_list WHERE type IN ('virtual', 'shadow'))`,
	`SELECT 'virtual table', m.name, NULL FROM sqlite_schema m JOIN pragma_table_list l USING (name)
		WHERE l.type = 'virtual' AND NOT (` + sqliteOwnText + `) AND NOT (` + sqliteLoaded + ` AND lower(m.sql) GLOB '*using fts[345]*' AND lower(replace(m.sql, ' ', '')) GLOB '*content=[a-z_''"][a-z_]*')`,
}

// sqliteLoaded is the condition that the module of a virtual table is one of this program's.
const sqliteLoaded = `EXISTS (SELECT 1 FROM pragma_module_list e WHERE lower(m.sql) GLOB '*using ' || e.name || '*')`

// sqliteShadow is the condition that a table belongs to a virtual table of whose module this program knows nothing: by its name.
const sqliteShadow = `EXISTS (SELECT 1 FROM sqlite_schema v WHERE v.sql LIKE 'CREATE VIRTUAL%' AND substr(m.name, 1, length(v.name) + 1) = v.name || '_')`

// sqliteOwnText is the condition that a virtual table is a full-text index with content of its own, which is changed through
// it.
const sqliteOwnText = `lower(m.sql) GLOB '*using fts[345]*' AND ` + sqliteLoaded + `
	AND lower(replace(m.sql, ' ', '')) NOT GLOB '*content=*'`

// contentOf finds the table of which a full-text index holds the words.
var contentOf = regexp.MustCompile("(?i)\\bcontent\\s*=\\s*[\"'`\\[]?(\\w+)")

func (s *sqlDatabase) Refresh(ctx context.Context, tables []string) error {
	if !s.d.typed || len(tables) == 0 {
		return nil
	}
	rows, err := s.db.QueryContext(ctx, `SELECT 'full-text index', m.name, m.sql FROM sqlite_schema m JOIN pragma_table_list l USING (name)
		WHERE l.type = 'virtual' AND lower(m.sql) GLOB '*using fts[345]*' AND `+sqliteLoaded)
	if err != nil {
		return s.failure(err)
	}
	var all []Object
	if err := eachObject(rows, func(o Object) { all = append(all, o) }); err != nil {
		return s.failure(err)
	}
	for _, o := range all {
		of := contentOf.FindStringSubmatch(o.Text)
		switch {
		case of == nil && !slices.Contains(tables, o.Name), of != nil && !slices.ContainsFunc(tables, func(t string) bool { return strings.EqualFold(t, of[1]) }):
			continue
		}
		name := quoteSQL(o.Name)
		for _, order := range []string{"rebuild", "integrity-check"} {
			if order == "rebuild" && of == nil {
				continue
			}
			if _, err := s.db.ExecContext(ctx, "INSERT INTO "+name+"("+name+") VALUES ('"+order+"')"); err != nil {
				return fmt.Errorf("the full-text index %s, %s: %w", o.Name, order, s.failure(err))
			}
		}
	}
	return nil
}

const mysqlHere = " = DATABASE()"

var mysqlObjects = []string{
	`SELECT 'view', TABLE_NAME, VIEW_DEFINITION FROM information_schema.VIEWS WHERE TABLE_SCHEMA` + mysqlHere,
	`SELECT 'trigger', CONCAT(EVENT_OBJECT_TABLE, '.', TRIGGER_NAME), ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA` + mysqlHere,
	`SELECT 'routine', ROUTINE_NAME, ROUTINE_DEFINITION FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA` + mysqlHere,
	`SELECT 'event', EVENT_NAME, EVENT_DEFINITION FROM information_schema.EVENTS WHERE EVENT_SCHEMA` + mysqlHere,
	`SELECT 'definition', CONCAT(TABLE_NAME, '.', COLUMN_NAME), CONCAT_WS('\n', COLUMN_DEFAULT, GENERATION_EXPRESSION, COLUMN_TYPE, COLUMN_COMMENT) FROM information_schema.COLUMNS
		WHERE TABLE_SCHEMA` + mysqlHere + ` AND CONCAT_WS('\n', COLUMN_DEFAULT, GENERATION_EXPRESSION, COLUMN_TYPE, COLUMN_COMMENT) LIKE '%:%'`,
	`SELECT 'comment', TABLE_NAME, TABLE_COMMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA` + mysqlHere + ` AND TABLE_TYPE <> 'VIEW' AND TABLE_COMMENT LIKE '%:%'`,
	`SELECT 'definition', CONSTRAINT_NAME, CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS WHERE CONSTRAINT_SCHEMA` + mysqlHere + ` AND CHECK_CLAUSE LIKE '%:%'`,
}

const postgresHere = " = (SELECT oid FROM pg_namespace WHERE nspname = current_schema())"

var postgresObjects = []string{
	`SELECT 'view', relname, pg_get_viewdef(oid) FROM pg_class WHERE relkind IN ('v', 'm') AND relnamespace` + postgresHere,
	`SELECT 'materialized view', relname, NULL FROM pg_class WHERE relkind = 'm' AND relnamespace` + postgresHere,
	`SELECT 'foreign table', relname, NULL FROM pg_class WHERE relkind = 'f' AND relnamespace` + postgresHere,
	`SELECT 'routine', proname, prosrc FROM pg_proc p WHERE pronamespace` + postgresHere + ` AND NOT EXISTS (SELECT FROM pg_depend WHERE classid = 'pg_proc'::regclass AND objid = p.oid AND deptype = 'e')`,
	`SELECT 'trigger', c.relname || '.' || t.tgname, pg_get_triggerdef(t.oid) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid WHERE NOT t.tgisinternal AND c.relnamespace` + postgresHere,
	`SELECT 'rule', tablename || '.' || rulename, definition FROM pg_rules WHERE schemaname = current_schema()`,
	`SELECT 'definition', c.relname || '.' || a.attname, pg_get_expr(d.adbin, d.adrelid) FROM pg_attrdef d JOIN pg_class c ON c.oid = d.adrelid JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum WHERE c.relnamespace` + postgresHere,
	`SELECT 'definition', COALESCE(c.relname || '.', '') || k.conname, pg_get_constraintdef(k.oid) FROM pg_constraint k LEFT JOIN pg_class c ON c.oid = k.conrelid WHERE k.contype IN ('c', 'x') AND k.connamespace` + postgresHere,
	`SELECT 'definition', tablename || '.' || indexname, indexdef FROM pg_indexes WHERE schemaname = current_schema()`,
	`SELECT 'definition', t.typname, e.enumlabel FROM pg_enum e JOIN pg_type t ON t.oid = e.enumtypid WHERE t.typnamespace` + postgresHere,
	`SELECT 'definition', tablename || '.' || policyname, concat_ws(' ', qual, with_check) FROM pg_policies WHERE schemaname = current_schema()`,
	`SELECT 'comment', c.relname, d.description FROM pg_description d JOIN pg_class c ON d.classoid = 'pg_class'::regclass AND c.oid = d.objoid WHERE c.relnamespace` + postgresHere,
	`SELECT 'schema', n.nspname, NULL FROM pg_namespace n WHERE n.nspname <> current_schema() AND n.nspname NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'
		AND EXISTS (SELECT FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid JOIN pg_type t ON t.oid = a.atttypid WHERE c.relnamespace = n.oid AND c.relkind IN ('r', 'p', 'm', 'f') AND a.attnum > 0 AND (t.typcategory IN ('S', 'U', 'A')))
		AND NOT EXISTS (SELECT FROM pg_depend WHERE classid = 'pg_namespace'::regclass AND objid = n.oid AND deptype = 'e')`,
	`SELECT 'large objects', count(*)::text, NULL FROM pg_largeobject_metadata HAVING count(*) > 0`,
}

// addFollows reads tables' names with columns that rows of other tables refer to: ON UPDATE SET NULL or SET DEFAULT.
func addFollows(rows *sql.Rows, tables []Table) error {
	defer rows.Close()
	for rows.Next() {
		var table string
		var f Follow
		if err := rows.Scan(&table, &f.Column, &f.Table, &f.By); err != nil {
			return err
		}
		for i := range tables {
			if strings.EqualFold(tables[i].Name, table) {
				tables[i].Emptied = append(tables[i].Emptied, f)
			}
		}
	}
	return rows.Err()
}

// Empties says what the database would empty if a column changed; "": nothing.
func (t Table) Empties(column string) string {
	for _, f := range t.Emptied {
		if f.Column == column {
			return fmt.Sprintf("rows of %s refer to it and would lose it (ON UPDATE %s)", f.Table, f.By)
		}
	}
	return ""
}
