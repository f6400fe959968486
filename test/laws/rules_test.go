package laws

import (
	"fmt"
	"strconv"
	"strings"
)

func init() {
	rule := func(name string, build func(g *gen, s string) string) { add("rule: "+name, left, build) }
	twin := func(g *gen, s string) (string, string) {
		p := g.pick("", g.path())
		return s + "://ternrock.example" + p, "https://ternrock.example" + p
	}
	// A pair whose other side is the secure twin.
	rule("arrow", func(g *gen, s string) string {
		a, b := twin(g, s)
		return a + g.pick(" => ", " -> ", "\t", " , ", ",", ";", "|", " ") + b
	})
	rule("columns", func(g *gen, s string) string {
		a, b := twin(g, s)
		return fmt.Sprintf("%s,%s,301", a, b)
	})
	rule("server directive", func(g *gen, s string) string {
		a, b := twin(g, s)
		return g.pick("Redirect 301 ", "redirectpermanent ", "rewrite ", "RedirectMatch ^") + a + " " + b
	})
	rule("stream editor", func(g *gen, s string) string {
		a, b := twin(g, s)
		return "s#" + a + "#" + b + "#g"
	})
	rule("call with two strings", func(g *gen, s string) string {
		a, b := twin(g, s)
		q := g.pick(`'`, `"`)
		return g.pick("str_replace(", "content.replace(", "REPLACE(body, ", "strtr($x, ") + q + a + q + g.pick(", ", ",") + q + b + q + g.pick(")", ", $html)")
	})
	rule("array literal", func(g *gen, s string) string {
		a, b := twin(g, s)
		return "$map = array( '" + a + "' => '" + b + "' );"
	})
	rule("statement", func(g *gen, s string) string {
		a, b := twin(g, s)
		return "UPDATE posts SET body = REPLACE(body, '" + a + "', '" + b + "');"
	})
	addWhole("rule: source and target", left, func(g *gen, s string) string {
		a, b := twin(g, s)
		k := [][2]string{{"source", "target"}, {"from", "to"}, {"search", "replace"}, {"old", "new"}, {"url", "action_data"}, {"match", "redirect"}, {"src", "dest"}, {"key", "value"}}[g.IntN(8)]
		return g.object(pairs{k[0], a, k[1], b, "code", 301})
	})
	addWhole("rule: map", left, func(g *gen, s string) string {
		a, b := twin(g, s)
		return g.object(pairs{a, b})
	})
	addWhole("rule: list of two", left, func(g *gen, s string) string {
		a, b := twin(g, s)
		return g.object(pairs{"rules", list{list{a, b}}})
	})
	addWhole("rule: lists of searches and replacements", left, func(g *gen, s string) string {
		a, b := twin(g, s)
		return g.object(pairs{"search", list{a}, "replace", list{b}})
	})
	addWhole("rule: text map", left, func(g *gen, s string) string {
		a, b := twin(g, s)
		return "# " + g.words(3) + "\n" + a + g.pick(" ", "\t", " = ", ": ") + b + "\n"
	})
	addWhole("rule: YAML", left, func(g *gen, s string) string {
		a, b := twin(g, s)
		return "redirects:\n  - from: " + a + "\n    to: " + b + "\n"
	})
	addWhole("rule: XML", left, func(g *gen, s string) string {
		a, b := twin(g, s)
		return "<rule><from>" + a + "</from><to>" + b + "</to></rule>"
	})
	// Guards.
	rule("hot-link guard", func(g *gen, s string) string {
		return "RewriteCond %{HTTP_REFERER} !^" + s + "://(www\\.)?ternrock\\.example" + g.pick("/", "", "$", "/.*$") + " [NC]"
	})
	rule("hot-link guard, quoted", func(g *gen, s string) string {
		return `SetEnvIf Referer "^` + s + `://ternrock.example/" local_ref=1`
	})
	rule("pattern", func(g *gen, s string) string {
		return g.pick("/^", "#^", "~^") + s + g.pick(`:\/\/`, "://", `:\\/\\/`) + `(www\.)?ternrock\.example/i`
	})
	rule("condition in PHP", func(g *gen, s string) string {
		return strings.ReplaceAll(g.pick(`if (strpos($url, '%s') === 0) {`, `if (0 === strpos($url, "%s")) {`, `if (substr($u, 0, 23) == '%s') {`, `if (str_starts_with($u, '%s')) {`, `if ($base == '%s') {`), "%s", s+"://ternrock.example")
	})
	rule("condition in a script", func(g *gen, s string) string {
		return strings.ReplaceAll(g.pick(`if (href.indexOf("%s") === 0) {`, `if (a.href.startsWith('%s')) {`, `if (location.origin !== "%s") return;`, `url.match(/^%s/)`), "%s", s+"://ternrock.example")
	})
	rule("selector", func(g *gen, s string) string {
		return `a[href^="` + s + `://ternrock.example"] { color: red }`
	})
	rule("selector in a query", func(g *gen, s string) string {
		return `$("a[href*='` + s + `://ternrock.example']").addClass("own")`
	})
	rule("pattern of a query", func(g *gen, s string) string {
		return "WHERE guid LIKE '" + g.pick("", "%") + s + "://ternrock.example" + "%'"
	})
	rule("condition of a style sheet language", func(g *gen, s string) string {
		return `<xsl:if test="starts-with(@href, '` + s + `://ternrock.example')">own</xsl:if>`
	})
	addWhole("rule: pattern in a table of redirects", left, func(g *gen, s string) string {
		return g.object(pairs{"regex", true, "source", "^" + s + `://(www\.)?ternrock\.example/(.*)$`, "target", "https://ternrock.example/$2", "hits", g.IntN(99)})
	})
	rule("server blocks", func(g *gen, s string) string {
		return `if ($http_referer ~* "^` + s + `://ternrock\.example/") { set $own 1; }`
	})

	// Not rules.
	add("two different pages side by side", secure, func(g *gen, s string) string {
		return g.own(s) + "/a => " + g.own(s) + "/b"
	})
	addWhole("moved page, both insecure", secure, func(g *gen, s string) string {
		return g.object(pairs{"from", s + "://ternrock.example/old" + g.path(), "to", s + "://ternrock.example/new" + g.path(), "code", 301})
	})
	addWhole("the same page linked both ways in a text", secure, func(g *gen, s string) string {
		p := g.path()
		return "<p>See <a href=\"" + s + "://ternrock.example" + p + "\">" + g.words(6) + "</a> and then, after " + g.words(8) + ", <a href=\"https://ternrock.example" + p + "\">again</a>.</p>"
	})
	addWhole("old page to another secure page", secure, func(g *gen, s string) string {
		return g.object(pairs{"from", "/old" + g.path(), "to", s + "://ternrock.example" + g.path(), "code", 301, "hits", g.IntN(99)})
	})
	add("the page goes there", secure, func(g *gen, s string) string {
		return `location.replace("` + g.own(s) + `");`
	})
	addWhole("two settings, one of them secure", secure, func(g *gen, s string) string {
		return g.object(pairs{"siteurl", "https://ternrock.example", "home", s + "://ternrock.example", "name", g.word()})
	})
	add("picture in a link to it", secure, func(g *gen, s string) string {
		u := "ternrock.example" + g.image()
		return `<a href="https://` + u + `"><img src="` + s + "://" + u + `"></a>`
	})
	add("link whose text is its secure twin", secure, func(g *gen, s string) string {
		u := "ternrock.example" + g.path()
		return g.pick(`<a href="`+s+"://"+u+`">https://`+u+"</a>", "[https://"+u+"]("+s+"://"+u+")", "[url="+s+"://"+u+"]https://"+u+"[/url]")
	})
	add("assignment", secure, func(g *gen, s string) string {
		return `$base = '` + g.own(s) + `';`
	})
	add("call with one string", secure, func(g *gen, s string) string {
		return g.pick("fetch(", "window.open(", "wp_redirect(", "$.get(") + `"` + g.own(s) + `")`
	})

	// Addresses in pieces.
	piece := func(name string, build func(g *gen, s string) string) { add("in pieces: "+name, left, build) }
	piece("joined with a host", func(g *gen, s string) string {
		return g.pick(`'`+s+`://' . $_SERVER['HTTP_HOST'] . '/x'`, `'`+s+`://' + location.host + '/x'`, `"`+s+`://" + host`, `"`+s+`://".$host."/"`)
	})
	piece("joined with the site's host", func(g *gen, s string) string {
		return g.pick(`'`+s+`://' . 'ternrock.example'`, `"`+s+`://" + "ternrock.example/x"`, `'`+s+`:' + '//ternrock.example'`, `"`+s+`" + "://ternrock.example"`)
	})
	piece("placeholder", func(g *gen, s string) string {
		return s + "://" + g.pick("%s", "${host}", "{{ host }}", "{host}", "%HOST%", "$host", "[host]", "#{host}", "{$domain}", "%{HTTP_HOST}", "<?php echo $h ?>", "{0}", "@host@", "__HOST__") + "/" + g.word()
	})
	addWhole("in pieces: scheme and host apart", left, func(g *gen, s string) string {
		return g.object(pairs{g.pick("scheme", "protocol", "proto"), s, "host", "ternrock.example", "path", g.path()})
	})
	addWhole("in pieces: scheme with its colon apart", left, func(g *gen, s string) string {
		return g.object(pairs{g.pick("scheme", "protocol", "prefix"), s + "://", g.pick("host", "domain", "server"), "ternrock.example"})
	})
	addWhole("in pieces: lines of a configuration", left, func(g *gen, s string) string {
		return g.pick("protocol", "scheme", "PROTO") + g.pick("=", ": ", " = ") + s + "\n" + "host" + "=ternrock.example\n"
	})
	piece("character codes", func(g *gen, s string) string {
		var codes []string
		for _, c := range s + "://ternrock.example/" {
			codes = append(codes, strconv.Itoa(int(c)))
		}
		return g.pick("String.fromCharCode(", "CHAR(", "array(") + strings.Join(codes, g.pick(",", ", ")) + ")"
	})
	piece("a call for each character", func(g *gen, s string) string {
		var codes []string
		for _, c := range s + "://ternrock.example/" {
			codes = append(codes, "chr("+strconv.Itoa(int(c))+")")
		}
		return strings.Join(codes, g.pick(".", "||", " & "))
	})
	piece("three slashes", func(g *gen, s string) string {
		return `<img src="` + s + g.pick(":///", ":////", ":/") + "ternrock.example" + g.image() + `">`
	})
	piece("backslashes", func(g *gen, s string) string {
		return `<img src="` + s + g.pick(`:\\`, `:/\`, `:\/`) + "ternrock.example" + g.image() + `">`
	})
	piece("a tab or a break that browsers skip", func(g *gen, s string) string {
		u := s + "://ternrock.example" + g.image()
		at := 2 + g.IntN(len(s)+14)
		return `<img src="` + u[:at] + g.pick("\t", "\n", "&#9;", "&Tab;", "&NewLine;", "\r\n") + u[at:] + `">`
	})
	piece("a reversed string", func(g *gen, s string) string {
		u := []byte(s + "://ternrock.example/x")
		for i, j := 0, len(u)-1; i < j; i, j = i+1, j-1 {
			u[i], u[j] = u[j], u[i]
		}
		return `strrev("` + string(u) + `")`
	})
}
