// Package demo is Tern Rock Light: a made-up museum's website with an embedded
// database, a theme, and a server on this machine alone.
package demo

import (
	"database/sql"
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"text/template"

	"go.yaml.in/yaml/v3"
	_ "modernc.org/sqlite" // the database
)

// The names of the made-up world.
const (
	host    = "ternrock.example"
	www     = "www.ternrock.example"
	fonts   = "type.harbourtype.example"    // another host, which speaks HTTPS
	mapHost = "maps.coastline.example"      // the same
	charts  = "charts.tideoffice.example"   // another host, which does not
	guild   = "authority.lampguild.example" // the stand-in for a certificate authority
	old     = "http://" + host              // the address before
	dbFile  = "site.db"
)

//go:embed content.yaml
var content []byte

//go:embed theme
var theme embed.FS

// entry is one page or post of content.yaml.
type entry struct {
	Type, Slug, Title, Body string
}

// layOut writes database, theme and pictures of the site into dir.
func layOut(dir string) error {
	files := map[string]string{}
	for name, b := range pictures() {
		files[filepath.Join("media", name)] = b
	}
	err := fs.WalkDir(theme, "theme", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := theme.ReadFile(path)
		files[filepath.FromSlash(path)] = string(b)
		return err
	})
	if err != nil {
		return err
	}
	for name, b := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(b), 0o644); err != nil {
			return err
		}
	}
	return fill(filepath.Join(dir, dbFile))
}

const schema = `
CREATE TABLE tr_options (option_id INTEGER PRIMARY KEY, option_name VARCHAR(191) NOT NULL UNIQUE, option_value LONGTEXT NOT NULL);
CREATE TABLE tr_posts (ID INTEGER PRIMARY KEY, post_author INTEGER, post_date DATETIME, post_content LONGTEXT NOT NULL, post_title TEXT NOT NULL,
	post_status VARCHAR(20), post_name VARCHAR(200), post_type VARCHAR(20), guid VARCHAR(255) NOT NULL);
CREATE TABLE tr_postmeta (meta_id INTEGER PRIMARY KEY, post_id INTEGER NOT NULL, meta_key VARCHAR(255), meta_value LONGTEXT);
CREATE TABLE tr_comments (comment_ID INTEGER PRIMARY KEY, comment_post_ID INTEGER NOT NULL, comment_author TEXT NOT NULL,
	comment_author_url VARCHAR(200), comment_date DATETIME, comment_content TEXT NOT NULL);
CREATE TABLE tr_users (ID INTEGER PRIMARY KEY, user_login VARCHAR(60) NOT NULL, display_name VARCHAR(250), user_url VARCHAR(100));
`

// fill makes the site's database.
func fill(path string) error {
	db, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.Exec(schema); err != nil {
		return err
	}
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing
	exec := func(query string, args ...any) {
		if err == nil {
			_, err = tx.Exec(query, args...)
		}
	}
	var entries []entry
	if yerr := yaml.Unmarshal(content, &entries); yerr != nil {
		return yerr
	}
	ids := map[string]int{}
	for i, e := range entries {
		body, terr := expand(e)
		if terr != nil {
			return terr
		}
		ids[e.Slug] = i + 1
		exec(`INSERT INTO tr_posts VALUES (?, ?, ?, ?, ?, 'publish', ?, ?, ?)`, i+1, 1+i%3, fmt.Sprintf("2026-%02d-%02d 10:%02d:00", 1+i%10, 1+i%27, i),
			body, e.Title, e.Slug, e.Type, fmt.Sprintf("%s/?p=%d", old, i+1))
	}
	settings := options()
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		exec(`INSERT INTO tr_options (option_name, option_value) VALUES (?, ?)`, name, settings[name])
	}
	for i, m := range fields() {
		exec(`INSERT INTO tr_postmeta VALUES (?, ?, ?, ?)`, i+1, ids[m.slug], m.key, m.value)
	}
	for i, c := range comments {
		exec(`INSERT INTO tr_comments VALUES (?, ?, ?, ?, ?, ?)`, i+1, ids[c.slug], c.author, c.url, fmt.Sprintf("2026-09-%02d 19:30:00", 3+i), c.body)
	}
	for i, name := range []string{"Annis", "Berrin", "Cador"} {
		login := strings.ToLower(name)
		exec(`INSERT INTO tr_users VALUES (?, ?, ?, ?)`, i+1, login, name, old+"/volunteers/#"+login)
	}
	if err != nil {
		return err
	}
	return tx.Commit()
}

// expand fills in the body of a page.
func expand(e entry) (string, error) {
	image := func(name string) string { return old + "/media/" + name + ".svg" }
	t, err := template.New(e.Slug).Funcs(template.FuncMap{
		"site": func() string { return old },
		"to":   func(slug, words string) string { return `<a href="` + old + `/` + slug + `/">` + words + `</a>` },
		"img": func(name, alt string) string {
			return `<img src="` + image(name) + `" alt="` + alt + `" width="420">`
		},
		"set": func(name, alt string) string {
			return `<img src="` + image(name) + `" srcset="` + image(name) + ` 1x, http://` + www + `/media/` + name + `.svg 2x" alt="` + alt + `" width="420">`
		},
	}).Parse(e.Body)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	err = t.Execute(&out, nil)
	return out.String(), err
}

// options returns the settings, in the forms in which such systems keep them.
func options() map[string]string {
	return map[string]string{
		"home":     old,
		"siteurl":  old,
		"blogname": "Tern Rock Light",
		"logo_url": old + "/media/badge.svg",
		"widget_text": php(list{
			{2, list{{"title", "This week"}, {"text", `<p>Low water on Saturday at ten. The hut has tea.</p><a href="` + old + `/tides/"><img src="` + old + `/media/map.svg" alt="The causeway"></a>`}, {"filter", true}}},
			{3, list{{"title", "Give a hand"}, {"text", `<p>Working day every Saturday: <a href="` + old + `/volunteers/">come along</a>.</p>`}, {"filter", true}}},
			{"_multiwidget", 1},
		}),
		"theme_mods_tern": php(list{
			{"backdrop", old + ":80/media/waves.svg"}, {"columns", 2}, {"sticky", false},
			{"panel", `{"logo":"http:\/\/` + host + `\/media\/badge.svg","links":["http:\/\/` + host + `\/shop\/","http:\/\/bayradio.example\/"]}`},
		}),
		"_transient_front_copy": `<a href="` + old + `/visit/">cached</a>`,
		"schema_note":           `{"@context":"http:\/\/schema.org","@type":"Museum","url":"http:\/\/` + host + `\/"}`,
		"broken_import":         `a:1:{s:4:"link";s:9:"` + old + `/old/";}`,
	}
}

type field struct{ slug, key, value string }

// fields returns the page builder's fields: JSON with its slashes escaped, and
// JSON inside a serialized value.
func fields() []field {
	block := func(img, slug, words string) string {
		b, err := json.Marshal([]map[string]string{{"image": old + "/media/" + img + ".svg", "link": old + "/" + slug + "/", "words": words}})
		if err != nil {
			panic(err) // strings alone
		}
		return strings.ReplaceAll(string(b), "/", `\/`)
	}
	return []field{
		{"front", "_blocks", block("lens", "lens", "See the lens")},
		{"front", "_blocks", block("tern", "terns", "Meet the terns")},
		{"visit", "_blocks", block("map", "tides", "Crossing times")},
		{"shop", "_panel", php(list{{"version", 3}, {"blocks", block("book", "keeper-cookery", "The cookery book")}})},
		{"history", "_blocks", block("tower-plan", "survey", "The survey")},
	}
}

var comments = []struct{ slug, author, url, body string }{
	{"terns", "Berrin", "http://seabirdcount.example/", `Sixty-three, I saw another: <img src="http://ternrock.example/media/tern.svg" alt="" width="120">`},
	{"storm", "A neighbour", "http://localhost:8080/", `We have the sixth step. It is in our garden.`},
	{"fog-signal", "Polwenna", "", `We heard it. So did the cows. http://ternrock.example/fog-signal/`},
}

// list is a PHP array in order.
type list [][2]any

// php writes a value as PHP's serialize does.
func php(v any) string {
	switch v := v.(type) {
	case string:
		return "s:" + strconv.Itoa(len(v)) + `:"` + v + `";`
	case int:
		return "i:" + strconv.Itoa(v) + ";"
	case bool:
		if v {
			return "b:1;"
		}
		return "b:0;"
	case list:
		var b strings.Builder
		fmt.Fprintf(&b, "a:%d:{", len(v))
		for _, pair := range v {
			b.WriteString(php(pair[0]) + php(pair[1]))
		}
		return b.String() + "}"
	}
	panic(fmt.Sprintf("no way to write a %T", v))
}
