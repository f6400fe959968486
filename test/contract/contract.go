// Package contract holds what the program writes as JSON to the schemas that it ships. It is for tests alone.
package contract

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// schemaSource is a JSON Schema by its name in help json, compiled once for all tests.
var schemaSource = struct {
	sync.Mutex
	by map[string]*jsonschema.Schema
}{by: map[string]*jsonschema.Schema{}}

// resultOf names the result that a command writes as JSON; "" where it writes none.
func resultOf(args []string) string {
	words := []string{}
	for _, a := range args {
		if strings.HasPrefix(a, "-") {
			break
		}
		words = append(words, a)
	}
	has := func(option string) bool {
		return slices.ContainsFunc(args, func(a string) bool { return a == option || strings.HasPrefix(a, option+"=") })
	}
	if len(words) == 0 {
		return ""
	}
	switch name := strings.Join(words[:min(2, len(words))], " "); {
	case words[0] == "cert" && has("--install-timer"), words[0] == "checkup" && has("--install-timer"):
		return "timer"
	case name == "cert renew":
		return "cert-obtain"
	case words[0] == "cert":
		return strings.ReplaceAll(name, " ", "-")
	case name == "decide adopt":
		return "adopt"
	case words[0] == "decide":
		return "decision"
	case name == "redirect install", name == "redirect remove":
		return "redirect-file"
	case words[0] == "redirect":
		return strings.ReplaceAll(name, " ", "-")
	case name == "show decided":
		return "decided"
	case words[0] == "show" && len(words) > 1:
		return "show-line"
	case words[0] == "fleet":
		return "fleet-line"
	case words[0] == "mend":
		return "preview"
	case words[0] == "apply" && (has("--write") || has("--patch")):
		return "apply-dump"
	case words[0] == "init" && has("--move"):
		return "move"
	}
	return words[0]
}

// Check holds what a run of the program wrote as JSON to the schema of its result.
func Check(t testing.TB, program string, args []string, code int, stdout, stderr string) {
	t.Helper()
	i := slices.Index(args, "--format")
	if i < 0 || i+1 >= len(args) || args[i+1] != "json" || slices.Contains(args, "--as-sql") {
		return
	}
	name, out := resultOf(args), stdout
	if name == "filter" {
		if out = stderr; code > 1 {
			return // its words follow
		}
	}
	if name == "" || strings.TrimSpace(out) == "" || name == "demo" || name == "version" {
		return
	}
	if name == "fleet-line" || name == "show-line" {
		d := json.NewDecoder(strings.NewReader(out))
		for first := true; d.More(); first = false {
			var one json.RawMessage
			require.NoError(t, d.Decode(&one), "%v", args)
			as := name
			if first {
				as = "list-head"
			}
			if strings.HasPrefix(string(one), "{\n  \"version\"") { // a fault at its end
				as = "error"
			}
			holds(t, program, as, one, args)
		}
		return
	}
	d := json.NewDecoder(strings.NewReader(out))
	for d.More() {
		var one json.RawMessage
		require.NoError(t, d.Decode(&one), "%v: %s", args, out)
		var failure struct {
			Error, Do string
			Code      int
		}
		if json.Unmarshal(one, &failure) == nil && failure.Error != "" && failure.Code > 1 {
			holds(t, program, "error", one, args)
			continue
		}
		holds(t, program, name, one, args)
	}
}

// holds checks one object, which may have no field that its schema does not name.
func holds(t testing.TB, program, name string, b []byte, args []string) {
	t.Helper()
	schemaSource.Lock()
	defer schemaSource.Unlock()
	s := schemaSource.by[name]
	if s == nil {
		text, err := exec.Command(program, "help", "json", name).Output()
		require.NoError(t, err, "no schema for %v", args)
		var all any
		require.NoError(t, json.Unmarshal(text, &all))
		strict(all)
		text, err = json.Marshal(all)
		require.NoError(t, err)
		s = compiled(t, string(text))
		schemaSource.by[name] = s
	}
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	require.NoError(t, err)
	assert.NoError(t, s.Validate(v), "%v: result %s", args, name)
}

// strict has a schema refuse fields that it does not name: programs that read results must not, since more may come.
func strict(v any) {
	switch v := v.(type) {
	case map[string]any:
		if v["properties"] != nil {
			v["additionalProperties"] = false
		}
		for _, one := range v {
			strict(one)
		}
	case []any:
		for _, one := range v {
			strict(one)
		}
	}
}

// compiled reads a JSON Schema. Formats, like that of times, are checked too.
func compiled(t testing.TB, schema string) *jsonschema.Schema {
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(t, c.AddResource("schema.json", doc))
	s, err := c.Compile("schema.json")
	require.NoError(t, err)
	return s
}

// Valid checks a document against a schema.
func Valid(t testing.TB, schema string, document []byte) error {
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(document)))
	require.NoError(t, err)
	return compiled(t, schema).Validate(v)
}
