package program

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var commands = []string{"switch", "show", "decide", "init", "preview", "apply", "undo", "scan", "trace", "filter", "mend", "status", "history", "systems", "ready", "cert", "backup", "redirect", "checkup", "demo"}

func TestHelp(t *testing.T) {
	dir := t.TempDir()
	r := want(t, 0, dir, "--help")
	for _, c := range commands {
		assert.Contains(t, r.out, "  "+c+" ")
		help := want(t, 0, dir, c, "--help").out
		assert.Contains(t, help, "Examples:", c)
		assert.Contains(t, help, "trimlantern "+c, c)
		assert.Contains(t, help, "Exit codes: help codes", c)
	}
	assert.Contains(t, want(t, 0, dir, "--version").out, "1.2.3-test")
	for _, topic := range []string{"codes", "json", "site-file", "words", "options"} {
		r := want(t, 0, dir, "help", topic)
		assert.Greater(t, strings.Count(r.out, "\n"), 4, topic)
		narrow(t, r.out)
		assert.Contains(t, want(t, 2, dir, topic).errs, "help "+topic)
	}
	for _, c := range append(commands, "cert obtain", "cert renew", "cert revoke", "cert request", "cert check", "cert proof", "redirect show", "redirect install", "redirect remove", "redirect test",
		"decide accept", "decide adopt", "decide replace", "decide forget", "decide leave", "decide secure", "show changes", "show left", "show scan", "show journal") {
		r := want(t, 0, dir, append([]string{"help"}, strings.Fields(c)...)...)
		narrow(t, r.out)
		assert.Equal(t, r.out, want(t, 0, dir, append(strings.Fields(c), "--help")...).out)
	}
}

// narrow wants a text that fits a terminal.
func narrow(t *testing.T, text string) {
	t.Helper()
	for line := range strings.Lines(text) {
		assert.LessOrEqual(t, len([]rune(strings.TrimSuffix(line, "\n"))), 80, line)
	}
}

func TestCompletion(t *testing.T) {
	dir := bare(t, 1)
	for _, shell := range []string{"bash", "zsh", "fish"} {
		assert.Contains(t, want(t, 0, dir, "completion", shell).out, "trimlantern", shell)
		assert.NotContains(t, want(t, 0, dir, "completion", shell, "--help").out, "brew")
	}
	assert.Contains(t, want(t, 0, dir, "__complete", "pre").out, "preview")
	assert.Contains(t, want(t, 0, dir, "__complete", "init", "--system", "").out, "wordpress")
	want(t, 0, dir, "preview", "--offline")
	sheet := regexp.MustCompile(`(?m)^\d{8}-\d{6}-\d{3}$`)
	assert.Regexp(t, sheet, want(t, 0, dir, "__complete", "apply", "").out)
}

func TestJSONErrors(t *testing.T) {
	r := want(t, 2, t.TempDir(), "preview", "--format", "json")
	var e struct {
		Error, Do string
		Code      int
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &e))
	assert.Equal(t, 2, e.Code)
	assert.NotEmpty(t, e.Error)
	assert.NotEmpty(t, e.Do)
}

func TestStatic(t *testing.T) {
	out, err := exec.Command("file", "-L", program).CombinedOutput()
	if err != nil { // no such program here: the linker's own words will do
		out, err = exec.Command("go", "version", "-m", program).CombinedOutput()
		require.NoError(t, err)
		assert.Contains(t, string(out), "CGO_ENABLED=0")
		return
	}
	assert.Contains(t, string(out), "statically linked")
}

// Imports run downwards only, and the core knows nothing outside itself.
func TestHouse(t *testing.T) {
	list := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./...")
	list.Dir = "../.."
	out, err := list.Output()
	require.NoError(t, err)
	floor := map[string]int{"core": 0, "outside": 1, "catalogue": 1, "work": 2, "report": 3, "demo": 3, "cli": 4, "cmd": 5}
	seen := 0
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		room := func(path string) string {
			if path == "trimlantern/report/words" {
				return "catalogue" // what the jobs say, they say in its words
			}
			return strings.Split(strings.TrimPrefix(path, "trimlantern/"), "/")[0]
		}
		from, known := floor[room(words[0])]
		if !known {
			continue // tests
		}
		seen++
		for _, to := range words[1:] {
			if strings.HasPrefix(to, "trimlantern/") {
				above := floor[room(to)]
				assert.True(t, above < from || room(to) == room(words[0]), "%s imports %s", words[0], to)
			}
			if from == 0 {
				for _, outside := range []string{"net/http", "database/sql", "os", "os/exec", "github.com/spf13/cobra"} {
					assert.NotEqual(t, outside, to, "%s is to be pure", words[0])
				}
			}
		}
	}
	assert.Greater(t, seen, 50)
}

// The jobs stand on a common ground that knows none of them, and what walks through them is used by none.
func TestJobs(t *testing.T) {
	list := exec.Command("go", "list", "-f", `{{.ImportPath}}{{range .Imports}} {{.}}{{end}}`, "./work/...")
	list.Dir = "../.."
	out, err := list.Output()
	require.NoError(t, err)
	const ground = "trimlantern/work"
	jobs := 0
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		jobs++
		for _, to := range words[1:] {
			job, inside := strings.CutPrefix(to, ground+"/")
			switch {
			case !inside:
			case words[0] == ground || words[0] == ground+"/judge":
				assert.Equal(t, "judge", job, words[0])
			default:
				if words[0] != ground+"/guide" {
					assert.NotContains(t, []string{"guide", "fleet", "checkup", "status", "show"}, job, words[0])
				}
			}
		}
	}
	assert.Greater(t, jobs, 15)
}

// What a check found is said in the catalogue's words: the jobs make no points of their own.
func TestCatalogue(t *testing.T) {
	files := 0
	require.NoError(t, filepath.WalkDir("../../work", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			if made, ok := n.(*ast.CompositeLit); ok {
				if is, ok := made.Type.(*ast.SelectorExpr); ok && is.Sel.Name == "Point" {
					assert.Fail(t, "a point that no sentence of report/words made", "%s: byte %d", path, made.Pos())
				}
			}
			return true
		})
		return nil
	}))
	assert.Greater(t, files, 60)
}

// What one package offers another says what it is for.
func TestDocumented(t *testing.T) {
	named := 0
	for _, room := range []string{"core", "outside", "work", "report", "demo"} {
		require.NoError(t, filepath.WalkDir("../../"+room, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
			require.NoError(t, err)
			for _, decl := range f.Decls {
				switch d := decl.(type) {
				case *ast.FuncDecl:
					if d.Name.IsExported() && d.Recv == nil {
						named++
						assert.True(t, strings.HasPrefix(d.Doc.Text(), d.Name.Name+" "), "%s: %s has no doc comment that begins with its name", path, d.Name.Name)
					}
				case *ast.GenDecl:
					for _, s := range d.Specs {
						if spec, ok := s.(*ast.TypeSpec); ok && spec.Name.IsExported() {
							named++
							assert.NotEmpty(t, d.Doc.Text()+spec.Doc.Text()+spec.Comment.Text(), "%s: type %s has no doc comment", path, spec.Name.Name)
						}
					}
				}
			}
			return nil
		}))
	}
	assert.Greater(t, named, 500)
}

// Every command of the README is run: those of its two lines by continuous
// integration itself, the others here.
func TestReadme(t *testing.T) {
	b, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	text := string(b)
	assert.Contains(t, text, "make demo")
	assert.Contains(t, text, "make check")
	for _, link := range regexp.MustCompile(`\]\(([^)#:]+)\)`).FindAllStringSubmatch(text, -1) {
		assert.FileExists(t, filepath.Join("../..", link[1]))
	}
	make, err := os.ReadFile("../../Makefile")
	require.NoError(t, err)
	dir, initArgs := museum(t)
	ran := 0
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(text, -1) {
		for line := range strings.Lines(block[1]) {
			line, _, _ = strings.Cut(strings.TrimSpace(line), "  #")
			words := strings.Fields(line)
			switch {
			case len(words) == 0:
			case words[0] == "make":
				assert.Contains(t, string(make), "\n"+words[1]+":", line)
			case words[0] == "trimlantern" && words[1] == "demo":
				want(t, 0, dir, words[1:]...)
				ran++
			case words[0] == "trimlantern" && words[1] == "init": // the demo's own folder and addresses
				assert.Subset(t, initArgs, words[1:4], line)
				want(t, 0, dir, initArgs...)
				ran++
			case words[0] == "trimlantern" && words[1] == "switch": // nobody is at the terminal; the rest of the road comes below
				assert.Subset(t, initArgs, words[2:4], line)
				want(t, 0, dir, switchArgs(initArgs, "--yes", "--until", "site")...)
				ran++
			case words[0] == "trimlantern":
				r := run(t, dir, words[1:]...)
				assert.Contains(t, []int{0, 1}, r.code, "%s\n%s", line, r.errs)
				ran++
			default:
				t.Errorf("nobody runs %q", line)
			}
		}
	}
	assert.GreaterOrEqual(t, ran, 6)
}

// TestCommonOptions takes options from the environment, works in another folder, and colours what it is told to.
func TestCommonOptions(t *testing.T) {
	dir := bare(t, 1)
	elsewhere := t.TempDir()
	at := func(environ []string, args ...string) (string, int) {
		c := exec.Command(program, args...)
		c.Dir, c.Env = elsewhere, append(environment(dir), environ...)
		out, err := c.CombinedOutput()
		require.NotNil(t, c.ProcessState, "%v", err)
		return string(out), c.ProcessState.ExitCode()
	}
	out, code := at(nil, "-C", dir, "history")
	assert.Equal(t, 0, code, out)
	out, code = at(nil, "--in", "nowhere", "history")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "cannot work in nowhere")
	out, _ = at([]string{"TRIMLANTERN_FORMAT=json"}, "-C", dir, "history")
	assert.Contains(t, out, `"version": 1`)
	out, _ = at([]string{"TRIMLANTERN_FORMAT=json"}, "-C", dir, "history", "--format", "text")
	assert.NotContains(t, out, `"version": 1`, "the command line says otherwise")
	out, code = at([]string{"TRIMLANTERN_QUIET=perhaps"}, "-C", dir, "history")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "TRIMLANTERN_QUIET: perhaps cannot be used")
	out, _ = at(nil, "-C", dir, "history", "--color", "always")
	assert.Contains(t, out, "\x1b[")
	out, _ = at([]string{"TRIMLANTERN_COLOR=never"}, "-C", dir, "history")
	assert.NotContains(t, out, "\x1b[")
	out, code = at(nil, "-C", dir, "history", "--color", "blue")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "write auto, always or never")
}

// The script for bash completes without any other package, also behind = and :.
func TestCompletionBash(t *testing.T) {
	dir := t.TempDir()
	script := `source <("$0" completion bash)
trimlantern() { "$PROGRAM" "$@"; }
try() { COMP_LINE=$1 COMP_POINT=${#1} COMPREPLY=(); _trimlantern; echo "${COMPREPLY[*]}"; }
for line in "$@"; do try "$line"; done`
	lines := [][2]string{
		{"trimlantern sc", "scan"},
		{"trimlantern cert ob", "obtain"},
		{"trimlantern scan --fail-on bl", "blocked"},
		{"trimlantern filter --as=v", "value"},
		{"trimlantern filter --as ", "dump value"},
		{"trimlantern help json undo", "undo"},
		{"trimlantern systems word", "wordpress"},
		{"trimlantern nothing ", ""},
	}
	args := []string{"--norc", "-c", script, program}
	want := ""
	for _, l := range lines {
		args, want = append(args, l[0]), want+l[1]+"\n"
	}
	c := exec.Command("bash", args...)
	c.Dir, c.Env = dir, append(environment(dir), "PROGRAM="+program)
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, want, string(out))
}
