package cli

import (
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A guard acts where the run dies without a word, and tells a run whose time is over.
func TestWatch(t *testing.T) {
	for _, c := range []struct {
		what, word string
		late       bool
		want       string
	}{
		{"the word", guardGoes, false, ""},
		{"no word", "", false, "dead "},
		{"half a word", "do", false, "dead "},
		{"another word", "never mind", false, "dead "},
		{"too late, then dead", "", true, "late dead "},
		{"too late, then the word", guardGoes, true, "late "},
	} {
		in, run := io.Pipe()
		said, until := "", time.Now().Add(time.Hour)
		end := func() {
			_, _ = io.WriteString(run, c.word) // who has heard enough closes the pipe
			run.Close()
		}
		if c.late {
			until = time.Now()
		} else {
			go end()
		}
		watch(in, until, func() { said += "late "; go end() }, func() { said += "dead " })
		in.Close()
		assert.Equal(t, c.want, said, c.what)
	}
}
