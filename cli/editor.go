package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"trimlantern/outside/disk"
	"trimlantern/work"
	"trimlantern/work/decide"
)

// editor has the user edit a text in the editor of their choice, and returns what they saved.
func (a *app) editor(text []byte) ([]byte, error) {
	command := os.Getenv("VISUAL")
	if command == "" {
		command = os.Getenv("EDITOR")
	}
	words := strings.Fields(command)
	if len(words) == 0 {
		return nil, &work.Fault{Code: work.Misuse, What: "there is no editor to open: neither VISUAL nor EDITOR is set", Do: "set EDITOR, like EDITOR=nano; or give the new text: --text FILE"}
	}
	dir, remove, err := disk.TempFolder("edit") // of the caller alone
	if err != nil {
		return nil, &work.Fault{Code: work.World, What: "the text cannot be written for the editor", Do: "free some space in the folder for temporary files", Err: err}
	}
	defer remove()
	file := filepath.Join(dir, "text.txt")
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return nil, &work.Fault{Code: work.World, What: "the text cannot be written for the editor", Do: "free some space in the folder for temporary files", Err: err}
	}
	c := exec.Command(words[0], append(words[1:], file)...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, a.out, a.errs
	if err := c.Run(); err != nil {
		var ended *exec.ExitError
		if errors.As(err, &ended) {
			return nil, &work.Fault{Code: work.Misuse, What: fmt.Sprintf("the editor %s ended with %d: nothing was decided", words[0], ended.ExitCode()), Do: "run the same command again"}
		}
		return nil, &work.Fault{Code: work.Misuse, What: "the editor " + words[0] + " cannot be run", Do: "set EDITOR to one that is installed, like EDITOR=nano"}
	}
	return a.textFrom(file)
}

// textFrom reads a text from a file, or from standard input.
func (a *app) textFrom(file string) ([]byte, error) {
	in := a.in
	if file != stdout {
		f, err := os.Open(file)
		if err != nil {
			return nil, &work.Fault{Code: work.Misuse, What: "the text cannot be read: " + file, Do: "name a file that is there and may be read"}
		}
		defer f.Close()
		in = f
	}
	var b bytes.Buffer
	n, err := io.Copy(&b, io.LimitReader(in, decide.MaxText+1))
	if err != nil || n > decide.MaxText {
		return nil, &work.Fault{Code: work.Misuse, What: "the text cannot be read, or is larger than 16 MB", Do: "give a smaller one"}
	}
	return b.Bytes(), nil
}
