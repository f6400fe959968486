package markup

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
)

// scriptWords are the parts of a script, in one line.
func scriptWords(in string, module bool) string {
	var out []string
	WalkScript([]byte(in), module, func(part ScriptPart, start, end int) {
		name := [...]string{"comment", "string", "regexp", "import", "import()"}[part]
		out = append(out, name+":"+in[start:end])
	})
	return strings.Join(out, " | ")
}

func TestWalkScript(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{`a = "b" + 'c\'d' // e "f"`, `string:b | string:c\'d | comment:// e "f"`},
		{"/* \"a\n */ 'b'", "comment:/* \"a\n */ | string:b"},
		{"`a ${ `b ${'c'} d` + {x: '}'} } e`", "string:a  | string:b  | string:c | string: d | string:} | string: e"},
		{"`a\\`b\\${c}`'d'", "string:a\\`b\\${c} | string:d"},
		{`a / "b" / c`, `string:b`},
		{`x = /[/"]\/"/g, "b"`, `regexp:/[/"]\/"/ | string:b`},
		{`if (a) /"/.test("b")`, `regexp:/"/ | string:b`},
		{`f(a) / "b" / 2`, `string:b`},
		{`a[0] / "b" / 2`, `string:b`},
		{`{} /"/.test("b")`, `regexp:/"/ | string:b`},
		{`x = {} / "b" / 2`, `string:b`},
		{`() => {} /"/`, `regexp:/"/`},
		{`return /"/`, `regexp:/"/`},
		{`a.return / "b" / 2`, `string:b`},
		{`i++ / "b" / 2`, `string:b`},
		{`[...a, ..."b"]`, `string:b`},
		{"a = 1 / 2\n'b'", `string:b`},
		{`a = /b` + "\n'c'", `string:c`},
		{"'a\\\r\nb' 'c", "string:a\\\r\nb | string:c"},
		{"'not closed\n'b'", "string:not closed | string:b"},
		{`import "a"; import b from 'c'; import * as d from "e"`, `import:a | import:c | import:e`},
		{`import b, { "c d" as e } from 'f'; export { g } from "h"; export * from 'i'`, `string:c d | import:f | import:h | import:i`},
		{`import a from "b" with { type: "json" }`, `import:b | string:json`},
		{`import("a"); import.meta; "b"; x.import("c")`, `import():a | string:b | string:c`},
		{`export default "a"; export const from = "b"; import c; "d"`, `string:a | string:b | string:d`},
		{`var from = 1; from "a"`, `string:a`},
		{"#!/usr/bin/x 'a'\n'b'", "comment:#!/usr/bin/x 'a' | string:b"},
		{"\"\x95\x5c\" 'b'", "string:\x95\x5c | string:b"},
		{`}) ] "a" (`, `string:a`},
		{"`${`", "string: | string:"},
		{"\\", ""},
		{"'\\", "string:\\"},
	} {
		assert.Equal(t, c.want, scriptWords(c.in, true), "%q", c.in)
	}
	assert.Equal(t, "comment:<!-- 'a' | string:b | comment:--> 'c'", scriptWords("<!-- 'a'\n'b'\n --> 'c'", false))
	assert.Equal(t, "string:a | string:b", scriptWords("x <!-- 'a'\n--> 'b'", true), "a module has no such comments")
	assert.Equal(t, "string:a", scriptWords(`import "a"`, false), "a classic script imports nothing")
}

func TestWalkCSS(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{`@import "a"; @import url(b); @import url( "c" ) print;`, "@import a, @import b, @import c"},
		{`@import "a" layer(x) supports(display: grid);`, "@import a?"},
		{`@layer x; @import "a"; p {} @import "b";`, "@import a"},
		{`@layer x {} @import "a";`, ""},
		{`@\69mport "a"; @import "b"`, "@import a, @import b"},
		{`@namespace url(a); @charset "b"; p { content: "c" } /* url(d) */`, ""},
		{`p { background: url(a), url( 'b' ), \75rl( c ), \75rl("d") }`, "CSS url() a?, CSS url() b?, CSS url() c?, CSS url() d?"},
		{`p { background: image-set("a" type("image/x") 1x, url(b) 2x, "c" format("d")) }`, "CSS url() a?, CSS url() b?, CSS url() c?"},
		{`@media x { @font-face { src: url(a) format("b"), local("c") } p { background: url(d) } }`, "@font-face url() a?, CSS url() d?"},
		{"p { content: \"x\n} q { background: url(a) }", "CSS url() a?"},
		{`background:url(a\)b)`, `CSS url() a\)b?`},
		{"p::after{content:\"\x95\x5c\"}q{background:url(a)}", "CSS url() a?"},
		{`p { background: url(a`, "CSS url() a?"},
		{`} ) @import "a`, ""},
	} {
		var out []string
		WalkCSS([]byte(c.in), func(u StyleURL) {
			s := u.By + " " + c.in[u.Start:u.End]
			if u.Conditional {
				s += "?"
			}
			out = append(out, s)
		})
		assert.Equal(t, c.want, strings.Join(out, ", "), "%q", c.in)
	}
}

// xmlWords is what WalkXML reports, in one line.
func xmlWords(in string) string {
	var out []string
	WalkXML([]byte(in), Markup{
		Tag: func(element string, attrs []Attr) {
			s := "<" + element
			for _, a := range attrs {
				if a.Context.Use != Text && a.Context.Use != Ident {
					s += fmt.Sprintf(" %s=%s", a.Name, in[a.Start:a.End])
				}
			}
			out = append(out, s)
		},
		End: func(element string) { out = append(out, "/"+element) },
		Raw: func(element, typ string, start, end int) {
			plain, at := XMLText([]byte(in[start:end]))
			out = append(out, fmt.Sprintf("%s %s %d", element, plain, at))
		},
		Other: func(tok html.TokenType, start, end int) {
			if s := strings.TrimSpace(in[start:end]); s != "" {
				out = append(out, fmt.Sprintf("%s %s", tok, s))
			}
		},
	})
	return strings.Join(out, "; ")
}

func TestWalkXML(t *testing.T) {
	page := func(s string) string { return `<html xmlns="` + NamespaceHTML + `">` + s + `</html>` }
	for _, c := range []struct{ in, want string }{
		{page(`<img src="a"/>`), "<html; <img src=a; /img; /html"},
		{page(`<IMG src="a"/><img SRC="b"/>`), "<html; <IMG; /IMG; <img; /img; /html"},
		{page(`<script src="a"/>b`), "<html; <script src=a; /script; Text b; /html"},
		{page(`<script>1 &lt; <![CDATA[2</script>]]></script>`), "<html; <script; script 1 < 2</script> -1; /script; /html"},
		{page(`<style><![CDATA[a > b]]></style>`), "<html; <style; style a > b 9; /style; /html"},
		{page(`<![CDATA[<img src="a"/>]]>`), `<html; Text <img src="a"/>; /html`},
		{page(`<x xmlns=""><img src="a"/></x><img src="b"/>`), "<html; <; <; /; /; <img src=b; /img; /html"},
		{page(`<svg xmlns="` + NamespaceSVG + `"><img src="a"/><image href="b" src="c"/></svg>`), "<html; <svg; <; /; <image href=b; /image; /svg; /html"},
		{`<h:img xmlns:h="` + NamespaceHTML + `" src="a"/><img src="b"/>`, "<img src=a; /img; <; /"},
		{`<!DOCTYPE x [ <!ENTITY a "]>"> <!-- ]> --> ]><x/>`, `Doctype <!DOCTYPE x [ <!ENTITY a "]>"> <!-- ]> --> ]>; <; /`},
		{`<?a > ?><!-- > -->b < c`, "Comment <?a > ?>; Comment <!-- > -->; Text b < c"},
		{`<x`, "Text <x"},
		{`</x>`, "/"},
		{`<![CDATA[a`, "Text a"},
	} {
		assert.Equal(t, c.want, xmlWords(c.in), c.in)
	}
}

// Everything the walks report lies within the text, in order, without overlaps.
func FuzzWalks(f *testing.F) {
	f.Add([]byte("import a from 'b' /* c */ `d ${ /e/ } f` @import \"g\"; p { x: url(h) image-set(\"i\" type(\"j\")) }"))
	f.Add([]byte("<html xmlns='http://www.w3.org/1999/xhtml'><style><![CDATA[a]]></style><script>b &lt;</script><?c?><!DOCTYPE d [\"]>\"]></html>"))
	f.Add([]byte("/\xff0\\"))
	f.Add([]byte("\x95\\\"'`${{}}//\\\n<!--\n-->"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, module := range []bool{false, true} {
			last := 0
			WalkScript(b, module, func(_ ScriptPart, start, end int) {
				require.LessOrEqual(t, last, start)
				require.LessOrEqual(t, start, end)
				require.LessOrEqual(t, end, len(b))
				last = end
			})
		}
		WalkCSS(b, func(u StyleURL) {
			require.LessOrEqual(t, u.Start, u.End)
			require.LessOrEqual(t, u.End, len(b))
		})
		last := 0
		WalkXML(b, Markup{Other: func(_ html.TokenType, start, end int) {
			require.LessOrEqual(t, last, start)
			require.LessOrEqual(t, end, len(b))
			last = end
		}, Raw: func(_, _ string, start, end int) { XMLText(b[start:end]) }})
		for _, name := range []string{"", "a.js", "b.css"} {
			u := UsesOf(b, name)
			for p := range b {
				_ = u.At(p)
			}
			for i := 1; i < len(u.spans); i++ {
				require.LessOrEqual(t, u.spans[i-1].end, u.spans[i].start)
			}
		}
	})
}
