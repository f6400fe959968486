package change

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/rewrite"
)

func sample(t testing.TB) []byte {
	var buf bytes.Buffer
	w, err := NewWriter(&buf, Header{Tool: "t", ID: "1", Site: "https://ternrock.example"})
	require.NoError(t, err)
	require.NoError(t, w.Cell(Cell{Table: "p", Key: []Value{Value("7"), {0xff, 0}}, Column: "c", Before: Hash([]byte("http")), After: Hash([]byte("https")),
		Edits: Edits([]rewrite.Edit{{Offset: 4, Inserted: "s"}}), References: 1}))
	require.NoError(t, w.Drop(Drop{Table: "options", Key: []Value{Value("9")}, References: 2}))
	require.NoError(t, w.Left(Left{Reason: rewrite.Linked, URL: "http://other.example/<&", Count: 1}))
	require.NoError(t, w.Close(Summary{Cells: 1, References: 1}))
	return buf.Bytes()
}

func TestSheet(t *testing.T) {
	r, err := NewReader(bytes.NewReader(sample(t)))
	require.NoError(t, err)
	assert.Equal(t, "https://ternrock.example", r.Header.Site)
	cells, drops := 0, 0
	err = r.Each(Visit{Cell: func(c *Cell) error {
		cells++
		assert.Equal(t, []Value{Value("7"), {0xff, 0}}, c.Key)
		after, err := c.Apply([]byte("http"))
		require.NoError(t, err)
		assert.Equal(t, "https", string(after))
		_, err = c.Apply([]byte("other"))
		assert.ErrorIs(t, err, ErrChanged)
		c.After = Hash([]byte("something else"))
		_, err = c.Apply([]byte("http"))
		assert.ErrorContains(t, err, "do not give the value")
		return nil
	}, Drop: func(d *Drop) error {
		drops++
		assert.Equal(t, Drop{Table: "options", Key: []Value{Value("9")}, References: 2}, *d)
		return nil
	}})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1, 1}, []int{cells, drops, r.End.Cells})
}

// plain and packed let a test edit a sheet as a person with zstd would.
func plain(t testing.TB, b []byte) string {
	z, err := zstd.NewReader(bytes.NewReader(b))
	require.NoError(t, err)
	defer z.Close()
	out, err := io.ReadAll(z)
	require.NoError(t, err)
	return string(out)
}

func packed(t testing.TB, s string) []byte {
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	return z.EncodeAll([]byte(s), nil)
}

func read(b []byte) error {
	r, err := NewReader(bytes.NewReader(b))
	if err != nil {
		return err
	}
	defer r.Close()
	return r.Each(Visit{})
}

func TestBrokenSheets(t *testing.T) {
	good := sample(t)
	text := plain(t, good)
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		assert.True(t, json.Valid([]byte(line)), line)
	}
	for name, c := range map[string]struct {
		b   []byte
		say string
	}{
		"empty":         {nil, "is empty"},
		"not a sheet":   {packed(t, "{}\n"), "is not a change sheet"},
		"rubbish":       {[]byte("rubbish, and enough of it"), "cannot be read"},
		"newer":         {packed(t, strings.Replace(text, `"version":1`, `"version":9`, 1)), "of version 9"},
		"edited":        {packed(t, strings.Replace(text, `"7"`, `"8"`, 1)), "changed by hand"},
		"cut by lines":  {packed(t, text[:strings.LastIndex(strings.TrimSpace(text), "\n")+1]), "is cut off"},
		"cut in a line": {packed(t, text[:len(text)-20]), "is cut off"},
		"broken line":   {packed(t, strings.Replace(text, `{"left"`, `{left`, 1)), "changed by hand"},
		"broken head":   {packed(t, strings.Replace(text, `"format"`, `format`, 1)), "line 1 is broken"},
	} {
		assert.ErrorContains(t, read(c.b), c.say, name)
	}
	for n := range good {
		require.Error(t, read(good[:n]), "cut off at byte %d", n)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(sample(f))
	f.Add(journal(f))
	f.Add(journal1(f))
	f.Fuzz(func(t *testing.T, b []byte) {
		_ = read(b) // must neither panic nor hang
		_, _ = EachBlock(bytes.NewReader(b), func(Block) error { return nil })
		Outline(bytes.NewReader(b), int64(len(b)))
		_, _ = Salvage(bytes.NewReader(b), int64(len(b)), func([]Record) error { return nil })
	})
}

func BenchmarkRead(b *testing.B) {
	var buf bytes.Buffer
	w, err := NewWriter(&buf, Header{})
	require.NoError(b, err)
	for i := range 10_000 {
		require.NoError(b, w.Cell(Cell{Table: "m_postmeta", Key: []Value{Value(fmt.Sprint(i))}, Column: "meta_value", Size: 300, Before: Hash([]byte{byte(i)}), After: Hash([]byte{byte(i), 1}),
			Edits: []Edit{{At: 20, Out: Value("33"), In: Value("34")}, {At: 30, In: Value("s")}}, References: 1, Hosts: []rewrite.HostCount{{Host: "ternrock.example", Count: 1}}}))
	}
	require.NoError(b, w.Close(Summary{}))
	b.SetBytes(10_000)
	for b.Loop() {
		r, err := NewReader(bytes.NewReader(buf.Bytes()))
		require.NoError(b, err)
		n := 0
		require.NoError(b, r.Each(Visit{Cell: func(*Cell) error { n++; return nil }}))
		require.Equal(b, 10_000, n)
		r.Close()
	}
}

func TestCellID(t *testing.T) {
	key := func(parts ...string) (k [][]byte) {
		for _, p := range parts {
			k = append(k, []byte(p))
		}
		return k
	}
	ids := map[string]bool{}
	for _, k := range [][][]byte{key("a\x01", "b"), key("a", "\x01b"), key("a\x01\x01b"), key("1:a", "b"), key("1", ":ab"), key("", ""), key("")} {
		for _, column := range []string{"a", "b"} {
			id := CellID("t", k, column)
			assert.False(t, ids[id], "%q %s", k, column)
			ids[id] = true
		}
	}
	assert.Equal(t, key("a", ""), Bytes(Values(key("a", ""))))
}

// Large records are written piece by piece: the same lines, and read as what they were.
func TestLargeBlock(t *testing.T) {
	text := Value(strings.Repeat("é\"\n ☂", maxPlain/6))
	records := []Record{{Mark: Committed},
		{Entry: &Entry{Table: "t", Key: []Value{Value("1")}, Column: "a", Before: text, Edits: []Edit{{At: 4, In: Value("s")}}}},
		{Entry: &Entry{Table: "t", Key: []Value{Value("2")}, Column: "a", Before: append(bytes.Clone(text), 0xff), Edits: []Edit{}, With: "b"}},
		{Entry: &Entry{Table: "t", Key: []Value{Value("3")}, Column: "a", Before: Value("small"), Edits: []Edit{}}}}
	require.Greater(t, plainSize(records), maxPlain)
	var plain, pieces bytes.Buffer
	for i := range records {
		b, err := appendLine(nil, &records[i])
		require.NoError(t, err)
		plain.Write(b)
	}
	require.NoError(t, writeRecords(&pieces, records))
	assert.True(t, bytes.Equal(plain.Bytes(), pieces.Bytes()))
	header, err := EncodeBlock(Record{Header: NewJournalHeader(JournalHeader{})})
	require.NoError(t, err)
	block, err := EncodeBlock(records...)
	require.NoError(t, err)
	var read []Block
	var chain Chain
	chain.Seal(header)
	chain.Seal(block)
	end, err := EachBlock(bytes.NewReader(append(header, block...)), func(b Block) error { read = append(read, b); return nil })
	require.NoError(t, err)
	assert.Equal(t, int64(len(header)+len(block)), end.Size)
	require.Len(t, read, 2)
	assert.True(t, reflect.DeepEqual(records, read[1].Records))
}
