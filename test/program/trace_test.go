package program

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// planted is a reference whose place is known: as a whole, or put together by code.
type planted struct {
	name    string
	url     string
	page    string   // what the page has of it; "": an image
	options []string // name=value
	posts   []string // title=content
	fields  []string // name=value
	files   []string // path=text, below theme
	place   []string // where it is: "setting NAME", "post TITLE", "field NAME", "theme/FILE:LINE" or the URL of a document
	joined  bool     // put together
}

func packed(s string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(s)) // into memory
	_ = z.Close()
	return base64.StdEncoding.EncodeToString(b.Bytes())
}

func serialized(key, value string) string {
	return fmt.Sprintf(`a:1:{s:%d:"%s";s:%d:"%s";}`, len(key), key, len(value), value)
}

// plants are the references of the site below.
func plants() (all []planted) {
	add := func(p planted) { all = append(all, p) }
	whole := func(name, host string, p planted) {
		p.name = name
		if p.url == "" {
			p.url = "http://" + host + "/pic/" + strings.ReplaceAll(name, " ", "-") + ".png"
		}
		fill := func(list []string) (out []string) {
			for _, s := range list {
				out = append(out, strings.ReplaceAll(s, "¤", p.url))
			}
			return out
		}
		p.options, p.posts, p.fields, p.files = fill(p.options), fill(p.posts), fill(p.fields), fill(p.files)
		add(p)
	}
	// As a whole: in content, fields, settings and files, in all spellings.
	for i, host := range []string{"ternrock.example", "cdn.example"} {
		n := fmt.Sprint(" ", i)
		u := func(name string) string {
			return "http://" + host + "/pic/" + strings.ReplaceAll(name+n, " ", "-") + ".png"
		}
		whole("content"+n, host, planted{posts: []string{"One" + n + `=<p><img src="¤"></p>`}, place: []string{"post One" + n}})
		whole("capitals"+n, host, planted{posts: []string{"Two" + n + `=<img src="` + strings.Replace(u("capitals"), "http", "HTTP", 1) + `">`}, place: []string{"post Two" + n}})
		whole("entity"+n, host, planted{posts: []string{"Three" + n + `=<img src="` + strings.Replace(u("entity"), ":", "&#58;", 1) + `">`}, place: []string{"post Three" + n}})
		whole("percent"+n, host, planted{fields: []string{"f1" + fmt.Sprint(i) + "=" + url.QueryEscape(u("percent"))}, place: []string{"field f1" + fmt.Sprint(i)}})
		whole("slashes"+n, host, planted{fields: []string{"f2" + fmt.Sprint(i) + `={"image":"` + strings.ReplaceAll(u("slashes"), "/", `\/`) + `"}`}, place: []string{"field f2" + fmt.Sprint(i)}})
		whole("unicode"+n, host, planted{fields: []string{"f3" + fmt.Sprint(i) + `={"image":"` + strings.ReplaceAll(u("unicode"), "/", `\u002f`) + `"}`}, place: []string{"field f3" + fmt.Sprint(i)}})
		whole("serialized"+n, host, planted{options: []string{"o1" + fmt.Sprint(i) + "=" + serialized("logo", u("serialized"))}, place: []string{"setting o1" + fmt.Sprint(i)}})
		whole("base64"+n, host, planted{options: []string{"o2" + fmt.Sprint(i) + "=" + base64.StdEncoding.EncodeToString([]byte(`<img src="`+u("base64")+`">`))}, place: []string{"setting o2" + fmt.Sprint(i)}})
		whole("packed"+n, host, planted{options: []string{"o3" + fmt.Sprint(i) + "=" + packed(`<p><img src="`+u("packed")+`"></p>`)}, place: []string{"setting o3" + fmt.Sprint(i)}})
		whole("widget"+n, host, planted{options: []string{"widget_text" + fmt.Sprint(i) + "=" + serialized("text", `<img src="`+u("widget")+`">`)}, place: []string{"setting widget_text" + fmt.Sprint(i)}})
		whole("header"+n, host, planted{files: []string{fmt.Sprintf("header%d.php=<header>\n<img src=\"¤\">\n</header>\n", i)}, place: []string{fmt.Sprintf("theme/header%d.php:2", i)}})
		whole("sheet"+n, host, planted{files: []string{fmt.Sprintf("style%d.css=body { color: #123 }\nheader { background: url(¤) }\n", i)}, place: []string{fmt.Sprintf("theme/style%d.css:2", i)}})
		whole("script"+n, host, planted{files: []string{fmt.Sprintf("lamp%d.js=// lamp\nnew Image().src = '¤'\n", i)}, place: []string{fmt.Sprintf("theme/lamp%d.js:2", i)}})
		whole("configuration"+n, host, planted{files: []string{fmt.Sprintf("theme%d.json={\n  \"hero\": \"%s\"\n}\n", i, strings.ReplaceAll(u("configuration"), "/", `\/`))}, place: []string{fmt.Sprintf("theme/theme%d.json:2", i)}})
		whole("smaller"+n, host, planted{url: "http://" + host + fmt.Sprintf("/pic/rock%d-300x200.png", i), posts: []string{"Four" + n + `=<img src="http://` + host + fmt.Sprintf(`/pic/rock%d.png">`, i)}, place: []string{"post Four" + n}})
		whole("twice"+n, host, planted{page: `<div class="tern-hero` + fmt.Sprint(i) + `"><img alt="The lamp room" src="¤"></div>`,
			files: []string{fmt.Sprintf("a-list%d.php=<ul class=\"gallery\"><li><img src=\"¤\"></li></ul>\n", i), fmt.Sprintf("hero%d.php=<div class=\"tern-hero%d\">\n<img alt=\"The lamp room\" src=\"¤\"></div>\n", i, i)}, place: []string{fmt.Sprintf("theme/hero%d.php:2", i)}})
	}
	// Put together by code.
	join := func(name, u string, p planted) {
		p.name, p.url, p.joined = name, u, true
		add(p)
	}
	join("option and path", "http://cdn1.example/a/img/lens.png", planted{options: []string{"cdn_url=http://cdn1.example/a"}, files: []string{"p1.php=<?php $base = get_option( 'cdn_url' ); ?>\n<img src=\"<?php echo $base; ?>/img/lens.png\">\n"}, place: []string{"setting cdn_url"}})
	join("constant", "http://cdn2.example/img/tower.png", planted{files: []string{"p2.php=<?php\ndefine( 'TERN_CDN', 'http://cdn2.example' );\nfunction tern_tower() {\n  echo '<img src=\"' . TERN_CDN . '/img/tower.png\">';\n}\n"}, place: []string{"theme/p2.php:2"}})
	join("scheme apart", "http://cdn3.example/boat.png", planted{files: []string{"p3.php=<?php\n$boat = 'http:' . '//cdn3.example/' . 'boat.png';\n"}, place: []string{"theme/p3.php:2"}})
	join("host apart", "http://cdn4.example/gulls/gull.png", planted{files: []string{"p4.php=<?php\n$host = 'cdn4.example';\n\n\n\necho '<img src=\"http://' . $host . '/gulls/gull.png\">';\n"}, place: []string{"theme/p4.php:6"}})
	join("template", "http://cdn5.example/buoy.png", planted{files: []string{"p5.twig=<p>\n<img src=\"http://{{ cdn_host }}/buoy.png\">\n</p>\n", "p5.json={ \"cdn_host\": \"cdn5.example\" }\n"}, place: []string{"theme/p5.twig:2"}})
	join("sprintf", "http://cdn6.example/rope.png", planted{files: []string{"p6.php=<?php\n// rope\nprintf( 'http://%s/%s', 'cdn6.example', 'rope.png' );\n"}, place: []string{"theme/p6.php:3"}})
	join("configuration array", "http://cdn7.example/photos/keeper.png", planted{files: []string{"p7.php=<?php return [\n  'scheme' => 'http',\n  'host'   => 'cdn7.example',\n];\n", "p7b.php=<?php\n$c = require 'p7.php';\necho $c['scheme'] . '://' . $c['host'] . '/photos/keeper.png';\n"}, place: []string{"theme/p7b.php:3", "theme/p7.php:3"}})
	join("base", "http://cdn8.example/oar.png", planted{posts: []string{"Oars=<p><img src=\"oar.png\"></p>"}, files: []string{"p8.php=<head>\n<base href=\"http://cdn8.example/\">\n</head>\n"}, place: []string{"theme/p8.php:2"}})
	join("script concatenation", "http://cdn9.example/js/ropes.js", planted{page: `<script src="¤"></script>`, files: []string{"p9.js=var name = 'ropes'\nvar s = document.createElement('script')\ns.src = 'http:' + '//cdn9.example/js/' + name + '.js'\n"}, place: []string{"theme/p9.js:3"}})
	join("script template", "http://cdn10.example/kelp.js", planted{page: `<script src="¤"></script>`, files: []string{"p10.js=const host = 'cdn10.example'\nadd(`http://${host}/kelp.js`)\n"}, place: []string{"theme/p10.js:2"}})
	join("JSON and code", "http://cdn11.example/v2/map.png", planted{files: []string{"p11.json={\n  \"tiles\": \"http:\\/\\/cdn11.example\\/v2\"\n}\n", "p11.php=<?php\n$t = json_decode( $file )->tiles;\necho \"<img src='$t/map.png'>\";\n"}, place: []string{"theme/p11.json:2"}})
	join("host in a setting", "http://cdn12.example/img/wave.png", planted{options: []string{"image_host=cdn12.example"}, files: []string{"p12.php=<img src=\"http://<?php echo get_option( 'image_host' ) ?>/img/wave.png\">\n"}, place: []string{"theme/p12.php:1", "setting image_host"}})
	join("path in a setting", "http://cdn13.example/uploads/anchor.png", planted{options: []string{"anchor=uploads/anchor.png"}, files: []string{"p13.php=<?php echo '<img src=\"http://cdn13.example/' . get_option( 'anchor' ) . '\">';\n"}, place: []string{"theme/p13.php:1", "setting anchor"}})
	join("settings in a list", "http://cdn14.example/flags/blue.png", planted{options: []string{"cdn_settings=" + serialized("host", "cdn14.example")}, files: []string{"p14.php=<?php\n$o = get_option( 'cdn_settings' );\necho 'http://' . $o['host'] . '/flags/blue.png';\n"}, place: []string{"theme/p14.php:3", "setting cdn_settings"}})
	join("host of the request", "http://ternrock.example/theme/reefs/reef.png", planted{files: []string{"p15.php=<?php\n$u = 'http://' . $_SERVER['HTTP_HOST'] . '/theme/reefs/reef.png';\n"}, place: []string{"theme/p15.php:2"}})
	join("home and path", "http://ternrock.example/theme/img/mast.svg", planted{files: []string{"p16.php=<?php\n?><img src=\"<?php bloginfo( 'url' ) ?>/theme/img/mast.svg\">\n"}, place: []string{"setting home", "theme/p16.php:2"}})
	join("over lines", "http://cdn17.example/ships/hull.png", planted{files: []string{"p17.php=<?php\necho implode( '/', array(\n  'http:',\n  '',\n  'cdn17.example',\n  'ships/hull.png',\n) );\n"}, place: []string{"theme/p17.php:5", "theme/p17.php:6"}})
	join("asset function", "http://cdn18.example/deck.png", planted{files: []string{"p18.twig=<img src=\"{{ asset('deck.png') }}\">\n", "p18.json={\n\"base_url\": \"http://cdn18.example\"\n}\n"}, place: []string{"theme/p18.json:2"}})
	join("query", "http://maps19.example/embed?key=LAMP2610&zoom=9", planted{page: `<iframe src="¤"></iframe>`, files: []string{"p19.php=<?php $key = 'LAMP2610';\n?><iframe src=\"http://maps19.example/embed?key=<?= $key ?>&amp;zoom=9\"></iframe>\n"}, place: []string{"theme/p19.php:2"}})
	join("nested sprintf", "http://cdn20.example/photos/2019/fog.png", planted{files: []string{"p20.php=<?php\n$cdn = 'http://cdn20.example';\nfunction photo( $name ) { global $cdn; return sprintf( '%1$s/photos/2019/%2$s.png', $cdn, $name ); }\nphoto( 'fog' );\n"}, place: []string{"theme/p20.php:2"}})
	join("heredoc", "http://media21.example/sea/salt.png", planted{files: []string{"p21.php=<?php\n$h = 'media21.example';\necho <<<HTML\n<figure>\n<img src=\"http://$h/sea/salt.png\">\n</figure>\nHTML;\n"}, place: []string{"theme/p21.php:5"}})
	join("constants joined", "http://cdn22.example/files/tide/high.png", planted{files: []string{"p22.php=<?php\nconst SCHEME = 'http';\nconst HOST = 'cdn22.example';\nconst FOLDER = '/files/tide/';\n$u = SCHEME . '://' . HOST . FOLDER . 'high.png';\n"}, place: []string{"theme/p22.php:3", "theme/p22.php:5", "theme/p22.php:4"}})
	join("replaced scheme", "http://cdn23.example/sail.png", planted{options: []string{"sail=https://cdn23.example/sail.png"}, files: []string{"p23.php=<?php\necho str_replace( 'https:', 'http:', get_option( 'sail' ) );\n"}, place: []string{"setting sail", "theme/p23.php:2"}})
	join("content and host", "http://img24.example/2018/07/keepers-day.png", planted{posts: []string{"Keepers=<p>[photo file=\"2018/07/keepers-day.png\"]</p>"}, files: []string{"p24.php=<?php\nadd_shortcode( 'photo', fn( $a ) => '<img src=\"http://img24.example/' . $a['file'] . '\">' );\n"}, place: []string{"theme/p24.php:2", "post Keepers"}})
	join("sheet of another host", "http://cdn25.example/far.png", planted{page: `<link rel="stylesheet" href="https://type.example/far.css">`, place: []string{"https://type.example/far.css"}})
	join("font of another host's sheet", "http://cdn26.example/far.woff2", planted{page: `<link rel="stylesheet" href="https://type.example/font.css">`, place: []string{"https://type.example/font.css"}})
	join("frame's own sheet", "http://cdn27.example/near.png", planted{page: `<iframe src="/frame27"></iframe>`, files: []string{"p27.php=<?php echo '<style>b { background: url(' . tern_scheme() . '//cdn27.example/near.png) }</style>';\n"}, place: []string{"theme/p27.php:1"}})
	join("option with a path", "http://store28.example/files/img/knots/reef-knot.png", planted{options: []string{"storage=" + serialized("root", "http://store28.example/files")}, posts: []string{"Knots=<p>[img knots/reef-knot.png]</p>"}, place: []string{"setting storage"}})
	join("attribute of data", "http://cdn29.example/late/lazy.png", planted{page: `<img data-src="¤">`, files: []string{"p29.php=<?php\n$lazy = '//cdn29.example/late/';\n$proto = is_ssl() ? 'https:' : 'http:';\necho '<img data-src=\"' . $proto . $lazy . 'lazy.png\">';\n"}, place: []string{"theme/p29.php:2", "theme/p29.php:4"}})
	join("name from a list", "http://h1.example/media/lens.png", planted{files: []string{"q1.php=<?php\n$base = 'http://h1.example/media/';\n$img = array( 'lens', 'png' );\necho $base . implode( '.', $img );\n"}, place: []string{"theme/q1.php:2"}})
	join("joined list of a script", "http://h2.example/deep/net.png", planted{files: []string{"q2.js=const CDN = \"http://h2.example\"\nfunction show(file) {\n  img.src = [CDN, 'deep', file].join('/')\n}\n"}, place: []string{"theme/q2.js:1"}})
	join("scheme by a condition", "http://h3.example/x/yard.png", planted{files: []string{"q3.php=<?php\n$scheme = $ssl ? 'https' : 'http';\n$src = \"$scheme://h3.example/x/yard.png\";\n"}, place: []string{"theme/q3.php:3"}})
	join("set scheme", "http://h4.example/foam.png", planted{files: []string{"q4.php=<?php\n\necho esc_url( set_url_scheme( '//h4.example/foam.png', 'http' ) );\n"}, place: []string{"theme/q4.php:3"}})
	join("variable of a style sheet", "http://h5.example/fonts/a-lamp.woff2", planted{page: `<style>@font-face { font-family: a; src: url(¤) }</style>`, files: []string{"q5.scss=$root: \"http://h5.example/fonts\";\n@font-face { src: url($root + \"/a-lamp.woff2\") }\n"}, place: []string{"theme/q5.scss:1"}})
	join("parts in a field", "http://h6.example/quay/ropes-2.png", planted{fields: []string{`remote={"host":"h6.example","path":"\/quay\/ropes-2.png","secure":false}`}, place: []string{"field remote"}})
	join("base64 of the beginning", "http://h7.example/store/pier.png", planted{options: []string{"store=" + base64.StdEncoding.EncodeToString([]byte("http://h7.example/store/"))}, files: []string{"q7.php=<img src=\"<?= base64_decode( get_option( 'store' ) ) ?>pier.png\">\n"}, place: []string{"setting store", "theme/q7.php:1"}})
	join("attributes of XML", "http://h8.example/icons/star-lamp.svg", planted{files: []string{"q8.xml=<icons>\n<icon host=\"h8.example\" folder=\"icons\" file=\"star-lamp.svg\"/>\n</icons>\n"}, place: []string{"theme/q8.xml:2"}})
	return all
}

// Each planted reference is traced to its place: first where it stands as a whole, and among the first
// three where code puts it together.
func TestTracePlanted(t *testing.T) {
	all := plants()
	var joined int
	for _, p := range all {
		if p.joined {
			joined++
		}
	}
	require.GreaterOrEqual(t, len(all), 60)
	require.GreaterOrEqual(t, joined, 25)
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		var n int
		switch p := r.URL.Path; {
		case r.Host == "type.example":
			w.Header().Set("Content-Type", "text/css")
			if p == "/far.css" {
				fmt.Fprint(w, "p { background: url(http://cdn25.example/far.png) }")
			} else {
				fmt.Fprint(w, "@font-face { font-family: x; src: url(http://cdn26.example/far.woff2) }")
			}
		case p == "/":
			fmt.Fprint(w, `<title>front</title><img src="http://qzx.example/wvu.png">`)
			for n := range all {
				fmt.Fprintf(w, `<a href="/t/%d">%d</a>`, n, n)
			}
		case p == "/frame27":
			fmt.Fprint(w, "<style>b { background: url(http://cdn27.example/near.png) }</style>")
		case strings.HasPrefix(p, "/t/"):
			fmt.Sscanf(p, "/t/%d", &n)
			body := all[n].page
			if body == "" {
				body = `<p><img src="¤"></p>`
			}
			fmt.Fprintf(w, "<!DOCTYPE html><title>%s</title>\n<main>\n%s\n</main>", all[n].name, strings.ReplaceAll(body, "¤", strings.ReplaceAll(all[n].url, "&", "&amp;")))
		default:
			http.NotFound(w, r)
		}
	}, network("type.example"))
	dir := bare(t, 3)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "theme"), 0o755))
	db := open(t, filepath.Join(dir, "site.db"))
	for i, p := range all {
		pair := func(s string) (string, string) { a, b, _ := strings.Cut(s, "="); return a, b }
		for _, s := range p.options {
			a, b := pair(s)
			_, err := db.Exec("INSERT INTO m_options (option_name, option_value) VALUES (?, ?)", a, b)
			require.NoError(t, err)
		}
		for _, s := range p.posts {
			a, b := pair(s)
			_, err := db.Exec("INSERT INTO m_posts (post_title, post_content) VALUES (?, ?)", a, b)
			require.NoError(t, err)
		}
		for _, s := range p.fields {
			a, b := pair(s)
			_, err := db.Exec("INSERT INTO m_postmeta (post_id, meta_key, meta_value) VALUES (?, ?, ?)", i, a, b)
			require.NoError(t, err)
		}
		for _, s := range p.files {
			a, b := pair(s)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "theme", a), []byte(strings.ReplaceAll(b, "¤", p.url)), 0o644))
		}
	}
	require.NoError(t, db.Close())
	inSiteFile(t, dir, "database:\n", "files: [theme]\nnetwork:\n  ca: "+filepath.Join(f.dir, "ca.pem")+"\n  resolve: ['*:443:"+f.secure+"', '*:80:"+f.plain+"']\ndatabase:\n")
	type place struct {
		Table, Column, Label, File, Page, Match, Do string
		Line                                        int
	}
	var scan struct {
		Culprits []struct {
			URL    string
			Places []place
		}
	}
	decode(t, want(t, 1, dir, "scan", "--trace", "--format", "json"), &scan)
	where := func(p place) string {
		switch {
		case p.Match == "document":
			return p.Page
		case p.File != "":
			return fmt.Sprintf("%s:%d", p.File, p.Line)
		}
		return p.Label
	}
	var first, three, literal, together int
	for _, p := range all {
		i := slices.IndexFunc(scan.Culprits, func(c struct {
			URL    string
			Places []place
		}) bool {
			return c.URL == p.url
		})
		if !assert.GreaterOrEqual(t, i, 0, "%s: %s is seen", p.name, p.url) {
			continue
		}
		var got []string
		for _, pl := range scan.Culprits[i].Places {
			got = append(got, where(pl)+" ("+pl.Match+")")
			assert.NotContains(t, pl.Do, "changes it: it is in", "there is no sheet")
		}
		at := slices.IndexFunc(scan.Culprits[i].Places, func(pl place) bool { return slices.Contains(p.place, where(pl)) })
		switch {
		case p.joined:
			together++
			if at >= 0 && at < 3 {
				three++
			} else {
				t.Logf("%s: %v is at %d of %q", p.name, p.place, at, got)
			}
		default:
			literal++
			if at == 0 {
				first++
			} else {
				t.Logf("%s: %v is at %d of %q", p.name, p.place, at, got)
			}
		}
		assert.NotEmpty(t, scan.Culprits[i].Places, "%s: the page contains it", p.name)
	}
	// By its number, and what no page has.
	byNumber := want(t, 1, dir, "trace", fmt.Sprint(slices.IndexFunc(scan.Culprits, func(c struct {
		URL    string
		Places []place
	}) bool {
		return c.URL == "http://cdn6.example/rope.png"
	})+1)).out
	assert.Contains(t, byNumber, "http://cdn6.example/rope.png\non https://ternrock.example/t/")
	assert.Contains(t, byNumber, "theme/p6.php:3")
	assert.Contains(t, byNumber, "is put together here")
	assert.Contains(t, want(t, 2, dir, "trace", "100000").errs, "the last scan has no finding 100000")
	nowhere := want(t, 1, dir, "trace", "http://ternrock.example/never/was/here-xyz.png").out
	assert.Contains(t, strings.Join(strings.Fields(nowhere), " "), "no page of the last scan has it")
	assert.NotContains(t, nowhere, "changes it: it is in")
	unknown := want(t, 1, dir, "trace", "http://qzx.example/wvu.png").out // on the front page, and in nothing that is stored
	assert.Contains(t, strings.Join(strings.Fields(unknown), " "), "The page contains it at line 1; no text in")
	assert.NotContains(t, unknown, "Not found")
	want(t, 0, dir, "preview", "--offline")
	assert.Contains(t, want(t, 1, dir, "trace", all[0].url).out, "trimlantern apply changes it: it is in the newest sheet")
	assert.NotContains(t, want(t, 1, dir, "trace", "http://cdn6.example/rope.png").out, "apply changes it")
	t.Logf("%d of %d as a whole are first; %d of %d put together are among the first three", first, literal, three, together)
	assert.Equal(t, literal, first)
	assert.GreaterOrEqual(t, float64(three), 0.9*float64(together))
}
