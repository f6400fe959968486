package program

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every command line of the docs names a command that is there, with options that it has.
func TestDocs(t *testing.T) {
	all, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	common := want(t, 0, t.TempDir(), "help", "options").out
	helps := map[string]string{}
	lines := 0
	for _, file := range all {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, link := range regexp.MustCompile(`\]\(([^)#:]+)\)`).FindAllStringSubmatch(string(b), -1) {
			assert.FileExists(t, filepath.Join(filepath.Dir(file), link[1]), file)
		}
		for _, m := range regexp.MustCompile("(?m)(?:^|\x60|\\| )trimlantern ([^\x60\n|>#]+)").FindAllStringSubmatch(string(b), -1) {
			line := strings.Join(strings.Fields(m[1]), " ")
			words := strings.Fields(line)
			command := []string{}
			for _, w := range words { // as far as help knows them
				if strings.HasPrefix(w, "-") || strings.ContainsAny(w, "./…*'") {
					break
				}
				command = append(command, w)
			}
			if len(command) == 0 {
				continue // an option alone
			}
			if command[0] == "help" {
				want(t, 0, t.TempDir(), append(command[:1:1], strings.Split(strings.Join(command[1:], " "), " NAME")[0])...)
				continue
			}
			help, known := "", false
			for n := min(2, len(command)); n > 0 && !known; n-- {
				key := strings.Join(command[:n], " ")
				if help, known = helps[key]; !known {
					r := run(t, t.TempDir(), append(command[:n:n], "--help")...)
					if known = r.code == 0 && strings.Contains(r.out, "trimlantern "+key); known {
						help = r.out
						helps[key] = help
					}
				}
			}
			if !assert.True(t, known, "%s: %q is no command", file, line) {
				continue
			}
			lines++
			for _, o := range regexp.MustCompile(`(?:^| )--([a-z-]+)`).FindAllStringSubmatch(line, -1) {
				assert.True(t, strings.Contains(help, "--"+o[1]) || strings.Contains(common, "--"+o[1]), "%s: %q: there is no --%s", file, line, o[1])
			}
		}
	}
	assert.Greater(t, lines, 60)
}

// The page on the house names files and names that are there.
func TestHousePage(t *testing.T) {
	b, err := os.ReadFile("../../docs/house.md")
	require.NoError(t, err)
	named := 0
	for _, m := range regexp.MustCompile("\x60([A-Za-z][A-Za-z/.]*)(?:\\(\\))?\x60").FindAllStringSubmatch(string(b), -1) {
		name := m[1]
		named++
		if strings.Contains(name, "/") && !regexp.MustCompile(`^[a-z]+\.[A-Z]`).MatchString(name) {
			_, err := os.Stat("../../" + name)
			assert.NoError(t, err, name)
			continue
		}
		if _, err := os.Stat("../../work/run/" + name); err == nil || name == "preview" || name == "undo" || name == "http" {
			continue
		}
		word := name[strings.LastIndexByte(name, '.')+1:]
		found := exec.Command("grep", "-rqE", "--include=*.go", "(func|type|var|^	|\\)) ?"+word+"\\b", "core", "outside", "work", "report", "cli", "test/program")
		found.Dir = "../.."
		assert.NoError(t, found.Run(), name)
	}
	assert.Greater(t, named, 40)
}
