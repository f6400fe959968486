// Package laws verifies the laws of rewriting over generated values: each value is built twice, once
// with http and once with https, so that what is right is known by construction and not from a list.
//
// A class is what a value holds (classes_*_test.go). A surrounding is where the class occurs and a
// layer is how that text is written. All three are combined.
package laws

import (
	"encoding/base64"
	"encoding/json"
	"flag"
	"fmt"
	"hash/fnv"
	"html"
	"math/rand/v2"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
	"trimlantern/core/rewrite"
)

var (
	values = flag.Int("law-values", 40, "how many values of each class are built")
	seed   = flag.Uint64("law-seed", 1, "the seed of all values")
	only   = flag.String("law-class", "", "only classes whose names contain this")
	show   = flag.Int("law-show", 0, "show this many wrong values of each class")
)

// want is what must become of a class.
type want uint8

const (
	secure want = 1 << iota // exactly the value that was built with https
	left                    // as it was, with a reason for a person
	same                    // as it was; nothing needs a person
	either = secure | left
)

// class is one kind of value.
type class struct {
	name  string
	want  want
	whole bool // it is a value as a whole: it has no text around it
	raw   bool // it holds bytes that are not text: no layer can hold it
	build func(g *gen, s string) string
	// read returns what a value says to whoever reads it, if that may be written in several ways: a mail may break its
	// lines elsewhere. Nil: only equal bytes are equal.
	read func(s string) string
}

// readAs sets how values of the last class are read.
func readAs(read func(s string) string) { classes[len(classes)-1].read = read }

// classes are filled by the files of this package.
var classes []class

func add(name string, w want, build func(g *gen, s string) string) {
	classes = append(classes, class{name: name, want: w, build: build})
}

func addWhole(name string, w want, build func(g *gen, s string) string) {
	classes = append(classes, class{name: name, want: w, whole: true, build: build})
}

func addRaw(name string, w want, build func(g *gen, s string) string) {
	classes = append(classes, class{name: name, want: w, whole: true, raw: true, build: build})
}

// gen makes the random parts of a value. Two of the same seed make the same parts.
type gen struct{ *rand.Rand }

func newGen(seed uint64) *gen { return &gen{rand.New(rand.NewPCG(seed, 7))} }

func (g *gen) pick(of ...string) string { return of[g.IntN(len(of))] }

var wordList = strings.Fields("lamp keeper tide gull beacon fog ledger museum visit shop ticket donate winter stair lens brass rope chart log wreck anchor signal oil wick season tour volunteer gallery island ferry")

func (g *gen) word() string { return wordList[g.IntN(len(wordList))] }

func (g *gen) words(n int) string {
	var all []string
	for range n {
		all = append(all, g.word())
	}
	return strings.Join(all, " ")
}

func (g *gen) host() string {
	return g.pick("ternrock.example", "ternrock.example", "www.ternrock.example")
}

func (g *gen) path() string {
	p := ""
	for range 1 + g.IntN(3) {
		p += "/" + g.word()
		if g.IntN(3) == 0 {
			p += "-" + g.word()
		}
	}
	return p + g.pick("", "/", ".html", ".php")
}

func (g *gen) image() string {
	return fmt.Sprintf("/media/%d/%s.%s", 2008+g.IntN(18), g.word(), g.pick("png", "jpg", "webp", "svg"))
}

// own is an address of the site.
func (g *gen) own(s string) string { return s + "://" + g.host() + g.path() }

// ownImage is the address of one of the site's pictures.
func (g *gen) ownImage(s string) string { return s + "://" + g.host() + g.image() }

// cdn is a picture on another host, which serves HTTPS.
func (g *gen) cdn(s string) string { return s + "://fonts.example" + g.image() }

func (g *gen) hex(n int) string {
	var b strings.Builder
	for range n {
		b.WriteByte("0123456789abcdef"[g.IntN(16)])
	}
	return b.String()
}

// php serializes strings, numbers, and maps and lists of them in order.
func php(v any) string {
	switch v := v.(type) {
	case string:
		return fmt.Sprintf(`s:%d:"%s";`, len(v), v)
	case int:
		return fmt.Sprintf("i:%d;", v)
	case bool:
		if v {
			return "b:1;"
		}
		return "b:0;"
	case pairs:
		out := fmt.Sprintf("a:%d:{", len(v)/2)
		for _, x := range v {
			out += php(x)
		}
		return out + "}"
	case list:
		out := fmt.Sprintf("a:%d:{", len(v))
		for i, x := range v {
			out += php(i) + php(x)
		}
		return out + "}"
	}
	panic(fmt.Sprintf("php: %T", v))
}

// js writes the same as JSON.
func js(v any) string {
	switch v := v.(type) {
	case string, int, bool:
		b, err := json.Marshal(v)
		if err != nil {
			panic(err)
		}
		return string(b)
	case pairs:
		var parts []string
		for i := 0; i < len(v); i += 2 {
			parts = append(parts, js(v[i])+":"+js(v[i+1]))
		}
		return "{" + strings.Join(parts, ",") + "}"
	case list:
		var parts []string
		for _, x := range v {
			parts = append(parts, js(x))
		}
		return "[" + strings.Join(parts, ",") + "]"
	}
	panic(fmt.Sprintf("js: %T", v))
}

type (
	pairs []any // key, value, key, value
	list  []any
)

// object writes pairs as one of the formats in which systems keep settings.
func (g *gen) object(p pairs) string {
	if g.IntN(2) == 0 {
		return php(p)
	}
	return js(p)
}

// surroundings are the texts around a class. s is the scheme of a reference of their own.
var surroundings = []struct {
	name  string
	build func(g *gen, s, unit string) string
}{
	{"alone", func(_ *gen, _, unit string) string { return unit }},
	{"lines", func(g *gen, s, unit string) string {
		return "See " + g.own(s) + " for more.\n\n" + unit + "\n\nThe " + g.words(3) + " " + g.own(s) + "\n"
	}},
	{"markup", func(g *gen, s, unit string) string {
		return `<p><a href="` + g.own(s) + `">` + g.word() + "</a></p>\n" + unit + "\n<p>" + g.words(4) + `</p><img src="` + g.ownImage(s) + `">`
	}},
}

// layers are how a text is written inside other text.
var layers = []struct {
	name  string
	write func(g *gen, text string) string
}{
	{"plain", func(_ *gen, text string) string { return text }},
	{"plain again", func(_ *gen, text string) string { return text }},
	{"serialized", func(g *gen, text string) string { return php(pairs{g.word(), g.IntN(90), "text", text}) }},
	{"JSON", func(g *gen, text string) string { return js(pairs{"id", g.IntN(9000), "text", text}) }},
	{"JSON of PHP", func(g *gen, text string) string {
		return strings.ReplaceAll(js(list{g.word(), text}), "/", `\/`)
	}},
	{"base64", func(_ *gen, text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) }},
	{"attribute", func(_ *gen, text string) string { return `<div data-text="` + html.EscapeString(text) + `"></div>` }},
	{"form", func(_ *gen, text string) string { return "a=1&text=" + url.QueryEscape(text) + "&b=2" }},
	{"serialized twice", func(g *gen, text string) string {
		return php(list{php(pairs{"text", text}), g.word()})
	}},
}

// value is one value, built in each way that the judge needs.
type value struct {
	in       string // all references insecure
	secure   string // all secure
	leftUnit string // the surrounding's own secure, the class's own insecure
	how      string
}

func (c *class) value(n uint64) value {
	h := fnv.New64a()
	h.Write([]byte(c.name))
	id := h.Sum64()&0xffffff<<20 + n + *seed<<44
	g := newGen(id)
	where, how := g.IntN(len(surroundings)), g.IntN(len(layers))
	if c.whole {
		where = 0
	}
	if c.raw || c.read != nil {
		how = 0
	}
	inner := g.Uint64()
	outer := g.Uint64()
	build := func(around, unit string) string {
		g := newGen(outer)
		return layers[how].write(g, surroundings[where].build(g, around, c.build(newGen(inner), unit)))
	}
	return value{build("http", "http"), build("https", "https"), build("https", "http"), surroundings[where].name + ", " + layers[how].name}
}

// outcome is how a value came out.
type outcome uint8

const (
	right    outcome = iota
	corrupt          // neither as it was nor as it was built with https
	missed           // as it was, without a reason
	changed          // changed although it must not be
	cautious         // left, with a reason, although it could be secure
	outcomes
)

var outcomeNames = [outcomes]string{"right", "corrupt", "missed", "changed", "cautious"}

// judge compares the result with the value's own construction.
func (c *class) judge(v value, out string, res rewrite.Result) outcome {
	told := slices.ContainsFunc(res.Left, func(f rewrite.Finding) bool { return f.Reason.NeedsPerson() })
	untouched := out == v.leftUnit || out == v.in && (told || c.want&same != 0 && v.in == v.leftUnit)
	switch {
	case c.want&secure != 0 && (out == v.secure || c.read != nil && c.read(out) == c.read(v.secure)):
		return right
	case untouched && c.want&same != 0:
		return right
	case untouched && c.want&left != 0 && told:
		return right
	case untouched && c.want&secure != 0 && told:
		return cautious
	case untouched:
		return missed
	case out == v.secure:
		return changed
	}
	return corrupt
}

func testRules(t testing.TB) *rewrite.Rules {
	site, err := address.Parse("https://ternrock.example", "www.ternrock.example")
	require.NoError(t, err)
	return &rewrite.Rules{Site: site, Verdict: func(host, _ string) rewrite.Verdict {
		if host == "fonts.example" {
			return rewrite.Secure
		}
		return rewrite.Unknown
	}}
}

func TestLaws(t *testing.T) {
	r := testRules(t)
	var sums [outcomes]int
	n := 0
	for i := range classes {
		c := &classes[i]
		if !strings.Contains(c.name, *only) {
			continue
		}
		var count [outcomes]int
		shown := 0
		for k := range *values {
			v := c.value(uint64(k))
			res := r.Value([]byte(v.in))
			b, err := rewrite.Apply([]byte(v.in), res.Edits)
			require.NoError(t, err, c.name)
			out := string(b)
			back, err := rewrite.Apply(b, rewrite.Invert(res.Edits))
			require.NoError(t, err, c.name)
			require.Equal(t, v.in, string(back), c.name)
			o := c.judge(v, out, res)
			count[o]++
			sums[o]++
			n++
			if o != right && shown < *show {
				shown++
				fmt.Fprintf(os.Stderr, "--- %s (%s): %s\n   in %q\n  out %q\n want %q\n left %+v\n", c.name, v.how, outcomeNames[o], v.in, out, v.secure, res.Left)
			}
		}
		if count[right] != *values {
			t.Logf("%-40s %v", c.name, summary(count))
			if count[corrupt]+count[missed]+count[changed] > 0 {
				t.Errorf("%s: %s", c.name, summary(count))
			}
		}
	}
	t.Logf("%d classes, %d values: %s", len(classes), n, summary(sums))
}

func summary(count [outcomes]int) string {
	var parts []string
	for o, n := range count {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, outcomeNames[o]))
		}
	}
	return strings.Join(parts, ", ")
}
