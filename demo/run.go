package demo

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/reference"
	"trimlantern/outside/sitefile"
)

// initArgs is the command line that makes the demo's site file.
func (s *server) initArgs() []string {
	return []string{"init", "--site", "https://" + host, "--also", www, "--files", "theme", "--ca", "ca.pem",
		"--resolve", "*:80:" + s.Plain, "--resolve", "*:443:" + s.TLS, "."}
}

// obtainArgs is the command line that obtains the site's certificate from the stand-in authority.
var obtainArgs = []string{"cert", "obtain", "--directory", "https://" + guild + "/directory", "--accept-terms", "--server-file", chainFile, "--server-file", keyFile}

// switchArgs is the command line of the guided run, with the answers.
func (s *server) switchArgs() []string {
	args := append([]string{"switch"}, s.initArgs()[1:]...)
	return append(args[:len(args)-1], "--answers", answersFile, ".")
}

const answersFile = "answers.yaml"

// answers are what a person would answer.
const answers = `site: yes
ready: obtain
directory: https://` + guild + `/directory
chain: ` + chainFile + `
key: ` + keyFile + `
reload: ""
terms: yes
backup: yes
item http://` + charts + `/today.svg: adopt
item http://localhost:8080/: accept
because http://localhost:8080/: the neighbour wrote it; no page loads it
item: mend
mend: yes
apply: yes
redirect: apache
rule-file: ` + htaccess + `
`

// Stay lays the site out in dir, a folder that is not there yet or is empty, and
// serves it until ctx ends.
func Stay(ctx context.Context, dir string, out io.Writer) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if entries, err := os.ReadDir(dir); err != nil || len(entries) > 0 {
		return errors.Join(err, fmt.Errorf("the folder %s is not empty; name a new one", dir))
	}
	if err := layOut(dir); err != nil {
		return err
	}
	s, err := start(dir)
	if err != nil {
		return err
	}
	defer s.close()
	fmt.Fprintf(out, `Tern Rock Light is laid out in %[1]s and served on this machine alone:
HTTP at %[2]s, HTTPS at %[3]s, until you press Ctrl-C.

In another terminal:
  cd %[1]s
  export TRIMLANTERN_HOME=%[5]s
  trimlantern %[7]s

Or step by step:
  trimlantern %[4]s
  trimlantern ready
  trimlantern %[6]s
  trimlantern ready
  trimlantern scan
  trimlantern trace http://ternrock.example/media/map.svg
  trimlantern backup
  trimlantern preview
  trimlantern show
  trimlantern decide adopt charts.tideoffice.example
  trimlantern preview
  trimlantern apply
  trimlantern redirect install apache .htaccess
  trimlantern redirect test
  trimlantern scan
  trimlantern status
  trimlantern undo

In a browser (a throw-away profile that trusts the demo's own certificate):
  chromium --user-data-dir="$(mktemp -d)" --ignore-certificate-errors \
    --host-resolver-rules="MAP *.example:443 %[3]s, MAP *.example:80 %[2]s" \
    https://ternrock.example/
`, dir, s.Plain, s.TLS, commandLine(s.initArgs()), absolute(dir)+".home", commandLine(obtainArgs), strings.Replace(commandLine(s.switchArgs()), " --answers "+answersFile, "", 1))
	<-ctx.Done()
	return nil
}

// absolute returns a path from the root on, where that can be told.
func absolute(dir string) string {
	if abs, err := filepath.Abs(dir); err == nil {
		return abs
	}
	return dir
}

// commandLine writes arguments as one types them in a shell.
func commandLine(args []string) string {
	quoted := slices.Clone(args)
	for i, a := range quoted {
		if strings.ContainsAny(a, "* '\"$|&;<>()") {
			quoted[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
		}
	}
	return strings.Join(quoted, " ")
}

type road struct {
	ctx   context.Context
	self  string
	dir   string // of the site
	home  string // of the program
	out   io.Writer
	color bool
	srv   *server
}

// Run walks the whole road in a temporary folder with the program at self. It
// fails where anything does not come out as it must.
func Run(ctx context.Context, self string, out io.Writer, color bool) error {
	began := time.Now()
	dir, err := os.MkdirTemp("", "ternrock-")
	if err != nil {
		return err
	}
	defer func(dir string) { _ = os.RemoveAll(dir) }(dir) // what is left is in the temporary folder
	home := filepath.Join(dir, "home")
	dir = filepath.Join(dir, "www")
	if err := errors.Join(os.Mkdir(dir, 0o755), layOut(dir)); err != nil {
		return err
	}
	srv, err := start(dir)
	if err != nil {
		return err
	}
	defer srv.close()
	r := &road{ctx: ctx, self: self, dir: dir, home: home, out: out, color: color, srv: srv}
	if err := r.walk(); err != nil {
		return err
	}
	r.say(fmt.Sprintf("All of it came out as it must, in %.1f seconds. Try it by hand: trimlantern demo --stay ternrock", time.Since(began).Seconds()))
	return nil
}

func (r *road) walk() error {
	r.say("Tern Rock Light, a made-up museum: its website is served over HTTP and HTTPS on this machine, and its pages are full of http:// addresses.")
	before, err := r.snapshot()
	if err != nil {
		return err
	}
	insecure, err := r.insecureOn("/")
	if err != nil {
		return err
	}
	if insecure < 10 {
		return fmt.Errorf("the front page has only %d insecure addresses to begin with", insecure)
	}
	if err := os.WriteFile(filepath.Join(r.dir, answersFile), []byte(answers), 0o600); err != nil {
		return err
	}
	for _, step := range []struct {
		say  string
		args []string
		code int
	}{
		{say: "One command walks the whole road, and asks before it changes anything. A person sits at a terminal; here the answers come from a file.", args: r.srv.switchArgs(), code: 0},
		{say: "Every step has its evidence, with its date.", args: []string{"status"}, code: 0},
		{say: "Every change can be looked at, one by one.", args: []string{"show", "changes", "--table", "tr_comments"}, code: 0},
	} {
		if step.say != "" {
			r.say(step.say)
		}
		if err := r.command(step.code, step.args...); err != nil {
			return err
		}
	}
	left, err := r.insecureOn("/")
	if err != nil {
		return err
	}
	if left > 0 {
		return fmt.Errorf("the front page still has %d insecure addresses", left)
	}
	r.say(fmt.Sprintf("The front page had %d insecure addresses and has none. Changed your mind? All of it goes back.", insecure))
	for range 3 { // the redirect, the references with the copy, the corrected length
		if err := r.command(0, "undo"); err != nil {
			return err
		}
	}
	for _, name := range []string{htaccess, "kept"} {
		if _, err := os.Stat(filepath.Join(r.dir, name)); !errors.Is(err, os.ErrNotExist) {
			return errors.New(name + " is still there")
		}
	}
	return r.compare(before)
}

// say writes what happens next.
func (r *road) say(s string) {
	line, out := "#", ""
	for _, word := range strings.Fields(s) {
		if len(line)+1+len(word) > 78 {
			out += line + "\n"
			line = "#"
		}
		line += " " + word
	}
	out += line
	if r.color {
		out = "\x1b[36m" + out + "\x1b[0m"
	}
	fmt.Fprintf(r.out, "\n%s\n", out)
}

// command runs the program as a user would and wants an exit code.
func (r *road) command(code int, args ...string) error {
	prompt := "$ trimlantern " + commandLine(args)
	for _, flag := range []string{" --also", " --files", " --resolve", " --directory", " --server-file", " --because", " --answers"} { // long lines are typed in parts
		prompt = strings.Replace(prompt, flag, " \\\n    "+strings.TrimSpace(flag), 1)
	}
	if r.color {
		prompt = "\x1b[1m" + prompt + "\x1b[0m"
	}
	fmt.Fprintf(r.out, "\n%s\n", prompt)
	c := exec.CommandContext(r.ctx, r.self, args...)
	c.Dir, c.Stdout, c.Stderr = r.dir, r.out, r.out
	c.Env = append(os.Environ(), sitefile.HomeVariable+"="+r.home, "COLUMNS=80") // as in a terminal
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return err
	}
	if got := c.ProcessState.ExitCode(); got != code {
		return fmt.Errorf("trimlantern %s ended with %d and should have with %d", args[0], got, code)
	}
	return nil
}

// snapshot returns every row of the database as text.
func (r *road) snapshot() ([]string, error) {
	var out []string
	for _, table := range []string{"tr_comments", "tr_options", "tr_postmeta", "tr_posts", "tr_users"} {
		rows, err := r.srv.db.QueryContext(r.ctx, "SELECT * FROM "+table+" ORDER BY 1")
		if err != nil {
			return nil, err
		}
		lines, err := scanAll(rows, table)
		if err != nil {
			return nil, err
		}
		out = append(out, lines...)
	}
	return out, nil
}

func scanAll(rows *sql.Rows, table string) ([]string, error) {
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out []string
	for rows.Next() {
		values := make([]any, len(columns))
		for i := range values {
			values[i] = new(any)
		}
		if err := rows.Scan(values...); err != nil {
			return nil, err
		}
		line := table
		for _, v := range values {
			line += fmt.Sprintf("\x00%T %v", *v.(*any), *v.(*any))
		}
		out = append(out, line)
	}
	return out, rows.Err()
}

// compare holds the database after undo against the one before: it must be the same.
func (r *road) compare(before []string) error {
	after, err := r.snapshot()
	if err != nil {
		return err
	}
	if !slices.Equal(before, after) {
		return errors.New("the database after undo is not the one before")
	}
	insecure, err := r.insecureOn("/")
	if err != nil {
		return err
	}
	r.say(fmt.Sprintf("Compared all %d rows: the database is as it was, byte for byte, and the front page has %d insecure addresses again.", len(after), insecure))
	return nil
}

// insecureOn asks for a page over HTTPS, as a browser would, and counts the
// insecure addresses of the site and of the hosts it loads from.
func (r *road) insecureOn(path string) (int, error) {
	pem, err := os.ReadFile(filepath.Join(r.dir, "ca.pem"))
	if err != nil {
		return 0, err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(pem)
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: pool},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, r.srv.TLS)
		},
	}}
	defer client.CloseIdleConnections()
	req, err := http.NewRequestWithContext(r.ctx, http.MethodGet, "https://"+host+path, nil)
	if err != nil {
		return 0, err
	}
	res, err := client.Do(req)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return 0, err
	}
	if res.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("%s answers %d", path, res.StatusCode)
	}
	n := 0
	reference.Find(b, func(ref reference.Reference) bool {
		if slices.Contains([]string{host, www, fonts, mapHost, charts}, ref.Host) {
			n++
		}
		return true
	})
	return n, nil
}
