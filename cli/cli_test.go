package cli

import (
	"bytes"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/outside/sitefile"
)

func TestParseDatabase(t *testing.T) {
	for in, want := range map[string]sitefile.Database{
		"sqlite:site.db":                               {Kind: "sqlite", File: "site.db"},
		"mysql://keeper@db.example:3307/m":             {Kind: "mysql", Host: "db.example", Port: 3307, User: "keeper", Name: "m"},
		"mariadb://keeper@h/m?tls=verify&tls-ca=a.pem": {Kind: "mysql", Host: "h", User: "keeper", Name: "m", TLS: "verify", TLSCA: "a.pem"},
		"postgres://k@h/m?schema=s&socket=/run":        {Kind: "postgres", Host: "h", User: "k", Name: "m", Schema: "s", Socket: "/run"},
		"postgresql://k@h:5433/m":                      {Kind: "postgres", Host: "h", Port: 5433, User: "k", Name: "m"},
		"mysql://keeper@/m?socket=/run/x.sock":         {Kind: "mysql", Socket: "/run/x.sock", User: "keeper", Name: "m"},
	} {
		var d sitefile.Database
		require.NoError(t, parseDatabase(in, &d), in)
		assert.Equal(t, want, d)
	}
	for in, say := range map[string]string{
		"":                     "cannot be read",
		"sqlite:":              "cannot be read",
		"mysql://h":            "cannot be read",
		"mysql://k:oil@h/m":    "must not hold the password",
		"mysql://k@h:port/m":   "cannot be read",
		"cards://k@h/m":        "cannot be read",
		"mysql://k@h/m?x=1":    "is not known behind the question mark",
		"postgres://k:oil@h/m": "must not hold the password",
		"mysql://k@h/%zz":      "cannot be read",
		"://":                  "cannot be read",
	} {
		var d sitefile.Database
		err := parseDatabase(in, &d)
		assert.ErrorContains(t, err, say, in)
		assert.NotContains(t, err.Error(), "oil")
	}
}

func TestProgressLines(t *testing.T) {
	var buf bytes.Buffer
	l := &lines{w: &buf, last: time.Now()}
	l.At("reading", 1, 2)
	assert.Empty(t, buf.String(), "only now and then")
	l.last = time.Now().Add(-time.Minute)
	l.At("reading \x1b[2J", 50, 100)
	l.last = time.Now().Add(-time.Minute)
	l.At("scanning", 7, 0)
	l.last = time.Now().Add(-time.Minute)
	l.At("asking", 0, 0)
	assert.Equal(t, "reading \\x1b[2J: 50 of 100\nscanning: 7\nasking\n", buf.String())
}

func TestTimeLeft(t *testing.T) {
	for _, c := range []struct {
		done, total int64
		since       time.Duration
		want        string
	}{
		{0, 100, time.Second, ""}, {50, 100, time.Second, ""}, {100, 1000, 10 * time.Second, ", 10 a second, 1m30s left"},
		{3000, 3000, 10 * time.Second, ", 300 a second, 0s left"},
	} {
		assert.Equal(t, c.want, rate(c.done, c.total, c.since))
	}
}

func TestRun(t *testing.T) {
	var out, errs bytes.Buffer
	assert.Equal(t, 0, Run([]string{"--help"}, &out, &errs))
	assert.Contains(t, out.String(), "Exit codes")
	assert.Equal(t, 2, Run([]string{"nothing\x1b[2J"}, &out, &errs))
	assert.NotContains(t, errs.String(), "\x1b", "arguments are shown, not sent")
}

// locked is a text that is written and read at the same time.
type locked struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *locked) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(b)
}

func (l *locked) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// A bar that has ended draws nothing more, also one that spins by itself.
func TestBarEnds(t *testing.T) {
	out := &locked{}
	b := &bar{w: out}
	for _, total := range []int64{0, 10} {
		b.At("asking a host", 1, total)
		time.Sleep(250 * time.Millisecond)
		assert.Contains(t, out.String(), "asking a host")
		b.End()
		said := out.String()
		assert.True(t, strings.HasSuffix(said, "\r\x1b[2K"))
		time.Sleep(250 * time.Millisecond)
		assert.Equal(t, said, out.String())
	}
}
