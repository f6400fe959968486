package cli

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/site/sitefile"
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
