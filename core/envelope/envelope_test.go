package envelope

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOpenPHP(t *testing.T) {
	for _, in := range []string{
		`N;`, `b:1;`, `i:-42;`, `i:+7;`, `d:0.1;`, `d:-INF;`, `d:NAN;`, `d:1.0E+25;`, `s:0:"";`, `s:2:"";";`, `S:3:"a\62c";`,
		`a:0:{}`, `a:2:{i:0;s:1:"a";s:1:"k";N;}`, `O:8:"stdClass":1:{s:1:"a";R:1;}`, `O:3:"Foo":0:{}`, `C:3:"Foo":5:{a;}b"}`,
		`E:11:"Suit:Hearts";`, `a:1:{i:0;a:1:{i:0;R:2;}}`, "s:3:\"\xff\x00\xfe\";",
	} {
		s, err := OpenPHP([]byte(in))
		if assert.NoError(t, err, in) {
			assert.Equal(t, len(in), s.End, in)
		}
	}
	s, err := OpenPHP([]byte("O:1:\"X\":2:{s:4:\"\x00*\x00p\";s:1:\"a\";s:4:\"\x00X\x00q\";a:1:{s:1:\"k\";s:1:\"b\";}}tail"))
	require.NoError(t, err)
	var paths []string
	for _, text := range s.Texts {
		if !text.Key {
			paths = append(paths, s.Path(text))
		}
	}
	assert.Equal(t, []string{"->p", "->q[k]"}, paths)
}

func TestOpenPHPRefuses(t *testing.T) {
	for in, why := range map[string]string{
		``:                                   "cut off",
		`s:3:"ab";`:                          "length 3 does not fit",
		`s:1:"ab";`:                          "length 1 does not fit",
		`s:9:"ab";`:                          "cut off",
		`s:-1:"";`:                           "no length",
		`s:99999999999999999999:"a";`:        "no length",
		`a:2:{i:0;N;}`:                       "begins no key",
		`a:1:{i:0;N;i:1;N;}`:                 `'}' should stand`,
		`a:1:{N;N;}`:                         "begins no key",
		`a:1:{i:0;x:1;}`:                     "begins no value",
		`i:1x;`:                              "no number",
		`b:2;`:                               "no boolean",
		`a:1:{i:0;a:1:{i:0;r:2;}}`:           "no object",
		`a:2:{i:0;i:1;i:1;R:4;}`:             "no value 4",
		"O:4:\"\\amp\":0:{}":                 "no name of a class",
		"O:1:\"X\":1:{s:3:\"\x00\x00p\";N;}": "no name of a property",
		`d:0x1p-2;`:                          "no number",
		`O:8:"stdClass":1:{i:0;N;`:           "cut off",
		`C:3:"Foo":50:{}`:                    "cut off",
		`S:1:"\6";`:                          "two digits",
		`s:1:"a"`:                            "no ';'",
		`a:1:{s:1:"k";s:2:"abc";}`:           "at [k]",
	} {
		_, err := OpenPHP([]byte(in))
		if strings.HasPrefix(why, "at ") {
			why = "does not fit"
		}
		assert.ErrorContains(t, err, why, in)
	}
	deep := strings.Repeat("a:1:{i:0;", MaxDepth+2) + "N;" + strings.Repeat("}", MaxDepth+2)
	_, err := OpenPHP([]byte(deep))
	assert.ErrorContains(t, err, "nested deeper")
}

func TestLooksSerialized(t *testing.T) {
	for _, yes := range []string{`s:3:"abc";`, `a:1:{`, `O:3:"Foo":0:{}`, `s:9:"broken"`} {
		assert.True(t, LooksSerialized([]byte(yes)), yes)
	}
	for _, no := range []string{``, `a:`, `a:x`, `s:3`, `a: 1`, `i:1;`, `see: 3:"x"`, `a:1:[`, `{"a":1}`} {
		assert.False(t, LooksSerialized([]byte(no)), no)
	}
}

func TestOpenJSON(t *testing.T) {
	var got []string
	in := `{"a":["x",{"b\/c":"y"}],"d":"\u00e9"}`
	require.True(t, OpenJSON([]byte(in), func(s JSONText) {
		if !s.Key {
			got = append(got, s.Path()+"="+in[s.Start:s.End])
		}
	}))
	assert.Equal(t, []string{`.a[0]=x`, `.a[1].b\/c=y`, `.d=\u00e9`}, got)
	for _, yes := range []string{`[]`, `{}`, ` [1,-0.5e+3,true,false,null] `, `"a"`, `[[],{}]`} {
		assert.True(t, OpenJSON([]byte(yes), func(JSONText) {}), yes)
	}
	for _, no := range []string{``, `[1,]`, `{"a"}`, `{"a":1,}`, `[01]`, `["\x"]`, "[\"\n\"]", `["a]`, `[1]x`, `{a:1}`, `["\u12"]`, `[-]`, strings.Repeat("[", 5000)} {
		assert.False(t, OpenJSON([]byte(no), func(JSONText) {}), no)
	}
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte(`a:2:{i:0;s:1:"a";s:1:"k";O:1:"X":1:{S:1:"\61";d:.5;}}`))
	f.Add([]byte(`{"a":["\u00e9\/",{"b":-1.5e3}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, err := OpenPHP(b); err == nil {
			require.LessOrEqual(t, s.End, len(b))
			for _, one := range s.Texts {
				require.True(t, one.LenStart < one.LenEnd && one.LenEnd < one.Start && one.Start <= one.End && int(one.End) <= s.End)
				_ = s.Path(one)
			}
		}
		OpenJSON(b, func(s JSONText) {
			require.LessOrEqual(t, s.Start, s.End)
			_ = s.Path()
		})
	})
}
