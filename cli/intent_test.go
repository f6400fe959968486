package cli

import (
	"bytes"
	"io"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/work"
)

// What is offered for words and flags of other programs is there, and no word has two meanings or is a command already.
func TestIntents(t *testing.T) {
	root := (&app{in: strings.NewReader(""), out: io.Discard, errs: io.Discard}).root()
	named := regexp.MustCompile(`trimlantern ((?:[a-z]+ ?)+)(?:(--[a-z-]+))?`)
	exists := func(says string) {
		for _, m := range named.FindAllStringSubmatch(says, -1) {
			c, _, err := root.Find(strings.Fields(m[1]))
			if assert.NoError(t, err, says) && m[2] != "" {
				assert.NotNil(t, c.Flags().Lookup(strings.TrimPrefix(m[2], "--")), says)
			}
		}
	}
	seen := map[string]bool{}
	for _, i := range intents {
		c, _, err := root.Find(strings.Fields(i.below))
		require.NoError(t, err)
		exists(i.does)
		for _, word := range strings.Fields(i.words) {
			assert.False(t, seen[i.below+" "+word], "%s %s has two meanings", i.below, word)
			seen[i.below+" "+word] = true
			for _, sub := range c.Commands() {
				assert.NotEqual(t, word, sub.Name(), i.below)
			}
			assert.Equal(t, i.does, unknown(c, word).(*work.Fault).Do)
		}
	}
	assert.Greater(t, len(seen), 100)
	flags := map[string]bool{}
	eachCommand(root, func(c *cobra.Command) {
		for name := range flagIntents {
			if says := flagMeant(c, name); says != "" {
				flags[name] = true
			}
		}
	})
	for name, says := range flagIntents {
		assert.True(t, flags[name], "--%s means nothing anywhere: %v", name, says)
		for _, s := range says {
			exists(s)
		}
	}
}

// A place on another machine is recognised, however it is written, and a folder is not taken for one.
func TestFarAway(t *testing.T) {
	for _, place := range []string{"ssh://host.example/var/www", "sftp://keeper@host.example", "ftp://host.example/x", "keeper@host.example:/var/www", "keeper@host.example", "rsync://h/m"} {
		assert.Error(t, here("FOLDER", place), place)
	}
	for _, place := range []string{"", "/var/www", "web", "./a@b", "https://ternrock.example", "mysql://keeper@db.example/museum", "sqlite:site.db", "a:b", "../x:y"} {
		assert.NoError(t, here("FOLDER", place), place)
	}
}

// A value that cannot be meant is refused before anything else is looked at, by every command, and what can be is said.
func TestWrongValues(t *testing.T) {
	tried := 0
	eachCommand((&app{in: strings.NewReader(""), out: io.Discard, errs: io.Discard}).root(), func(c *cobra.Command) {
		if c.Hidden || c.RunE == nil {
			return
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			wrong := map[string][]string{"int": {"-1", "many", "1.5", "99999999999999999999", "99999999"}, "duration": {"-1s", "soon", "5", "99999h"}, "time": {"-3d", "soon"}, "word": {"nothing", "-"}, "bool": {"perhaps"}}[f.Value.Type()]
			for _, v := range wrong {
				var out, errs bytes.Buffer
				args := append(strings.Fields(c.CommandPath())[1:], "--"+f.Name+"="+v)
				assert.Equal(t, work.Misuse, Run(args, &out, &errs), "%v\n%s", args, errs.String())
				assert.Contains(t, errs.String(), "--"+f.Name, "%v", args)
				assert.Regexp(t, "write |that is no ", errs.String(), "%v", args)
				tried++
			}
		})
	})
	assert.Greater(t, tried, 200)
	t.Logf("%d wrong values", tried)
}
