package mixed

import (
	"bytes"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"golang.org/x/net/html"

	"trimlantern/core/markup"
)

// manyLinks is a page as sites have them: a menu, words, pictures, links.
func manyLinks() []byte {
	var b strings.Builder
	b.WriteString("<!DOCTYPE html><html><head><title>Page</title><link rel=stylesheet href=/style.css></head><body><nav>")
	for i := range 40 {
		fmt.Fprintf(&b, `<a href="https://ternrock.example/page/%d" class="menu-item">Room %d</a> `, i, i)
	}
	for i := range 30 {
		fmt.Fprintf(&b, `<p class="words">Between one tide and the next the keeper trims the lantern, writes into the logbook what the wind does, and counts the terns on the northern ledge; on most days nobody else does, and the light burns all the same. <a href="/page/%d">Onward</a></p>`, i*977)
		if i%6 == 0 {
			fmt.Fprintf(&b, `<img src="/media/%d.svg" alt="The ledge" width="420" srcset="/media/%d.svg 1x, /media/%d.svg 2x">`, i, i, i+1)
		}
	}
	return []byte(b.String())
}

func BenchmarkRead(b *testing.B) {
	page := manyLinks()
	u, err := url.Parse("https://ternrock.example/")
	if err != nil {
		b.Fatal(err)
	}
	for _, c := range []struct {
		name string
		do   func()
	}{
		{"tokens", func() {
			for z := html.NewTokenizer(bytes.NewReader(page)); z.Next() != html.ErrorToken; {
			}
		}},
		{"walk", func() { markup.WalkHTML(page, markup.Markup{Tag: func(string, []markup.Attr) {}}) }},
		{"read", func() { HTML(page, u) }},
	} {
		b.Run(c.name, func(b *testing.B) {
			b.SetBytes(int64(len(page)))
			b.ReportAllocs()
			for b.Loop() {
				c.do()
			}
		})
	}
	memo := &Memo{}
	b.Run("remembered", func(b *testing.B) {
		b.SetBytes(int64(len(page)))
		b.ReportAllocs()
		for b.Loop() {
			Read(Answer{URL: u, Type: "text/html", Body: page, Memo: memo})
		}
	})
}
