// Package person drives the program as a person does, on a terminal. It is for tests alone.
package person

import (
	"bytes"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

// Terminal is the program on a pseudo-terminal, as a person sees it.
type Terminal struct {
	t    testing.TB
	pty  *os.File
	cmd  *exec.Cmd
	mu   sync.Mutex
	text bytes.Buffer
	read int // up to here the test has looked
	done chan struct{}
}

// Start starts a command on a terminal of its own. What it asks is answered by the methods.
func Start(t testing.TB, c *exec.Cmd) *Terminal {
	t.Helper()
	c.Env = append(c.Env, "TERM=xterm-256color", "PAGER=cat")
	f, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: 80})
	require.NoError(t, err)
	x := &Terminal{t: t, pty: f, cmd: c, done: make(chan struct{})}
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

// patience is how long a step may take: it only ends a test that hangs.
const patience = 4 * time.Minute

var controls = regexp.MustCompile(`\x1b\[[0-9;?<>=]*[a-zA-Z]|\x1b[()][A-Z0-9]|\x1b\][^\x07\x1b]*(\x07|\x1b\\)|\x1bP[^\x1b]*\x1b\\|\x1b[=>]`)

// Seen is what came since the last expect, without the terminal's controls.
func (x *Terminal) Seen() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	text := controls.ReplaceAllString(x.text.String(), "")
	return text[min(x.read, len(text)):]
}

// All is everything that came, without the terminal's controls.
func (x *Terminal) All() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return controls.ReplaceAllString(x.text.String(), "")
}

// Expect waits for one of some texts, and returns what came up to there.
func (x *Terminal) Expect(wanted ...string) string {
	x.t.Helper()
	for end := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		text := x.Seen()
		for _, w := range wanted {
			if at := strings.Index(text, w); at >= 0 {
				x.read += at + len(w)
				return text[:at+len(w)]
			}
		}
		over := false
		select {
		case <-x.done:
			over = x.Seen() == text
		default:
			over = time.Now().After(end)
		}
		if over {
			require.Fail(x.t, "it did not come", "wanted %q, saw:\n%s", wanted, text)
		}
	}
}

// Question waits until a question stands on the screen that can be answered, and wants it to be the one given; "":
// any. It returns which one it is. The run may end instead: then it returns "".
func (x *Terminal) Question(title string) string {
	x.t.Helper()
	text := x.Expect("? explain ·", "Summary to keep")
	if strings.HasSuffix(text, "Summary to keep") {
		require.Empty(x.t, title, text)
		return ""
	}
	at, found := -1, ""
	for _, q := range []string{"Is this the site?", "What now?", "Make a backup first?", "What should become of it?", "Make these changes now?", "Put the redirect in place?", "Into which file?",
		"The address of the authority", "Which file does the web server read the certificate from?", "And the private key?", "Which command has the server", "Do you accept the authority's terms of service?",
		"Go through them now?", "Which HTTPS address takes its place?", "Why?", "Correct these lengths now?", "A change was interrupted.", "There is no backup. What now?", "What should be written?", "To which file?", "Is it loaded"} {
		if i := strings.LastIndex(text, q); i > at {
			at, found = i, q
		}
	}
	require.NotEmpty(x.t, found, "nobody knows this question: %s", text)
	if title != "" {
		require.Equal(x.t, title, found, text)
	}
	return found
}

// Keys presses keys.
func (x *Terminal) Keys(s string) {
	x.t.Helper()
	time.Sleep(60 * time.Millisecond) // as fast as fingers are
	_, err := x.pty.WriteString(s)
	require.NoError(x.t, err)
}

// Answer answers the question that stands on the screen, and waits until the answer is taken.
func (x *Terminal) Answer(title, keys string) {
	x.t.Helper()
	x.Keys(keys)
	stays := regexp.MustCompile("  " + regexp.QuoteMeta(title) + `[^\n]*? [^ \r\n]`) // the line with the answer
	for end := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		text := x.Seen()
		if at := stays.FindStringIndex(text); at != nil {
			x.read += at[1]
			return
		}
		require.True(x.t, time.Now().Before(end), "%s is not answered:\n%s", title, text)
	}
}

// Ends waits for the program's end and returns its exit code.
func (x *Terminal) Ends() int {
	x.t.Helper()
	select {
	case <-x.done:
	case <-time.After(patience):
		text := x.Seen()
		require.Fail(x.t, "it does not end", text)
	}
	_ = x.cmd.Wait() // its exit code is looked at
	return x.cmd.ProcessState.ExitCode()
}

// Keys that are pressed.
const (
	Enter  = "\r"
	CtrlC  = "\x03"
	Up     = "\x1b[A"
	First  = "g" // the first choice
	Quit   = "q"
	Closed = "\x04" // the end of the input
)
