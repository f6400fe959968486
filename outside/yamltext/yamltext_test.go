package yamltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"go.yaml.in/yaml/v3"
)

func TestExplain(t *testing.T) {
	for text, say := range map[string]string{
		"":                 "the file is empty",
		"name: x\nb: 1":    "line 2: the key b is not known",
		"- a":              "line 1: there is a list where keys with values, or one value, belong",
		"port: many":       "line 1: many is no number",
		"quiet: perhaps":   "line 1: perhaps is neither true nor false",
		"list: x":          "line 1: x stands where a list belongs",
		"name: {a: b}":     "line 1: there are keys where a list, or one value, belongs",
		"name: [":          "line 1: this is not YAML (did not find expected node content)",
		"x":                "line 1: x stands where keys with values belong",
		"name: a\nname: b": "line 2: the key name stands there twice, first at line 1",
	} {
		var v struct {
			Name  string
			Port  int
			Quiet bool
			List  []string
		}
		d := yaml.NewDecoder(strings.NewReader(text))
		d.KnownFields(true)
		err := Explain(d.Decode(&v))
		if assert.Error(t, err, text) {
			assert.Equal(t, say, err.Error(), text)
		}
	}
	assert.NoError(t, Explain(nil))
}
