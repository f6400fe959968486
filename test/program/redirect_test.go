package program

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever edits the file while rules go into it, or out of it, keeps the edit; the run gives way and says so.
func TestRedirectRace(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	file := filepath.Join(dir, ".htaccess")
	gave := 0
	for i := range 30 {
		require.NoError(t, os.WriteFile(file, []byte("# the museum's own\n"), 0o644))
		command := []string{"redirect", "install", "apache", ".htaccess", "--anyway"}
		if i%2 == 1 {
			want(t, 0, dir, command...)
			command = []string{"redirect", "remove", ".htaccess"}
		}
		mark := fmt.Sprintf("# edit %d\n", i)
		done := make(chan struct{})
		go func() {
			defer close(done)
			time.Sleep(time.Duration(i*2) * time.Millisecond)
			f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND, 0)
			if assert.NoError(t, err) {
				defer f.Close()
				_, err = f.WriteString(mark)
				assert.NoError(t, err)
			}
		}()
		r := run(t, dir, command...)
		<-done
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, string(b), mark, "%v: %s", command, r.errs)
		if r.code != 0 {
			gave++
			assert.Contains(t, r.errs, "meanwhile")
			assert.Equal(t, i%2 == 1, strings.Contains(string(b), "trimlantern redirect"), "it is as it was, with the edit")
		}
	}
	t.Logf("%d of 30 gave way", gave)
}
