package laws

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"fmt"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
)

// made is an object of a class: names of its properties and their values. A name may be private or protected.
type made struct {
	class string
	props pairs
}

// stored is a text that is itself serialized.
type stored struct{ v any }

// harm is one way in which a value breaks: its lengths and counts say what was right before.
type harm struct {
	name  string
	text  func(s string) string // what becomes of a text
	prop  func(s string) string // of the name of a property
	class func(s string) string // of the name of a class
	count int                   // added to a count
	knows bool                  // Mend is told the cause
	lost  bool                  // nobody can tell what was there: it is to be reported
}

func swap(was ...string) func(string) string { return strings.NewReplacer(was...).Replace }

// harms are what people, panels and importers do to serialized values.
var harms = []harm{
	{name: "scheme, known", text: swap("http://", "https://"), knows: true},
	{name: "scheme", text: swap("http://", "https://")},
	{name: "folder", text: swap("/old/", "/")},
	{name: "host", text: swap("ternrock.example", "www.ternrock.example")},
	{name: "line ends to LF", text: swap("\r\n", "\n")},
	{name: "line ends to CRLF", text: swap("\r\n", "\r\n", "\n", "\r\n")},
	{name: "UTF-8 taken for Latin-1", text: func(s string) string {
		var out strings.Builder
		for _, c := range []byte(s) {
			out.WriteRune(rune(c))
		}
		return out.String()
	}},
	{name: "converted to Latin-1", text: swap("é", "\xe9", "ü", "\xfc", "“", "\x93", "”", "\x94", "🐦", "?")},
	{name: "question marks", text: swap("é", "?", "ü", "?", "“", "?", "”", "?", "🐦", "?")},
	{name: "straight quotes", text: swap("“", `"`, "”", `"`)},
	{name: "no emoji", text: swap("🐦", "")},
	{name: "backslashes taken out", text: swap(`\\`, `\`, `\'`, `'`, `\"`, `"`)},
	{name: "backslashes put in", text: swap(`'`, `\'`)},
	{name: "ampersands coded", text: swap("&", "&amp;")},
	{name: "entities decoded", text: swap("&amp;", "&", "&lt;", "<", "&quot;", `"`)},
	{name: "blanks at the end", text: func(s string) string { return strings.TrimRight(s, " \r\n") }},
	{name: "tabs to blanks", text: swap("\t", "    ")},
	{name: "markup taken out", text: swap("<b>", "", "</b>", "")},
	{name: "NULs lost", prop: swap("\x00", "")},
	{name: "NULs written", prop: swap("\x00", `\0`)},
	{name: "NULs replaced", prop: swap("\x00", "\uFFFD")},
	{name: "an item more than counted", count: -1},
	{name: "an item fewer than counted", count: 1},
	{name: "cut off", lost: true},
	{name: "class renamed", class: swap("Lamp", "Lantern", "Tide", "Tides")},
}

// serialized writes a value: the lengths of it, or of what became of it, and its bytes before or after the harm. broken: the
// lengths before and the bytes after.
func (h *harm) serialized(v any, broken bool) string { return h.write(v, broken, new(int)) }

func (h *harm) write(v any, broken bool, counted *int) string {
	apply := func(f func(string) string, s string) string {
		if f == nil {
			return s
		}
		return f(s)
	}
	text := func(was, now string) string {
		if broken {
			return fmt.Sprintf(`%d:"%s"`, len(was), now)
		}
		return fmt.Sprintf(`%d:"%s"`, len(now), now)
	}
	items := func(n int, all []any, object bool) string {
		out := ""
		for i, x := range all {
			if name, ok := x.(string); ok && object && i%2 == 0 {
				if broken {
					out += "s:" + text(name, apply(h.prop, name)) + ";"
				} else {
					out += "s:" + text(name, name) + ";" // the NULs are to come again
				}
				continue
			}
			out += h.write(x, broken, counted)
		}
		if broken && *counted == 0 && n > 1 && h.count != 0 {
			*counted++
			n += h.count
		}
		return fmt.Sprintf("%d:{%s}", n, out)
	}
	switch v := v.(type) {
	case string:
		return "s:" + text(v, apply(h.text, v)) + ";"
	case stored:
		return "s:" + text((&harm{}).serialized(v.v, false), h.write(v.v, broken, counted)) + ";"
	case pairs:
		return "a:" + items(len(v)/2, v, false)
	case list:
		var all []any
		for i, x := range v {
			all = append(all, i, x)
		}
		return "a:" + items(len(v), all, false)
	case made:
		return "O:" + text(v.class, apply(h.class, v.class)) + ":" + items(len(v.props)/2, v.props, true)
	}
	return php(v)
}

// phrase is a text with something for each harm in it.
func (g *gen) phrase() string {
	var parts []string
	for range 1 + g.IntN(4) {
		parts = append(parts, g.pick("http://ternrock.example/old/"+g.word(), "http://ternrock.example/"+g.word()+".png", "café", "“"+g.word()+"”", g.word()+"\r\n"+g.word(), g.word()+"\n", "über 🐦", `it\'s`, "it's the keeper's", "a &amp; b", "R&D", "&lt;b&gt;", "\t"+g.word(), "<b>"+g.word()+"</b>", `<a href="http://ternrock.example/">x</a>`, g.word()+" ", `a "`+g.word()+`";`, "{"+g.word()+"}", "https://other.example/"))
	}
	return strings.Join(parts, g.pick(" ", " ", ", ", ""))
}

func (g *gen) tree(depth int) any {
	switch n := g.IntN(12); {
	case depth == 0 || n < 4 && depth < 3:
		switch g.IntN(6) {
		case 0:
			return g.IntN(2000)
		case 1:
			return g.IntN(2) == 0
		}
		return g.phrase()
	case n < 7:
		p := pairs{"text", g.phrase()}
		for i := range 1 + g.IntN(4) {
			p = append(p, fmt.Sprintf("%s_%d", g.word(), i), g.tree(depth-1))
		}
		return p
	case n < 9:
		l := list{g.phrase()}
		for range 1 + g.IntN(4) {
			l = append(l, g.tree(depth-1))
		}
		return l
	case n < 10 && depth > 1:
		return pairs{"stored", stored{g.tree(depth - 1)}, "text", g.phrase()}
	default:
		class := g.pick("Lamp", "Tide", "Lamp_Settings")
		return made{class, pairs{"title", g.phrase(), "\x00*\x00" + g.word(), g.tree(depth - 1), "\x00" + class + "\x00" + g.word() + "s", g.phrase()}}
	}
}

func gzipped(s string) string {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, 6)
	if err != nil {
		panic(err)
	}
	if _, err := z.Write([]byte(s)); err != nil {
		panic(err)
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return b.String()
}

// mendLayers are where a broken value is kept.
var mendLayers = []struct {
	name  string
	write func(s string) string
	read  func(s string) string // where sealing may be written in another way; nil: byte for byte
}{
	{"plain", func(s string) string { return s }, nil},
	{"in a sound array", func(s string) string { return php(pairs{"id", 7, "v", s, "z", "lamp"}) }, nil},
	{"JSON", func(s string) string { return js(pairs{"id", 7, "v", s}) }, nil},
	{"base64", func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }, nil},
	{"base64 in JSON", func(s string) string {
		return js(pairs{"id", 7, "v", base64.StdEncoding.EncodeToString([]byte(s))})
	}, nil},
	{"gzip in base64", func(s string) string { return base64.StdEncoding.EncodeToString([]byte(gzipped(s))) }, func(s string) string {
		b, err := base64.StdEncoding.DecodeString(s)
		if err != nil {
			return s
		}
		p, err := envelope.OpenPacked(b)
		if err != nil {
			return s
		}
		return string(p.Text)
	}},
	{"slashed", func(s string) string { return swap(`\`, `\\`, `'`, `\'`, `"`, `\"`, "\x00", `\0`)(s) }, nil},
	{"attribute", func(s string) string {
		return `<input value="` + swap("&", "&amp;", `"`, "&quot;", "<", "&lt;", ">", "&gt;", "'", "&#039;")(s) + `">`
	}, nil},
}

// TestMendLaw breaks values in every way, keeps them in every layer, and compares what Mend makes of them with what they
// would be if their lengths and counts had followed.
func TestMendLaw(t *testing.T) {
	r := testRules(t)
	var sums [outcomes]int
	for i := range harms {
		h := &harms[i]
		if !strings.Contains("mend "+h.name, *only) {
			continue
		}
		var count [outcomes]int
		shown := 0
		for k, n := uint64(0), 0; n < *values; k++ {
			g := newGen(*seed<<32 + k<<8 + uint64(i))
			v := g.tree(3)
			broken, want := h.serialized(v, true), h.serialized(v, false)
			if h.lost { // as a column that is too short cuts it
				broken = broken[:min(len(broken)-1, 24+g.IntN(len(broken)))]
			}
			if _, err := envelope.OpenPHP([]byte(broken)); err == nil || broken == want {
				continue // nothing broke
			}
			n++
			var cause envelope.Cause
			layer := mendLayers[int(k)%len(mendLayers)]
			in, want := layer.write(broken), layer.write(want)
			if strings.Contains(layer.name, "JSON") && !utf8.ValidString(broken) || layer.name == "attribute" && (strings.Contains(broken, `\'`) || strings.Contains(broken, `\0`)) { // no JSON; in a script, sound
				layer = mendLayers[0]
				in, want = broken, h.serialized(v, false)
			}
			if h.knows || k&8 != 0 { // which mend takes for granted
				cause = envelope.Cause{Was: "http://", Now: "https://"}
			}
			if h, ok := envelope.NextHead([]byte(in), 0); ok && !strings.Contains(layer.name, "sound") {
				if f, _, err := h.Open([]byte(in)); err == nil && f.End > len(in)/2 {
					continue // sound as something else: with entities, or with more backslashes
				}
			}
			edits, found, err := r.Mend([]byte(in), cause)
			b, aerr := rewrite.Apply([]byte(in), edits)
			require.NoError(t, aerr)
			o := corrupt
			switch out := string(b); {
			case h.lost && out == in && found && err != nil:
				o = right
			case h.lost && out == in: // nothing is proposed for what cannot be known
				o = missed
			case out == want || layer.read != nil && layer.read(out) == layer.read(want):
				o = right
			case out == in && found && err != nil:
				o = cautious
			case out == in:
				o = missed
			}
			count[o]++
			sums[o]++
			if o != right && shown < *show {
				shown++
				fmt.Fprintf(os.Stderr, "--- %s (%s): %s %v\n   in %q\n  out %q\n want %q\n", h.name, layer.name, outcomeNames[o], err, in, string(b), want)
			}
		}
		t.Logf("%-30s %s", h.name, summary(count))
		if count[corrupt]+count[missed] > 0 {
			t.Errorf("%s: %s", h.name, summary(count))
		}
	}
	n := 0
	for _, c := range sums {
		n += c
	}
	t.Logf("%d harms, %d values: %s", len(harms), n, summary(sums))
}
