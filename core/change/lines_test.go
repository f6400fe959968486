package change

import (
	"reflect"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/rewrite"
)

// awkward are bytes that JSON writes in its own way.
var awkward = []string{"", "s", `"`, `\`, `\"`, `\\"`, "\x00\x1f\x7f", "\n\r\t\b\f", "</script>&\u2028", "é ✓ 😀", "\xff", "ok\xc3", strings.Repeat(`a\"b`, 3)}

// TestLinesByHand shows that the lines written by hand are those of the library, and
// that they are read as the library reads them.
func TestLinesByHand(t *testing.T) {
	hosts := []rewrite.HostCount{{Host: "ternrock.example", Count: 3}, {Host: "www.ternrock.example", Count: 1}}
	for i, a := range awkward {
		v, more := Value(a), Value(awkward[(i+5)%len(awkward)])
		for _, c := range []Cell{
			{Table: "m_posts", Key: []Value{v}, Column: "post_content", Size: 12, Before: Hash(v), After: Hash(more), Edits: []Edit{{At: 4, In: Value("s")}}, References: 1, Hosts: hosts},
			{Table: "m_posts", Key: []Value{v, more}, Column: `"`, Edits: []Edit{{}, {At: 1 << 40, Out: v, In: more}}, Hosts: hosts[:0], Address: true, With: "url"},
			{},
		} {
			want, err := appendLine(nil, &line{Cell: &c})
			require.NoError(t, err)
			got, err := appendCell(nil, &c)
			require.NoError(t, err)
			assert.Equal(t, string(want), string(got))
			checkCell(t, got)
		}
		for _, e := range []Entry{
			{Table: "m_posts", Key: []Value{more}, Column: "post_content", Before: v, After: Hash(v), Edits: []Edit{{At: 4, In: Value("s")}}},
			{Table: "m_posts", Key: []Value{v, more}, Before: more, As: "b"},
			{Table: "m_posts", Key: []Value{v}, Raw: Hash(v), As: "b", With: "url"},
			{Table: "m_posts", Key: []Value{v}, Before: more, Raw: Hash(more)},
		} {
			want, err := appendLine(nil, &Record{Entry: &e})
			require.NoError(t, err)
			got, err := appendEntry(nil, &e)
			require.NoError(t, err)
			assert.Equal(t, string(want), string(got))
			checkEntry(t, got)
		}
	}
	// A field that is new is forgotten by the writer or by the reader: all of them, one by one.
	for field := range reflect.TypeFor[Cell]().NumField() {
		c := Cell{Key: []Value{}, Edits: []Edit{}, Hosts: hosts[:0]}
		setSome(t, reflect.ValueOf(&c).Elem().Field(field))
		b, err := appendCell(nil, &c)
		require.NoError(t, err)
		got := &Cell{}
		assert.True(t, readCell(b, got, &Cell{}, false), "%s", b)
		assert.Equal(t, &c, got)
	}
	for field := range reflect.TypeFor[Entry]().NumField() {
		e := Entry{Key: []Value{}, Before: Value{}, Edits: []Edit{}}
		setSome(t, reflect.ValueOf(&e).Elem().Field(field))
		b, err := appendEntry(nil, &e)
		require.NoError(t, err)
		got, ok := readEntry(b, &Entry{})
		assert.True(t, ok, "%s", b)
		assert.Equal(t, &e, got)
	}
	_, err := appendCell(nil, &Cell{Table: "\xff"})
	assert.Error(t, err)
	assert.True(t, readCell([]byte(`{"cell":{"table":"p","key":["1"],"column":"c","size":1,"before":"","after":"","edits":[],"references":1,"hosts":[]}}`+"\n"), &Cell{}, &Cell{}, false), "the usual line needs no library")
}

// setSome sets a field to something that is not its zero value.
func setSome(t *testing.T, v reflect.Value) {
	for _, some := range []any{"some", 7, true, Value("some"), []Value{Value("1")}, []Edit{{At: 1, In: Value("s")}}, []rewrite.HostCount{{Host: "ternrock.example", Count: 1}}} {
		if s := reflect.ValueOf(some); s.Type() == v.Type() {
			v.Set(s)
			return
		}
	}
	require.Fail(t, "no value for a field of type "+v.Type().String())
}

// checkCell holds what was read by hand against what the library reads.
func checkCell(t testing.TB, b []byte) {
	for _, like := range []*Cell{{}, {Table: "m_posts", Hosts: []rewrite.HostCount{{Host: "ternrock.example", Count: 3}}}} {
		for _, lent := range []bool{false, true} {
			c := &Cell{}
			if lent { // into the memory of another
				c = &Cell{Key: []Value{Value("7"), Value("8"), Value("9")}, Edits: make([]Edit, 3), Size: 9, Address: true, With: "url", References: 2, Hosts: like.Hosts}
			}
			if readCell(b, c, like, lent) {
				var l line
				require.NoError(t, json.Unmarshal(b, &l, asBefore))
				assert.Equal(t, l.Cell, c)
			}
		}
	}
}

func checkEntry(t testing.TB, b []byte) {
	if e, ok := readEntry(b, &Entry{}); ok {
		var r Record
		require.NoError(t, json.Unmarshal(b, &r, asBefore))
		assert.Equal(t, r, Record{Entry: e})
	}
}

// FuzzLine: whatever stands in a line, reading by hand either leaves it to the
// library or finds the same.
func FuzzLine(f *testing.F) {
	for _, a := range awkward {
		c, err := appendCell(nil, &Cell{Key: []Value{Value(a)}, Edits: []Edit{{At: 1, Out: Value(a), In: Value("s")}}, Hosts: []rewrite.HostCount{{Host: "ternrock.example", Count: 3}}})
		require.NoError(f, err)
		f.Add(c)
		e, err := appendEntry(nil, &Entry{Key: []Value{Value("1")}, Before: Value(a), Edits: []Edit{}, As: "b"})
		require.NoError(f, err)
		f.Add(e)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		checkCell(t, b)
		checkEntry(t, b)
	})
}
