//go:build real

package real

import (
	"flag"
	"fmt"
	"html"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"
)

var (
	grammarPages = flag.Int("grammar-pages", 40, "how many pages are generated and judged")
	grammarSeed  = flag.Uint64("grammar-seed", 35, "the seed of the generated pages")
)

// more surroundings, of which a document as a whole consists.
var frames = []struct {
	name string
	in   func(c judgeCase) judgeCase
}{
	{"", func(c judgeCase) judgeCase { return c }},
	{"a base of a noscript", wrapped(`<noscript><base href="¤/base/"></noscript>`, ``)},
	{"a base of a shadow tree", wrapped(`<div><template shadowrootmode="open"><base href="¤/base/"></template></div>`, ``)},
	{"a base that is refused", func(c judgeCase) judgeCase {
		c.headers = append(slices.Clone(c.headers), "Content-Security-Policy: base-uri 'none'")
		c.body = `<base href="¤/base/"><img alt="" src="rel.png">` + c.body
		return c
	}},
	{"a base of another scheme", wrapped(`<base href="data:,x">`, ``)},
	{"a policy without scripts", func(c judgeCase) judgeCase {
		c.headers = append(slices.Clone(c.headers), "Content-Security-Policy: script-src 'none'")
		return c
	}},
	{"a policy without pictures", wrapped(`<meta http-equiv="Content-Security-Policy" content="img-src https:">`, ``)},
	{"a policy that reports", func(c judgeCase) judgeCase {
		c.headers = append(slices.Clone(c.headers), "Content-Security-Policy-Report-Only: upgrade-insecure-requests")
		return c
	}},
	{"a policy in a template", wrapped(`<template><meta http-equiv="Content-Security-Policy" content="upgrade-insecure-requests"></template>`, ``)},
	{"a policy in a body", wrapped(`<body><p>x</p><meta http-equiv="Content-Security-Policy" content="upgrade-insecure-requests">`, ``)},
	{"two policies", func(c judgeCase) judgeCase {
		c.headers = append(slices.Clone(c.headers), "Content-Security-Policy: default-src * 'unsafe-inline' data: blob:, upgrade-insecure-requests")
		return c
	}},
	{"a sandboxed document", func(c judgeCase) judgeCase {
		c.body = `<body><iframe sandbox srcdoc="` + html.EscapeString(c.body) + `"></iframe>`
		return c
	}},
	{"a sandboxed document with scripts", func(c judgeCase) judgeCase {
		c.body = `<body><iframe sandbox="allow-scripts" srcdoc="` + html.EscapeString(c.body) + `"></iframe>`
		return c
	}},
	{"a frame of data", func(c judgeCase) judgeCase {
		if strings.Contains(c.body, "~") {
			return c
		}
		c.body = `<body><iframe src="data:text/html,` + url.PathEscape(c.body) + `"></iframe>`
		c.body = strings.ReplaceAll(c.body, url.PathEscape("¤"), "¤")
		return c
	}},
	{"a frame", func(c judgeCase) judgeCase {
		if c.files != nil {
			return c
		}
		c.files = map[string]string{"in.html": c.body}
		c.body = `<body><iframe src="~in.html"></iframe>`
		return c
	}},
	{"an object of a page", func(c judgeCase) judgeCase {
		if c.files != nil {
			return c
		}
		c.files = map[string]string{"in.html": c.body}
		c.body = `<body><object data="~in.html" type="text/html"></object>`
		return c
	}},
	{"a page without a charset", func(c judgeCase) judgeCase {
		c.typ, c.whole, c.body = "text/html", true, "<title>x</title>"+c.body
		return c
	}},
	{"quirks", func(c judgeCase) judgeCase { c.whole, c.body = true, "<html><body>"+c.body; return c }},
	{"details", wrapped(`<details><summary>x</summary>`, `</details>`)},
	{"a dialog", wrapped(`<dialog>`, `</dialog>`)},
	{"a list that is hidden", wrapped(`<div hidden><ul><li>`, `</ul></div>`)},
	{"a form", wrapped(`<form><fieldset disabled>`, `</fieldset></form>`)},
	{"a button", wrapped(`<button type=button>`, `</button>`)},
	{"an unknown element", wrapped(`<lamp-room><lamp-lens>`, `</lamp-lens></lamp-room>`)},
	{"a heading in a link", wrapped(`<a href="~x"><h2>`, `</h2></a>`)},
	{"a media of print", func(c judgeCase) judgeCase {
		c.body = strings.NewReplacer(`<style>`, `<style media=print>`, `<link `, `<link media=print `).Replace(c.body)
		return c
	}},
	{"supports", func(c judgeCase) judgeCase {
		c.body = strings.NewReplacer(`<style>`, `<style>@supports (display: block) {`, `</style>`, `}</style>`).Replace(c.body)
		return c
	}},
	{"a layer", func(c judgeCase) judgeCase {
		c.body = strings.NewReplacer(`<style>`, `<style>@layer one { @media all {`, `</style>`, `}}</style>`).Replace(c.body)
		return c
	}},
}

// elements and attributes for pages that combine any with any.
var (
	anyElements = strings.Fields(`a abbr address area article aside audio b base blockquote body br button canvas caption center col data datalist dd details div dl embed
		fieldset figure font footer form frame frameset g h1 head header hr html i iframe image img input ins label legend li link main map mark marquee menu meta meter nav object
		ol option output p param picture portal pre progress q rect s script search section select slot source span style sub summary svg table tbody td template textarea tfoot th time
		title tr track u ul use var video wbr x-lamp`)
	anyAttrs  = strings.Fields(`action archive background cite classid code codebase content data dynsrc formaction href icon imagesrcset longdesc lowsrc manifest ping poster profile src srcset usemap xlink:href data-src value`)
	anyExtras = []string{``, ` type="image/png"`, ` type="text/css"`, ` type="image"`, ` type="module"`, ` type="text/javascript; charset=utf-8"`, ` type="text/html"`, ` type=""`, ` rel="stylesheet"`, ` rel="icon"`, ` rel="preload" as="image"`,
		` rel="preload" as="script"`, ` rel="preload" as="style"`, ` rel="preload" as="font" crossorigin`, ` rel="preload" as="fetch"`, ` rel="modulepreload"`, ` rel="prefetch"`, ` rel="stylesheet" disabled`, ` rel="alternate stylesheet" title="x"`, ` rel="manifest"`,
		` rel="STYLESHEET"`, ` rel="shortcut icon"`, ` loading="lazy"`, ` media="print"`, ` media="(max-width: 1px)"`, ` crossorigin`, ` hidden`, ` sizes="1px"`, ` async defer`, ` preload="none"`, ` download`, ` nomodule`, ` fetchpriority="high"`}
	anyEndings = []string{"a.png", "a.css", "a.js", "a.html", "a.mp4", "a.svg", "a.woff2", "a.json", "a", "a.png 1x", "a.vtt"}
)

// anyPage makes a page of a few elements with whatever attributes.
func anyPage(r *rand.Rand) judgeCase {
	var b strings.Builder
	pick := func(list []string) string { return list[r.IntN(len(list))] }
	name := "any:"
	for range 1 + r.IntN(3) {
		element, attr, extra := pick(anyElements), pick(anyAttrs), pick(anyExtras)
		name += " " + element + " " + attr + extra
		fmt.Fprintf(&b, `<%s %s="¤/%s"%s>x</%s>`, element, attr, pick(anyEndings), extra, element)
	}
	return judgeCase{name: name, body: b.String()}
}

// generated makes pages: a way to load something, in one of the surroundings, in one of the documents; and pages of
// whatever elements.
func generated(n int, seed uint64) (out []judgeCase) {
	r := rand.New(rand.NewPCG(seed, 1))
	all := slices.DeleteFunc(slices.Concat(kinds, loads, written), func(c judgeCase) bool { return c.script })
	for len(out) < n {
		var c judgeCase
		if r.IntN(3) == 0 {
			c = anyPage(r)
		} else {
			c = all[r.IntN(len(all))]
		}
		if c.whole || c.typ != "" {
			continue
		}
		if r.IntN(2) == 0 {
			s := surroundings[r.IntN(len(surroundings))]
			c = s.in(c)
			c.name += " in " + s.name
		}
		if !c.whole && c.typ == "" {
			f := frames[r.IntN(len(frames))]
			c = f.in(c)
			c.name += " / " + f.name
		}
		out = append(out, c)
	}
	return out
}

// Of pages that a grammar makes Chromium reports nothing that a scan does not, with the same class; what we call certain it
// confirms; and no page of which it reports something ends with exit code 0.
func TestGrammarJudged(t *testing.T) {
	t.Parallel()
	tally(t, generated(*grammarPages, *grammarSeed))
}
