package demo

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"html/template"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/envelope"
	"trimlantern/core/hops"
	"trimlantern/demo/authority"
)

// server serves the made-up world on loopback.
type server struct {
	dir        string
	db         *sql.DB
	plain, tls *http.Server
	authority  *authority.Authority
	Plain, TLS string // addresses, host:port
}

// start serves the site that lies in dir, on the usual ports of the demo where
// they are free, and writes the certificate of its authority to ca.pem.
func start(dir string) (*server, error) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, dbFile)+"?_pragma=busy_timeout(10000)")
	if err != nil {
		return nil, err
	}
	s := &server{dir: dir, db: db}
	others, err := s.certificates()
	if err != nil {
		return nil, err
	}
	plain, err := listen("127.0.0.1:8480")
	if err != nil {
		return nil, err
	}
	secure, err := listen("127.0.0.1:8443")
	if err != nil {
		return nil, err
	}
	s.Plain, s.TLS = plain.Addr().String(), secure.Addr().String()
	quiet := log.New(io.Discard, "", 0) // handshakes that fail are part of the show
	s.plain = &http.Server{Handler: s, ErrorLog: quiet, ReadHeaderTimeout: 10 * time.Second}
	s.tls = &http.Server{Handler: s, ErrorLog: quiet, ReadHeaderTimeout: 10 * time.Second, TLSConfig: &tls.Config{
		GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
			switch h.ServerName {
			case charts:
				return nil, errors.New("this host has no HTTPS")
			case fonts, mapHost, guild:
				return others, nil
			}
			return s.own()
		},
	}}
	go func() { _ = s.plain.Serve(plain) }()           // ends with close
	go func() { _ = s.tls.ServeTLS(secure, "", "") }() // the same
	return s, nil
}

// chainFile and keyFile are what the site's server is set up with. It reads them anew whenever they change.
const (
	chainFile = "tls/certificate-with-chain.pem"
	keyFile   = "tls/key.pem"
)

// own is the site's certificate as its files have it now.
func (s *server) own() (*tls.Certificate, error) {
	pair, err := tls.LoadX509KeyPair(filepath.Join(s.dir, chainFile), filepath.Join(s.dir, keyFile))
	return &pair, err
}

// certificates makes the stand-in authority, and by it the certificates of all hosts that speak HTTPS. The site's
// own is not for www.
func (s *server) certificates() (others *tls.Certificate, err error) {
	s.authority, err = authority.New(authority.Options{Base: "https://" + guild, Terms: "https://" + guild + "/terms",
		Dial: func(ctx context.Context, network, addr string) (net.Conn, error) { // all names of the made-up world are here
			to := s.Plain
			if strings.HasSuffix(addr, ":443") {
				to = s.TLS
			}
			return (&net.Dialer{}).DialContext(ctx, network, to)
		}})
	if err != nil {
		return nil, err
	}
	const life = 60 * 24 * time.Hour
	first, err := s.authority.Serve(life, host)
	if err != nil {
		return nil, err
	}
	key, err := x509.MarshalPKCS8PrivateKey(first.PrivateKey)
	if err != nil {
		return nil, err
	}
	var chain []byte
	for _, der := range first.Certificate {
		chain = append(chain, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	err = errors.Join(os.MkdirAll(filepath.Join(s.dir, filepath.Dir(keyFile)), 0o700),
		os.WriteFile(filepath.Join(s.dir, chainFile), chain, 0o644),
		os.WriteFile(filepath.Join(s.dir, keyFile), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), 0o600),
		os.WriteFile(filepath.Join(s.dir, "ca.pem"), s.authority.Root(), 0o644))
	if err != nil {
		return nil, err
	}
	return s.authority.Serve(life, fonts, mapHost, guild)
}

// listen takes the wanted port, or any where it is taken.
func listen(addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return net.Listen("tcp", "127.0.0.1:0")
	}
	return l, nil
}

func (s *server) close() {
	_ = s.plain.Close()
	_ = s.tls.Close()
	_ = s.db.Close()
}

// ServeHTTP answers for every host of the made-up world.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := r.Host
	if h, _, err := net.SplitHostPort(name); err == nil {
		name = h
	}
	reply := func(typ, body string) {
		w.Header().Set("Content-Type", typ)
		_, _ = io.WriteString(w, body) // a client that went away is no fault
	}
	switch name {
	case host, www:
		s.site(w, r)
	case fonts:
		reply("text/css; charset=utf-8", "h1, .name { letter-spacing: .02em; font-variant: small-caps; }\n")
	case mapHost:
		reply("text/html; charset=utf-8", "<!DOCTYPE html><title>Map</title><style>body{margin:0}</style>"+pictures()["map.svg"])
	case guild:
		if r.URL.Path == "/terms" {
			reply("text/plain; charset=utf-8", "The Lamp Guild is a stand-in for a certificate authority.\nNobody trusts its certificates but the made-up world of this demo.\n")
			return
		}
		s.authority.ServeHTTP(w, r)
	case charts:
		reply("image/svg+xml", pictures()["tide-chart.svg"])
	default:
		http.NotFound(w, r)
	}
}

// ruled does what the redirect's rules in .htaccess say, as a web server would, and
// reports whether it sent the visitor on.
func (s *server) ruled(w http.ResponseWriter, r *http.Request) bool {
	b, err := os.ReadFile(filepath.Join(s.dir, htaccess))
	if err != nil || !strings.Contains(string(b), "RewriteRule ^ https://"+host+"%1 [R=301") {
		return false
	}
	name, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		name = r.Host
	}
	if r.TLS != nil && name == host || slices.ContainsFunc(hops.ProofFolders, func(p string) bool { return strings.HasPrefix(r.URL.Path, p) }) {
		return false
	}
	code := http.StatusPermanentRedirect
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		code = http.StatusMovedPermanently
	}
	w.Header().Set("Location", "https://"+host+r.URL.RequestURI())
	w.WriteHeader(code)
	return true
}

const htaccess = ".htaccess"

func (s *server) site(w http.ResponseWriter, r *http.Request) {
	if s.ruled(w, r) {
		return
	}
	for _, dir := range []string{"/media/", "/theme/", "/kept/", "/.well-known/"} {
		if strings.HasPrefix(r.URL.Path, dir) && filepath.Ext(r.URL.Path) != ".html" {
			http.FileServerFS(os.DirFS(s.dir)).ServeHTTP(w, r)
			return
		}
	}
	slug := strings.Trim(r.URL.Path, "/")
	if id := r.URL.Query().Get("p"); id != "" && slug == "" { // the short address of a page; of none: the front page
		_ = s.db.QueryRowContext(r.Context(), `SELECT post_name FROM tr_posts WHERE ID = ?`, id).Scan(&slug)
	}
	page, err := s.page(r.Context(), slug)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		http.NotFound(w, r)
		return
	case err != nil:
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	t, err := template.ParseFS(os.DirFS(s.dir), "theme/*.html")
	var out strings.Builder
	if err == nil {
		err = t.ExecuteTemplate(&out, "page", page)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = io.WriteString(w, out.String()) // a client that went away is no fault
}

type link struct{ Slug, Title string }

// page is what the theme's templates show.
type page struct {
	Name, Title, Home, Logo, Canonical string
	Backdrop                           template.CSS
	Body                               template.HTML
	Menu, News                         []link
	Blocks                             []struct{ Image, Link, Words string }
	Widgets                            []struct {
		Title string
		Body  template.HTML
	}
	Comments []struct {
		Author string
		Body   template.HTML
	}
}

// page reads one page out of the database; "" is the front page.
func (s *server) page(ctx context.Context, slug string) (*page, error) {
	if slug == "" {
		slug = "front"
	}
	p := &page{}
	var id int
	var body string
	err := s.db.QueryRowContext(ctx, `SELECT ID, post_title, post_content FROM tr_posts WHERE post_name = ?`, slug).Scan(&id, &p.Title, &body)
	if err != nil {
		return nil, err
	}
	p.Body = template.HTML(body) // the museum's own words
	options := map[string]string{}
	read := func(query string, args []any, row func(scan func(...any) error) error) {
		if err == nil {
			err = s.rows(ctx, query, args, row)
		}
	}
	read(`SELECT option_name, option_value FROM tr_options`, nil, func(scan func(...any) error) error {
		var k, v string
		err := scan(&k, &v)
		options[k] = v
		return err
	})
	read(`SELECT post_name, post_title FROM tr_posts WHERE post_type = 'page' AND post_name <> 'front' ORDER BY ID`, nil, links(&p.Menu))
	read(`SELECT post_name, post_title FROM tr_posts WHERE post_type = 'post' ORDER BY ID`, nil, links(&p.News))
	read(`SELECT meta_key, meta_value FROM tr_postmeta WHERE post_id = ? ORDER BY meta_id`, []any{id}, p.blocks)
	read(`SELECT comment_author, comment_content FROM tr_comments WHERE comment_post_ID = ?`, []any{id}, func(scan func(...any) error) error {
		var author, text string
		err := scan(&author, &text)
		p.Comments = append(p.Comments, struct {
			Author string
			Body   template.HTML
		}{author, template.HTML(text)}) // checked by the museum before it is shown
		return err
	})
	if err != nil {
		return nil, err
	}
	return p, p.settings(options, slug)
}

// rows calls row for each row of a query, with what scans it.
func (s *server) rows(ctx context.Context, query string, args []any, row func(scan func(...any) error) error) error {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for err == nil && rows.Next() {
		err = row(rows.Scan)
	}
	return errors.Join(err, rows.Err())
}

// links scans rows of a slug and a title.
func links(to *[]link) func(func(...any) error) error {
	return func(scan func(...any) error) error {
		var l link
		err := scan(&l.Slug, &l.Title)
		*to = append(*to, l)
		return err
	}
}

// blocks scans a field of the page builder: JSON, or JSON in a serialized panel.
func (p *page) blocks(scan func(...any) error) error {
	var k, v string
	if err := scan(&k, &v); err != nil {
		return err
	}
	if k == "_panel" {
		panel, err := texts(v)
		if err != nil {
			return err
		}
		v = panel["[blocks]"]
	}
	var blocks []struct{ Image, Link, Words string }
	if err := json.Unmarshal([]byte(v), &blocks); err != nil {
		return fmt.Errorf("the blocks of %s: %w", p.Title, err)
	}
	p.Blocks = append(p.Blocks, blocks...)
	return nil
}

// settings takes over what the theme and the widgets are set to.
func (p *page) settings(options map[string]string, slug string) error {
	mods, err := texts(options["theme_mods_tern"])
	if err != nil {
		return err
	}
	widgets, err := texts(options["widget_text"])
	if err != nil {
		return err
	}
	p.Name, p.Home, p.Logo, p.Canonical = options["blogname"], options["home"], options["logo_url"], options["home"]+"/"+slug+"/"
	p.Backdrop = template.CSS("background-image:url(" + mods["[backdrop]"] + ")") // the theme's own setting
	for _, n := range []string{"[2]", "[3]"} {
		p.Widgets = append(p.Widgets, struct {
			Title string
			Body  template.HTML
		}{widgets[n+"[title]"], template.HTML(widgets[n+"[text]"])}) // the museum's own words
	}
	return nil
}

// texts returns the strings of a serialized value by their paths. A value that
// is not sound fails, as it does in PHP.
func texts(v string) (map[string]string, error) {
	s, err := envelope.OpenPHP([]byte(v))
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, t := range slices.DeleteFunc(s.Texts, func(t envelope.Text) bool { return t.Key }) {
		out[s.Path(t)] = v[t.Start:t.End]
	}
	return out, nil
}
