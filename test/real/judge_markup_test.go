//go:build real

package real

// written are pages whose markup must be read by its own rules to tell what they load: all
// that we call blocked or upgraded, Chromium must report, and nothing else.
var written = []judgeCase{
	// Scripts.
	{name: "import in a comment", body: `<script type=module>/* import "¤/a.js" */ // import "¤/b.js"
</script>`},
	{name: "import in a string", body: `<script type=module>var s = 'import "¤/a.js"', t = "from '¤/b.js'"</script>`},
	{name: "import in a template", body: "<script type=module>var s = `import \"¤/a.js\" ${1 + `${2}`} import '¤/b.js'`</script>"},
	{name: "import behind a regular expression", body: `<script type=module>var r = /"/; import "¤/a.js"; var q = 4 / 2; import '¤/b.js'</script>`},
	{name: "import behind a division", body: `<script type=module>var a = 1, b = (a) / 2 / a; import "¤/a.js"; if (a) /"/.test("x"); import "¤/b.js"</script>`},
	{name: "import behind a template", body: "<script type=module>var a = `it's ${`in ${'ner'}`} \\` ok`; import '¤/a.js'</script>"},
	{name: "import of names", body: `<script type=module>import d, { a as b, "c d" as e } from "¤/a.js"; import * as all from '¤/b.js'</script>`},
	{name: "import with attributes", body: `<script type=module>import d from "¤/a.json" with { type: "json" }</script>`},
	{name: "import with escapes", body: `<script type=module>import "\x68ttp:\/\/assets.example\u002fimpesc/a.js"</script>`},
	{name: "import without spaces", body: `<script type=module>import{a}from"¤/a.js";import*as b from"¤/b.js"</script>`},
	{name: "import over lines", body: "<script type=module>import /* x */ {\n a,\n // c\n} /* y */\nfrom\n'¤/a.js'</script>"},
	{name: "export from", body: `<script type=module>export { a } from "¤/a.js"; export * from '¤/b.js'; export * as n from "¤/c.js"</script>`},
	{name: "export of a string", body: `<script type=module>export default "¤/a.js"; export const from = "¤/b.js"</script>`},
	{name: "import as a property", body: `<script type=module>var o = { import: "¤/a.js", from: "¤/b.js" }; o.import</script>`},
	{name: "import.meta", body: `<script type=module>var u = import.meta.url, v = "¤/a.js"</script>`},
	{name: "import in a classic script", body: `<script>import "¤/a.js"</script>`},
	{name: "import in a script of JSON", body: `<script type="application/json">import "¤/a.js"</script>`},
	{name: "comment of HTML in a script", body: "<script><!-- import '¤/a.js'\nvar x = '¤/b.js'\n--></script>"},
	// Import maps.
	{name: "map of a folder", body: `<script type=importmap>{"imports":{"lens/":"¤/"}}</script><script type=module>import "lens/a.js"</script>`},
	{name: "map of the longest", body: `<script type=importmap>{"imports":{"lens/":"~x/","lens/big/":"¤/"}}</script><script type=module>import "lens/big/a.js"</script>`},
	{name: "map of a scope", body: `<script type=importmap>{"imports":{"lens":"~a.js"},"scopes":{"https://ternrock.example/":{"lens":"¤/a.js"}}}</script><script type=module>import "lens"</script>`},
	{name: "map of another scope", body: `<script type=importmap>{"imports":{"lens":"~a.js"},"scopes":{"/other/":{"lens":"¤/a.js"}}}</script><script type=module>import "lens"</script>`},
	{name: "map of a URL", body: `<script type=importmap>{"imports":{"./a.js":"¤/a.js"}}</script><script type=module>import "./a.js"</script>`},
	{name: "map that makes secure", body: `<script type=importmap>{"imports":{"¤/a.js":"~a.js"}}</script><script type=module>import "¤/a.js"</script>`},
	{name: "map that is broken", body: `<script type=importmap>{"imports":{"lens":"¤/a.js",}}</script><script type=module>import "lens"</script>`},
	{name: "map of a bare name", body: `<script type=importmap>{"imports":{"lens":"lamp","lamp":"¤/a.js"}}</script><script type=module>import "lens"</script>`},
	{name: "bare name without a map", body: `<script type=module>import "assets.example/a.js"</script>`},
	{name: "link modulepreload", body: `<link rel=modulepreload href="¤/a.js">`},
	// Style sheets.
	{name: "image-set with types", body: `<style>body{background:image-set("~a.none" type("image/none"), "¤/a.png" type("image/png") 1x)}</style>`},
	{name: "image-set of urls", body: `<style>body{background:image-set(url(¤/a.png) 1x, url("~b.png") 9x)}</style>`},
	{name: "image-set in a gradient", body: `<style>body{background:linear-gradient(red,blue), -webkit-image-set("¤/a.png" 1x)}</style>`},
	{name: "import by escapes", body: `<style>@\69mport "¤/a.css"; @i\6d port url(¤/b.css);</style>`},
	{name: "url by escapes", body: `<style>body{background:\75rl(¤/a.png)}</style>`},
	{name: "import of a layer", body: `<style>@layer one, two; @import "¤/a.css" layer; @import url(¤/b.css) layer(one) print;</style>`},
	{name: "import behind a block of a layer", body: `<style>@layer one {} @import "¤/a.css";</style>`},
	{name: "import with supports", body: `<style>@import url(¤/a.css) supports(display: grid) screen and (min-width: 1px);</style>`},
	{name: "import in a block", body: `<style>@media screen { @import "¤/a.css"; }</style>`},
	{name: "import behind a comment", body: `<style>/* " */@import/**/"¤/a.css"/**/;/* ' */</style>`},
	{name: "import with a block", body: `<style>@import "¤/a.css" { p { color: red } }</style>`},
	{name: "string that looks like a URL", body: `<style>p::after{content:"url(¤/a.png)"}</style><p>x`},
	{name: "string in a url", body: `<style>body{background:url( '¤/a.png' )}</style>`},
	{name: "bad string before a url", body: "<style>p{content:\"x\n} body{background:url(¤/a.png)}</style>"},
	{name: "style in HTML's comment marks", body: `<style><!-- body{background:url(¤/a.png)} --></style>`},
	{name: "sheet with a charset", body: `<link rel=stylesheet href="~s.css">`, files: map[string]string{"s.css": "@charset \"shift_jis\";\np::after{content:\"\x95\x5c\"}body{background:url(¤/a.png)}"}},
	// References of characters.
	{name: "query that looks like one", body: `<img src="¤/a.png?x=1&copy=2&region=3&sect=4&ampx=5">`},
	{name: "query with one", body: `<img src="¤/a.png?x=1&amp;copy=2&#38;y=3">`},
	// Charsets.
	{name: "Shift_JIS script", typ: "text/html; charset=shift_jis", whole: true, body: "<!DOCTYPE html><title>1</title><script type=module>var a = \"\x95\x5c\"; import \"¤/a.js\"; var b = '\x83\x5c'</script>"},
	{name: "Shift_JIS by meta", typ: "text/html", whole: true, body: "<!DOCTYPE html><meta charset=shift_jis><title>\x95\x5c</title><style>p::after{content:'\x95\x5c'} body{background:url(¤/a.png)}</style><p>x"},
	{name: "GBK style", typ: "text/html; charset=gbk", whole: true, body: "<!DOCTYPE html><title>1</title><style>p::after{content:\"\x81\x5c\"} body{background:url('¤/a.png')}</style><p>x"},
	{name: "Big5 script", typ: "text/html; charset=big5", whole: true, body: "<!DOCTYPE html><title>1</title><script type=module>var a = '\xa5\x5c'; import '¤/a.js'</script>"},
	{name: "ISO-2022-JP", typ: "text/html; charset=iso-2022-jp", whole: true, body: "<!DOCTYPE html><title>1</title><p>\x1b$B<\"\x1b(B<img src=\"¤/a.png\">"},
	{name: "windows-1252", typ: "text/html; charset=windows-1252", whole: true, body: "<!DOCTYPE html><title>\xe9</title><img src=\"¤/caf\xe9.png\">"},
	{name: "no charset", typ: "text/html", whole: true, body: "<!DOCTYPE html><title>\xe9</title><img alt=\"\xe9\" src=\"¤/a.png\">"},
	{name: "UTF-16", typ: "text/html", whole: true, body: utf16("<!DOCTYPE html><title>1</title><img src=\"http://assets.example/utf16/a.png\">")},
	// XHTML and SVG.
	{name: "XHTML img", typ: "application/xhtml+xml", whole: true, body: xhtml(`<img src="¤/a.png"/>`)},
	{name: "XHTML upper case", typ: "application/xhtml+xml", whole: true, body: xhtml(`<IMG src="¤/a.png"/><img SRC="¤/b.png"/>`)},
	{name: "XHTML empty script", typ: "application/xhtml+xml", whole: true, body: xhtml(`<script src="~a.js"/><img src="¤/a.png"/>`)},
	{name: "XHTML empty title", typ: "application/xhtml+xml", whole: true, body: `<html xmlns="http://www.w3.org/1999/xhtml"><head><title/><style/></head><body><textarea/><img src="¤/a.png"/></body></html>`},
	{name: "XHTML CDATA", typ: "application/xhtml+xml", whole: true, body: xhtml(`<p><![CDATA[<img src="¤/a.png"/> > ]]></p><img src="¤/b.png"/>`)},
	{name: "XHTML style in CDATA", typ: "application/xhtml+xml", whole: true, body: xhtml(`<style><![CDATA[ body > p, body { background: url("¤/a.png") } ]]></style>`)},
	{name: "XHTML style with references", typ: "application/xhtml+xml", whole: true, body: xhtml(`<style>body { background: url(&quot;¤/a.png&quot;) }</style>`)},
	{name: "XHTML style in a comment", typ: "application/xhtml+xml", whole: true, body: xhtml(`<style><!-- body { background: url(¤/a.png) } --></style>`)},
	{name: "XHTML module in CDATA", typ: "application/xhtml+xml", whole: true, body: xhtml(`<script type="module">//<![CDATA[
if (1 < 2 && "</p>") ; import "¤/a.js"
//]]></script>`)},
	{name: "XHTML noscript", typ: "application/xhtml+xml", whole: true, body: xhtml(`<noscript><img src="¤/a.png"/></noscript>`)},
	{name: "XHTML prefix", typ: "application/xhtml+xml", whole: true, body: `<h:html xmlns:h="http://www.w3.org/1999/xhtml" xmlns:s="http://www.w3.org/2000/svg"><h:head><h:title>1</h:title></h:head><h:body><h:img src="¤/a.png"/><s:svg><s:image href="¤/b.png" width="9" height="9"/></s:svg><img src="¤/c.png"/></h:body></h:html>`},
	{name: "XHTML other namespace", typ: "application/xhtml+xml", whole: true, body: xhtml(`<x xmlns="urn:x"><img src="¤/a.png"/></x><svg xmlns="http://www.w3.org/2000/svg"><img src="¤/b.png"/><image src="¤/c.png"/></svg>`)},
	{name: "XHTML doctype", typ: "application/xhtml+xml", whole: true, body: `<!DOCTYPE html [ <!ENTITY x "<img src='¤/x.png'/>"> <!-- ]> --> ]>` + xhtml(`<img src="¤/a.png"/>`)},
	{name: "XHTML as text/xml", typ: "text/xml", whole: true, body: xhtml(`<img src="¤/a.png"/>`)},
	{name: "XML without a namespace", typ: "text/xml", whole: true, body: `<html><body><img src="¤/a.png"/></body></html>`},
	{name: "SVG", typ: "image/svg+xml", whole: true, body: `<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><style><![CDATA[ @import "¤/a.css"; ]]></style><image href="¤/b.png" width="9" height="9"/></svg>`},
	{name: "SVG without a namespace", typ: "image/svg+xml", whole: true, body: `<svg width="9" height="9"><image href="¤/b.png" width="9" height="9"/></svg>`},
	{name: "XSLT", typ: "text/xml", whole: true, body: `<?xml version="1.0"?><?xml-stylesheet type="text/xsl" href="¤/a.xsl"?><x/>`},
	{name: "style sheet of XML", typ: "application/xhtml+xml", whole: true, body: `<?xml-stylesheet type="text/css" href="¤/a.css"?>` + xhtml(``)},
}

func xhtml(body string) string {
	return `<html xmlns="http://www.w3.org/1999/xhtml"><head><title>1</title></head><body>` + body + `</body></html>`
}

// utf16 writes ASCII in UTF-16, the low byte first, behind its mark.
func utf16(s string) string {
	out := []byte("\xff\xfe")
	for i := range len(s) {
		out = append(out, s[i], 0)
	}
	return string(out)
}
