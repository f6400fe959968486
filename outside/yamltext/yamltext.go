// Package yamltext puts the errors of reading YAML into a user's words.
package yamltext

import (
	"bytes"
	"errors"
	"fmt"
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

// ErrEmpty says that there is nothing in a file but comments.
var ErrEmpty = errors.New("the file is empty")

// maxErrors is how many errors of one file are explained.
const maxErrors = 10

// Decode reads YAML strictly into v: a key that v has no field for is an error, and so is one that is there twice. The error
// is in a user's words.
func Decode(b []byte, v any) error {
	var doc yaml.Node
	if err := yaml.Unmarshal(b, &doc); err != nil {
		return Explain(err)
	}
	// The library compares each key with each other, and keeps an error for each pair: of 100,000 equal keys it would never
	// come to an end.
	if err := unique(&doc); err != nil {
		return err
	}
	d := yaml.NewDecoder(bytes.NewReader(b))
	d.KnownFields(true)
	return Explain(d.Decode(v))
}

// maxKeys bounds the keys of one mapping: the library compares each with each other.
const maxKeys = 5000

// unique says which key is there twice in a mapping.
func unique(n *yaml.Node) error {
	if n.Kind == yaml.MappingNode {
		if len(n.Content) > 2*maxKeys {
			return fmt.Errorf("line %d: there are more than %d keys", n.Line, maxKeys)
		}
		seen := make(map[string]int, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			key := n.Content[i]
			if key.Kind != yaml.ScalarNode {
				continue
			}
			if first, ok := seen[key.Value]; ok {
				return fmt.Errorf("line %d: the key %q is there twice, first at line %d", key.Line, key.Value, first)
			}
			seen[key.Value] = key.Line
		}
	}
	for _, c := range n.Content {
		if err := unique(c); err != nil {
			return err
		}
	}
	return nil
}

// Explain returns an error of go.yaml.in/yaml in a user's words, on one line; others as they are.
func Explain(err error) error {
	var typed *yaml.TypeError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, io.EOF):
		return ErrEmpty
	case errors.As(err, &typed):
		var all []string
		for i, e := range typed.Errors {
			if i == maxErrors {
				all = append(all, fmt.Sprintf("and %d more", len(typed.Errors)-i))
				break
			}
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
