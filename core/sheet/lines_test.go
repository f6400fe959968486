package sheet

import (
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
			{Table: "m_posts", Key: []Value{v, more}, Column: `"`, Edits: []Edit{{}, {At: 1 << 40, Out: v, In: more}}, Hosts: hosts[:0], Address: true},
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
		} {
			want, err := appendLine(nil, &Record{Entry: &e})
			require.NoError(t, err)
			got, err := appendEntry(nil, &e)
			require.NoError(t, err)
			assert.Equal(t, string(want), string(got))
			checkEntry(t, got)
		}
	}
	_, err := appendCell(nil, &Cell{Table: "\xff"})
	assert.Error(t, err)
	_, ok := readCell([]byte(`{"cell":{"table":"p","key":["1"],"column":"c","size":1,"before":"","after":"","edits":[],"references":1,"hosts":[]}}`+"\n"), &Cell{})
	assert.True(t, ok, "the usual line needs no library")
}

// checkCell holds what was read by hand against what the library reads.
func checkCell(t testing.TB, b []byte) {
	for _, like := range []*Cell{{}, {Table: "m_posts", Hosts: []rewrite.HostCount{{Host: "ternrock.example", Count: 3}}}} {
		if c, ok := readCell(b, like); ok {
			var l line
			require.NoError(t, json.Unmarshal(b, &l, asBefore))
			assert.Equal(t, l.Cell, c)
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
