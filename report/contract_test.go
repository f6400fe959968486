package report

import (
	"encoding/json"
	"flag"
	"os"
	"path"
	"reflect"
	"testing"
	"time"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
)

var update = flag.Bool("update", false, "write the schemas anew")

// schema makes the JSON Schema of a type, with its comments.
func schema(t *testing.T, comments map[string]string, name, what string, of any) []byte {
	inLines := false
	if one, ok := of.(line); ok {
		of, inLines = one.of, true
	}
	r := jsonschema.Reflector{AllowAdditionalProperties: true, ExpandedStruct: true, Anonymous: true, CommentMap: comments,
		Namer: func(typ reflect.Type) string {
			if typ.Name() == "" {
				return ""
			}
			return path.Base(typ.PkgPath()) + "." + typ.Name()
		},
		Mapper: func(typ reflect.Type) *jsonschema.Schema {
			switch typ {
			case reflect.TypeFor[change.Value](): // text, or bytes that are none
				return &jsonschema.Schema{Type: "string"}
			case reflect.TypeFor[time.Time]():
				return &jsonschema.Schema{Type: "string", Format: "date-time"}
			}
			return nil
		}}
	s := r.Reflect(of)
	s.Title = "trimlantern: " + what
	b, err := json.Marshal(s)
	require.NoError(t, err)
	var all map[string]any
	require.NoError(t, json.Unmarshal(b, &all))
	if !inLines {
		all["properties"].(map[string]any)["version"] = map[string]any{"type": "integer", "const": Version, "description": "grows when a field changes its meaning"}
		required, _ := all["required"].([]any)
		all["required"] = append([]any{"version"}, required...)
	}
	out, err := json.MarshalIndent(all, "", "  ")
	require.NoError(t, err)
	return append(out, '\n')
}

// TestSchemas holds the schemas that ship with the program to the types of its results. -update writes them anew.
func TestSchemas(t *testing.T) {
	r := jsonschema.Reflector{}
	for _, room := range []string{"core", "outside", "work", "report"} {
		require.NoError(t, r.AddGoComments("trimlantern", "../"+room))
	}
	comments := map[string]string{}
	for k, v := range r.CommentMap { // they are named by the folder that was read
		comments["trimlantern/"+k] = v
	}
	for _, c := range contract {
		want := schema(t, comments, c.name, c.what, c.of)
		file := "schemas/" + c.name + ".json"
		if *update {
			require.NoError(t, os.WriteFile(file, want, 0o644))
			continue
		}
		assert.JSONEq(t, string(want), string(SchemaOf(c.name)), "%s: go test ./report -run TestSchemas -update", c.name)
	}
	assert.Nil(t, SchemaOf("none"))
	assert.Nil(t, SchemaOf("../contract"))
}
