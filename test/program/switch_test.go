package program

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// switchArgs are the arguments of a guided run on the made-up site.
func switchArgs(initArgs []string, more ...string) []string {
	return append(append([]string{"switch"}, initArgs[1:]...), more...)
}

// goodAnswers take the made-up site all the way.
const goodAnswers = `ready: obtain
directory: https://authority.lampguild.example/directory
chain: tls/fullchain.pem
key: tls/key.pem
reload: ""
terms: yes
item http://charts.tideoffice.example/today.svg: adopt
item http://localhost:8080/: accept
because http://localhost:8080/: the neighbour wrote it
item: mend
redirect: apache
rule-file: .htaccess
`

func answers(t *testing.T, dir, text string) string {
	file := filepath.Join(dir, "answers.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// TestSwitchScripted takes the made-up site to HTTPS from a file of answers, without a person and without an
// editor: nothing is left, and undo takes all of it back.
func TestSwitchScripted(t *testing.T) {
	dir, initArgs, _ := served(t)
	before := dump(t, filepath.Join(dir, "site.db"))
	r := want(t, 0, dir, switchArgs(initArgs, "--yes", "--answers", answers(t, dir, goodAnswers))...)
	for _, say := range []string{"1 of 9", "9 of 9", "Ready to switch", "read back", "1 copy put in place", "Every page is clean: 41 of 41 pages", "The site is on HTTPS, and every page that was scanned is clean."} {
		assert.Contains(t, r.out, say)
	}
	assert.NotContains(t, r.out, "need a decision: trimlantern show")
	assert.Contains(t, want(t, 0, dir, "show").out, "Nothing needs a decision")
	page, err := filepath.Glob(filepath.Join(logbookOf(dir), "switch-*.html"))
	require.NoError(t, err)
	require.Len(t, page, 1)
	text, err := os.ReadFile(page[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), "On HTTPS, and every page that was scanned is clean")
	assert.Contains(t, string(text), "blocked by browsers")

	// The same command again finds it done, and changes nothing.
	after := dump(t, filepath.Join(dir, "site.db"))
	again := want(t, 0, dir, switchArgs(initArgs, "--yes")...)
	assert.Contains(t, again.out, "Nothing is left to change.")
	assert.Equal(t, after, dump(t, filepath.Join(dir, "site.db")))

	for range 3 { // the redirect, the references, the corrected length
		want(t, 0, dir, "undo")
	}
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")), "undo takes all of it back")
	assert.NoDirExists(t, filepath.Join(dir, "kept"))
}

// TestSwitchAnswers holds answers that cannot be used against what is said of them.
func TestSwitchAnswers(t *testing.T) {
	dir, initArgs, _ := served(t)
	r := want(t, 2, dir, switchArgs(initArgs)...)
	assert.Contains(t, r.errs, "there is no terminal to ask questions on")
	assert.Contains(t, r.errs, "backup (yes, no)")
	assert.NoFileExists(t, siteFile(dir), "nothing was done")
	for _, c := range []struct {
		text string
		code int
		say  string
	}{
		{"site: maybe\n", 2, `"maybe" is no answer to "Is this the site?"`},
		{"site: no\n", 2, "the site file was written, and nothing else"},
		{"site: yes\n", 2, `the answers say nothing of "What now?"`},
		{"site: yes\nready: on\n", 2, `"on" is no answer to "What now?"`}, // what stops visitors is not passed over
		{"- site\n", 2, "the answers cannot be read"},
		{"site: yes\nready: stop\n", 1, ""},
	} {
		require.NoError(t, os.RemoveAll(homeOf(dir)))
		assert.Contains(t, want(t, c.code, dir, switchArgs(initArgs, "--answers", answers(t, dir, c.text))...).errs, c.say, c.text)
	}
	assert.Contains(t, want(t, 2, dir, switchArgs(initArgs, "--yes", "--until", "nowhere")...).errs, "--until nowhere is no step")
	assert.Contains(t, want(t, 2, dir, switchArgs(initArgs, "--yes", "--answers", "nothing.yaml")...).errs, "nothing.yaml")
	// --yes alone takes what is safe: the certificate is not right, so it stops there, and changes nothing.
	before := dump(t, filepath.Join(dir, "site.db"))
	r = want(t, 1, dir, switchArgs(initArgs, "--yes")...)
	assert.Contains(t, r.out, "The site is not done yet. What is left:")
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
}

// terminal is the program on a pseudo-terminal, as a person sees it.
type terminal struct {
	t    *testing.T
	pty  *os.File
	cmd  *exec.Cmd
	mu   sync.Mutex
	text bytes.Buffer
	read int // up to here the test has looked
	done chan struct{}
}

func onTerminal(t *testing.T, dir string, environ []string, args ...string) *terminal {
	c := exec.Command(program, args...)
	c.Dir = dir
	c.Env = append(append(environment(dir), "TERM=xterm-256color", "PAGER=cat"), environ...)
	f, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: 80})
	require.NoError(t, err)
	x := &terminal{t: t, pty: f, cmd: c, done: make(chan struct{})}
	go func() {
		defer close(x.done)
		buf := make([]byte, 4096)
		for {
			n, err := f.Read(buf)
			x.mu.Lock()
			x.text.Write(buf[:n])
			x.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() { _ = c.Process.Kill(); _ = f.Close() })
	return x
}

var controls = regexp.MustCompile(`\x1b\[[0-9;?<>=]*[a-zA-Z]|\x1b[()][A-Z0-9]|\x1b\][^\x07\x1b]*(\x07|\x1b\\)|\x1bP[^\x1b]*\x1b\\|\x1b[=>]`)

// seen is what came since the last expect, without the terminal's controls.
func (x *terminal) seen() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	text := controls.ReplaceAllString(x.text.String(), "")
	return text[min(x.read, len(text)):]
}

// expect waits for one of some texts, and returns what came up to there.
func (x *terminal) expect(wanted ...string) string {
	x.t.Helper()
	for end := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		text := x.seen()
		for _, w := range wanted {
			if at := strings.Index(text, w); at >= 0 {
				x.read += at + len(w)
				return text[:at+len(w)]
			}
		}
		over := false
		select {
		case <-x.done:
			over = x.seen() == text
		default:
			over = time.Now().After(end)
		}
		if over {
			require.Fail(x.t, "it did not come", "wanted %q, saw:\n%s", wanted, text)
		}
	}
}

// question waits until a question stands on the screen that can be answered, and wants it to be the one given; "":
// any. It returns which one it is. The run may end instead: then it returns "".
func (x *terminal) question(title string) string {
	x.t.Helper()
	text := x.expect("? explain ·", "Summary to keep")
	if strings.HasSuffix(text, "Summary to keep") {
		require.Empty(x.t, title, text)
		return ""
	}
	at, found := -1, ""
	for _, q := range []string{"Is this the site?", "What now?", "Make a backup first?", "What should become of it?", "Make these changes now?", "Put the redirect in place?", "Into which file?",
		"The address of the authority", "Which file does the web server read the certificate from?", "And the private key?", "Which command has the server", "Do you accept the authority's terms of service?"} {
		if i := strings.LastIndex(text, q); i > at {
			at, found = i, q
		}
	}
	if title != "" {
		require.Equal(x.t, title, found, text)
	}
	return found
}

func (x *terminal) keys(s string) {
	x.t.Helper()
	time.Sleep(60 * time.Millisecond) // as fast as fingers are
	_, err := x.pty.WriteString(s)
	require.NoError(x.t, err)
}

// answer answers the question that stands on the screen, and waits until the answer is taken.
func (x *terminal) answer(title, keys string) {
	x.t.Helper()
	x.keys(keys)
	stays := regexp.MustCompile("  " + regexp.QuoteMeta(title) + `[^\n]*? [^ \r\n]`) // the line with the answer
	for end := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		text := x.seen()
		if at := stays.FindStringIndex(text); at != nil {
			x.read += at[1]
			return
		}
		require.True(x.t, time.Now().Before(end), "%s is not answered:\n%s", title, text)
	}
}

// ends waits for the program's end and returns its exit code.
func (x *terminal) ends() int {
	x.t.Helper()
	select {
	case <-x.done:
	case <-time.After(time.Minute):
		text := x.seen()
		require.Fail(x.t, "it does not end", text)
	}
	_ = x.cmd.Wait() // its exit code is looked at
	return x.cmd.ProcessState.ExitCode()
}

const (
	enter = "\r"
	ctrlC = "\x03"
)

const (
	up       = "\x1b[A"
	first    = "g" // the first choice
	quitting = "q"
	ended    = "\x04" // the end of the input
)

// TestSwitchTerminal walks the road on a real terminal: explains, shows all, stops and goes on at questions.
func TestSwitchTerminal(t *testing.T) {
	dir, initArgs, _ := served(t)
	start := func() *terminal { return onTerminal(t, dir, nil, switchArgs(initArgs)...) }

	// Ctrl-C at the first question: the site file is written, nothing else.
	before := dump(t, filepath.Join(dir, "site.db"))
	x := start()
	x.question("Is this the site?")
	x.keys(ctrlC)
	assert.Equal(t, 1, x.ends())

	x = start()
	x.question("What now?")
	x.keys("?")
	x.expect("would stop visitors once everything leads to HTTPS")
	x.question("What now?")
	x.keys("s")
	x.expect("Is https://ternrock.example ready?")
	x.question("What now?")
	x.keys(quitting)
	assert.Equal(t, 1, x.ends())

	x = start()
	for _, q := range [][2]string{{"What now?", first + enter}, {"The address of the authority", "https://authority.lampguild.example/directory" + enter}, {"Which file does the web server read the certificate from?", "tls/fullchain.pem" + enter},
		{"And the private key?", "tls/key.pem" + enter}, {"Which command has the server", "true" + enter}, {"Do you accept the authority's terms of service?", up + enter}} {
		x.question(q[0])
		x.answer(q[0], q[1])
	}
	x.question("Make a backup first?")
	x.keys(ctrlC)
	assert.Equal(t, 1, x.ends())

	x = start() // it goes on there
	x.expect("Ready to switch")
	x.question("Make a backup first?")
	x.answer("Make a backup first?", enter)
	for range 3 {
		x.question("What should become of it?")
		x.answer("What should become of it?", enter) // later
	}
	x.question("Make these changes now?")
	x.keys("s")
	x.expect("Preview of https://ternrock.example")
	x.question("Make these changes now?")
	x.keys(quitting)
	assert.Equal(t, 1, x.ends())
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")), "nothing was changed")
	assert.Contains(t, want(t, 1, dir, "status").out, "[x] backup")
}

// TestSwitchPlain walks it line by line, as a screen reader reads it; the end of the input stops it safely.
func TestSwitchPlain(t *testing.T) {
	dir, initArgs := museum(t)
	x := onTerminal(t, dir, nil, switchArgs(initArgs, "--plain")...)
	x.expect("Is this the site?")
	x.expect("Enter a number between 1 and 5:")
	x.keys("9" + enter)
	x.expect("must be a number between 1 and 5")
	x.keys("1" + enter)
	x.expect("Make a backup first?")
	x.expect("Enter a number")
	x.keys("3" + enter) // explain
	x.expect("The journal takes back")
	x.expect("Enter a number")
	x.keys("1" + enter)
	for range 3 {
		x.expect("Decide later")
		x.expect("Enter a number")
		x.keys(enter)
	}
	x.expect("Make these changes now?")
	x.expect("Enter a number")
	x.keys("1" + enter)
	x.expect("as planned.")
	x.expect("Put the redirect in place?")
	x.expect("Enter a number")
	x.keys(ended)
	assert.Equal(t, 1, x.ends())
	assert.Contains(t, want(t, 1, dir, "status").out, "[x] apply")
}

// TestSwitchAtEachQuestion stops at each question in turn, with Ctrl-C, and goes on each time, to the end.
func TestSwitchAtEachQuestion(t *testing.T) {
	dir, initArgs := museum(t)
	stopped := map[string]bool{}
	for stop := 0; ; stop++ {
		require.Less(t, stop, 30)
		x := onTerminal(t, dir, nil, switchArgs(initArgs)...)
		over := false
		for i := 0; !over; i++ {
			asked := x.question("")
			if over = asked == ""; over {
				break
			}
			if !stopped[asked] || asked == "What should become of it?" && i == stop {
				stopped[asked] = true
				x.keys(ctrlC)
				break
			}
			keys := map[string]string{"Put the redirect in place?": first + enter, "Into which file?": ".htaccess" + enter}[asked]
			if keys == "" {
				keys = enter
			}
			x.answer(asked, keys)
		}
		code := x.ends()
		if over {
			break
		}
		require.Equal(t, 1, code)
	}
	assert.GreaterOrEqual(t, len(stopped), 6, stopped)
	r := want(t, 0, dir, switchArgs(initArgs, "--yes", "--answers", answers(t, dir, "item http://charts.tideoffice.example/today.svg: adopt\n"))...)
	assert.Contains(t, r.out, "The site is on HTTPS", r.errs)
}

// TestScriptOfCI runs the script of docs/ci.md as it stands there, but for the addresses of the made-up site.
func TestScriptOfCI(t *testing.T) {
	dir, initArgs := museum(t)
	b, err := os.ReadFile("../../docs/ci.md")
	require.NoError(t, err)
	_, script, ok := strings.Cut(string(b), "```bash\n")
	require.True(t, ok)
	script, _, _ = strings.Cut(script, "```")
	line := "trimlantern init --site https://ternrock.example --also www.ternrock.example ."
	require.Contains(t, script, line)
	quoted := "trimlantern"
	for _, a := range initArgs {
		quoted += " '" + a + "'"
	}
	script = strings.Replace(script, line, quoted, 1)
	bin := t.TempDir()
	require.NoError(t, os.Symlink(program, filepath.Join(bin, "trimlantern")))
	c := exec.Command("bash", "-c", script)
	c.Dir, c.Env = dir, append(environment(dir), "PATH="+bin+":"+os.Getenv("PATH"))
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "Every page is clean")
	status, err := os.ReadFile(filepath.Join(dir, "status.json"))
	require.NoError(t, err)
	assert.Contains(t, string(status), `"clean": true`)
	assert.FileExists(t, filepath.Join(dir, "scan.sarif"))
}
