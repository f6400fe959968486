// Package yamltext puts the errors of reading YAML into a user's words.
package yamltext

import (
	"errors"
	"io"
	"regexp"
	"strings"

	"go.yaml.in/yaml/v3"
)

// words are how the reader says things, and how a user reads them. $1 is the line, where there is one.
var words = []struct {
	said *regexp.Regexp
	read string
}{
	{regexp.MustCompile(`^(line \d+): field (\S+) not found in type .+$`), "$1: the key $2 is not known"},
	{regexp.MustCompile(`^(line \d+): cannot unmarshal !!seq into .+$`), "$1: there is a list where keys with values, or one value, belong"},
	{regexp.MustCompile(`^(line \d+): cannot unmarshal !!map into .+$`), "$1: there are keys where a list, or one value, belongs"},
	{regexp.MustCompile("^(line \\d+): cannot unmarshal !!\\w+ `(.*)` into \\[\\]\\S+$"), "$1: $2 stands where a list belongs"},
	{regexp.MustCompile("^(line \\d+): cannot unmarshal !!\\w+ `(.*)` into u?int\\d*$"), "$1: $2 is no number"},
	{regexp.MustCompile("^(line \\d+): cannot unmarshal !!\\w+ `(.*)` into bool$"), "$1: $2 is neither true nor false"},
	{regexp.MustCompile("^(line \\d+): cannot unmarshal !!\\w+ `(.*)` into .+$"), "$1: $2 stands where keys with values belong"},
	{regexp.MustCompile(`^(line \d+): mapping key "(.*)" already defined at (line \d+)$`), "$1: the key $2 stands there twice, first at $3"},
	{regexp.MustCompile(`^yaml: (line \d+): (.*)$`), "$1: this is not YAML ($2)"},
	{regexp.MustCompile(`^yaml: (.*)$`), "this is not YAML ($1)"},
}

// Explain returns an error of go.yaml.in/yaml in a user's words, on one line; others as they are.
func Explain(err error) error {
	var typed *yaml.TypeError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, io.EOF):
		return errors.New("the file is empty")
	case errors.As(err, &typed):
		var all []string
		for _, e := range typed.Errors {
			all = append(all, explain(e))
		}
		return errors.New(strings.Join(all, "; "))
	case strings.HasPrefix(err.Error(), "yaml: "):
		return errors.New(explain(err.Error()))
	}
	return err
}

func explain(s string) string {
	for _, w := range words {
		if w.said.MatchString(s) {
			return w.said.ReplaceAllString(s, w.read)
		}
	}
	return s
}
