package laws

import (
	"encoding/base64"
	"fmt"
	"html"
	"net/url"
	"strings"
)

// What twenty years of themes, builders, shops, importers and caches have stored.
func init() {
	add("menu item", secure, func(g *gen, s string) string {
		return `<li><a href='` + g.own(s) + `'>` + g.word() + `</a></li>`
	})
	addWhole("widget of text", secure, func(g *gen, s string) string {
		return php(pairs{2, pairs{"title", g.word(), "text", `<a href="` + g.own(s) + `">x</a>`, "filter", true}, "_multiwidget", 1})
	})
	addWhole("page builder", secure, func(g *gen, s string) string {
		return strings.ReplaceAll(js(list{pairs{"id", g.hex(7), "elType", "section", "settings", pairs{"background_image", pairs{"url", g.ownImage(s), "id", g.IntN(999)}}, "elements", list{}}}), "/", `\/`)
	})
	addWhole("slides as JSON in a serialized value", secure, func(g *gen, s string) string {
		return php(pairs{"slides", strings.ReplaceAll(js(list{pairs{"bg", g.ownImage(s)}, pairs{"bg", g.ownImage(s)}}), "/", `\/`)})
	})
	addWhole("serialized value in base64 in a serialized value", secure, func(g *gen, s string) string {
		return php(pairs{"opt", base64.StdEncoding.EncodeToString([]byte(php(pairs{"logo", g.ownImage(s), "n", g.IntN(9)})))})
	})
	add("block with a comment", secure, func(g *gen, s string) string {
		return `<!-- wp:cover {"url":"` + g.ownImage(s) + `","id":` + fmt.Sprint(g.IntN(99)) + `} --><div style="background-image:url(` + g.ownImage(s) + `)"></div><!-- /wp:cover -->`
	})
	add("short code of a gallery", secure, func(g *gen, s string) string {
		return `[row][col bg="` + g.ownImage(s) + `" link="url:` + url.QueryEscape(g.own(s)) + `|title:` + g.word() + `"][/col][/row]`
	})
	addWhole("shop's downloads", secure, func(g *gen, s string) string {
		return php(pairs{md5Hex(g.word()), pairs{"name", g.word(), "file", g.own(s)}})
	})
	addWhole("attachment's meta data", secure, func(g *gen, s string) string {
		return php(pairs{"width", 800, "file", "2015/06/x.png", "sizes", pairs{"thumb", pairs{"url", g.ownImage(s), "w", 150}}})
	})
	add("picture set", secure, func(g *gen, s string) string {
		return `<img src="` + g.ownImage(s) + `" srcset="` + g.ownImage(s) + ` 300w, ` + g.ownImage(s) + ` 768w">`
	})
	add("conditional comment", secure, func(g *gen, s string) string {
		return `<!--[if lt IE 9]><script src="` + s + `://ternrock.example/js/html5.js"></script><![endif]-->`
	})
	add("script with escaped slashes", secure, func(g *gen, s string) string {
		return `<script>var cfg = {"ajaxurl":"` + strings.ReplaceAll(g.own(s), "/", `\/`) + `","n":1};</script>`
	})
	add("script that writes", secure, func(g *gen, s string) string {
		return `<script>document.write('<a href=\'` + g.own(s) + `\'>x<\/a>')</script>`
	})
	add("style rules", secure, func(g *gen, s string) string {
		return `.` + g.word() + `{background:url('` + g.ownImage(s) + `') no-repeat;behavior:url(` + s + `://ternrock.example/pie.htc)}`
	})
	add("inline style with entities", secure, func(g *gen, s string) string {
		return `<div style="background-image:url(&quot;` + g.ownImage(s) + `&quot;)">`
	})
	add("handler with entities", secure, func(g *gen, s string) string {
		return `<a onclick="window.open(&#39;` + g.own(s) + `&#39;)">x</a>`
	})
	add("share link", secure, func(g *gen, s string) string {
		return `https://share.example/?u=` + url.QueryEscape(g.own(s)) + `&t=` + g.word()
	})
	add("login redirect", secure, func(g *gen, s string) string {
		return s + `://ternrock.example/login?redirect_to=` + url.QueryEscape(g.own(s)+"?a=1")
	})
	addWhole("feed item", secure, func(g *gen, s string) string {
		return `<item><title>` + g.word() + `</title><link>` + g.own(s) + `</link><description><![CDATA[<a href="` + g.own(s) + `">x</a>]]></description></item>`
	})
	addWhole("map of a site", secure, func(g *gen, s string) string {
		return `<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>` + g.own(s) + `</loc></url></urlset>`
	})
	addWhole("linked data", secure, func(g *gen, s string) string {
		return `{"@context":"http://schema.org","@type":"Museum","url":"` + strings.ReplaceAll(g.own(s), "/", `\/`) + `"}`
	})
	addWhole("mail template", secure, func(g *gen, s string) string {
		return "Dear {name},\n\nyour booking: " + g.own(s) + "?id={id}\n\n-- \n" + s + "://ternrock.example\n"
	})
	add("attribute without quotes", secure, func(g *gen, s string) string { return `<a href=` + g.own(s) + `>x</a>` })
	add("flash object", secure, func(g *gen, s string) string {
		return `<embed src="` + s + `://ternrock.example/p.swf" flashvars="file=` + g.own(s) + `&image=` + g.ownImage(s) + `">`
	})
	addWhole("settings file", secure, func(g *gen, s string) string {
		return "[site]\nname = " + g.word() + "\nurl = " + g.own(s) + "\n; old: " + g.own(s) + "\n"
	})
	addWhole("configuration of PHP", secure, func(g *gen, s string) string {
		return "<?php\ndefine('HOME', '" + g.own(s) + "');\n$x = array(\"logo\" => \"" + g.ownImage(s) + "\");\n"
	})
	addWhole("exported variable", secure, func(g *gen, s string) string {
		return "array (\n  'home' => '" + g.own(s) + "',\n  'n' => " + fmt.Sprint(g.IntN(99)) + ",\n)"
	})
	addWhole("environment file", secure, func(g *gen, s string) string {
		return "APP_URL=" + g.own(s) + "\nAPP_KEY=base64:" + base64.StdEncoding.EncodeToString([]byte(g.hex(32))) + "\n"
	})
	addWhole("YAML", secure, func(g *gen, s string) string {
		return "title: " + g.word() + "\nurl: " + g.own(s) + "\nmenu:\n  - {name: x, link: \"" + g.own(s) + "\"}\n"
	})
	addWhole("TOML", secure, func(g *gen, s string) string {
		return "baseURL = '" + g.own(s) + "'\n[params]\nlogo = \"" + g.ownImage(s) + "\"\n"
	})
	addWhole("form field with slashes added", secure, func(g *gen, s string) string {
		return `<a href=\"` + g.own(s) + `\" class=\"x\">` + g.word() + `\'s</a>`
	})
	addWhole("serialized with slashes added", secure, func(g *gen, s string) string {
		return strings.ReplaceAll(php(pairs{"url", g.own(s)}), `"`, `\"`)
	})
	addWhole("entities around a serialized value", secure, func(g *gen, s string) string {
		return `<input value="` + html.EscapeString(php(pairs{"url", g.own(s), "n", 1})) + `">`
	})
	addWhole("session", secure, func(g *gen, s string) string {
		return "user_id|i:" + fmt.Sprint(g.IntN(99)) + ";back|" + php(g.own(s)) + "cart|" + php(pairs{"return", g.own(s)})
	})
	addWhole("object of a class", secure, func(g *gen, s string) string {
		u := g.own(s)
		return "O:8:\"stdClass\":2:{s:3:\"url\";" + php(u) + "s:4:\"name\";" + php(g.word()) + "}"
	})
	addWhole("query with brackets", secure, func(g *gen, s string) string {
		return "opt%5Burl%5D=" + url.QueryEscape(g.own(s)) + "&opt%5Bn%5D=1"
	})
	addWhole("log line", secure, func(g *gen, s string) string {
		return `192.0.2.7 - - [12/Mar/2015] "GET /x HTTP/1.1" 200 512 "` + g.own(s) + `" "Mozilla/5.0"`
	})
	addWhole("importer's map of columns", secure, func(g *gen, s string) string {
		return "id;title;image\n7;" + g.word() + ";" + g.ownImage(s) + "\n8;" + g.word() + ";" + g.ownImage(s) + "|" + g.ownImage(s) + "\n"
	})
	addWhole("cookie banner", secure, func(g *gen, s string) string {
		return js(pairs{"en", pairs{"text", g.words(5), "link", g.own(s)}, "de", pairs{"text", g.words(5), "link", g.own(s)}})
	})
	addWhole("JSON in lines", secure, func(g *gen, s string) string {
		return js(pairs{"u", g.own(s)}) + "\n" + js(pairs{"u", g.own(s)}) + "\n"
	})
	addWhole("JSON in an attribute in JSON", secure, func(g *gen, s string) string {
		return js(pairs{"html", `<div data-x="` + html.EscapeString(js(pairs{"u", g.own(s)})) + `">`})
	})
	addWhole("callback around JSON", secure, func(g *gen, s string) string {
		return "callback(" + js(pairs{"url", g.own(s)}) + ");"
	})
	add("audio player", secure, func(g *gen, s string) string {
		return `[audio mp3="` + g.own(s) + `.mp3"][/audio]` + `<audio src="` + g.own(s) + `.ogg"></audio>`
	})
	add("refresh", secure, func(g *gen, s string) string {
		return `<meta http-equiv="refresh" content="0; url=` + g.own(s) + `">`
	})
	add("user info and port", secure, func(g *gen, s string) string {
		return `<img src="` + s + `://keeper@ternrock.example` + g.image() + `">`
	})
	add("text with Unicode around", secure, func(g *gen, s string) string { return "„" + g.own(s) + "“ – " + g.word() + "…" })
	add("another host's style sheet", secure, func(g *gen, s string) string {
		return `<link rel="stylesheet" href="` + s + `://fonts.example/css?family=` + g.word() + `">`
	})
	add("another host's script in a comment of old browsers", secure, func(g *gen, s string) string {
		return "<script src='" + s + "://fonts.example/lib.js'></script>"
	})
}
