package laws

// Pictures and embeds of another host, in the languages of fields: what a page loads becomes secure, what it links to stays.
func init() {
	loads := func(name string, build func(g *gen, u string) string) {
		add("field language, load: "+name, secure, func(g *gen, s string) string { return build(g, g.cdn(s)) })
	}
	links := func(name string, build func(g *gen, u string) string) {
		add("field language, link: "+name, same, func(g *gen, s string) string {
			return build(g, s+"://fonts.example/"+g.word()+"/"+g.word())
		})
	}
	own := func(name string, build func(g *gen, u string) string) {
		add("field language, own: "+name, secure, func(g *gen, s string) string { return build(g, g.ownImage(s)) })
	}
	pictures := map[string]func(g *gen, u string) string{
		"Markdown":                      func(g *gen, u string) string { return "![" + g.words(2) + "](" + u + ")" },
		"Markdown with a title":         func(g *gen, u string) string { return "![" + g.words(2) + "](" + u + ` "` + g.word() + `")` },
		"Markdown in angle brackets":    func(g *gen, u string) string { return "![" + g.words(2) + "](<" + u + ">)" },
		"Markdown by reference":         func(g *gen, u string) string { return "![" + g.word() + "][one]\n\n[one]: " + u },
		"Markdown picture in a link":    func(g *gen, u string) string { return "[![x](" + u + ")](/visit)" },
		"Textile":                       func(g *gen, u string) string { return "!" + u + "!" },
		"Textile with a style":          func(g *gen, u string) string { return "!>" + u + "(" + g.word() + ")!" },
		"bulletin board":                func(g *gen, u string) string { return "[img]" + u + "[/img]" },
		"bulletin board, capitals":      func(g *gen, u string) string { return "[IMG width=300]" + u + "[/IMG]" },
		"reStructuredText":              func(g *gen, u string) string { return ".. image:: " + u + "\n   :alt: " + g.word() },
		"reStructuredText, figure":      func(g *gen, u string) string { return ".. figure:: " + u + "\n\n   " + g.word() },
		"reStructuredText, named":       func(g *gen, u string) string { return ".. |" + g.word() + "| image:: " + u },
		"AsciiDoc block":                func(g *gen, u string) string { return "image::" + u + "[" + g.word() + "]" },
		"AsciiDoc inline":               func(g *gen, u string) string { return "see image:" + u + "[] there" },
		"wiki, braces":                  func(g *gen, u string) string { return "{{" + u + "|" + g.word() + "}}" },
		"wiki, braces with size":        func(g *gen, u string) string { return "{{ " + u + "?200 }}" },
		"wiki, image macro":             func(g *gen, u string) string { return "[[Image(" + u + ")]]" },
		"wiki, file":                    func(g *gen, u string) string { return "[[File:" + u + "|thumb|" + g.word() + "]]" },
		"outline":                       func(g *gen, u string) string { return "[[" + u + "]]" },
		"short code in square brackets": func(g *gen, u string) string { return `[picture src="` + u + `"]` },
		"template tag":                  func(g *gen, u string) string { return `<img src="` + u + `" data-x="{{ x }}">` },
		"Markdown around HTML":          func(g *gen, u string) string { return "# " + g.word() + "\n\n<img src='" + u + "'>" },
		"gemtext":                       func(g *gen, u string) string { return "=> " + u + " " + g.word() },
		"wiki, exclamation marks":       func(g *gen, u string) string { return "!" + u + "|thumbnail!" },
	}
	for _, name := range []string{"Markdown", "Markdown with a title", "Markdown in angle brackets", "Markdown by reference", "Markdown picture in a link", "Textile", "Textile with a style", "bulletin board", "bulletin board, capitals", "reStructuredText", "reStructuredText, figure", "reStructuredText, named", "AsciiDoc block", "AsciiDoc inline", "wiki, braces", "wiki, braces with size", "wiki, image macro", "wiki, file", "short code in square brackets", "Markdown around HTML", "wiki, exclamation marks"} {
		loads(name, pictures[name])
		own(name, pictures[name])
	}
	for _, name := range []string{"outline", "gemtext"} {
		own(name, pictures[name])
	}
	links("Markdown", func(g *gen, u string) string { return "[" + g.words(2) + "](" + u + ")" })
	links("Markdown by reference", func(g *gen, u string) string { return "[" + g.words(2) + "][one]\n\n[one]: " + u })
	links("Markdown, bare", func(g *gen, u string) string { return "<" + u + ">" })
	links("Textile", func(g *gen, u string) string { return `"` + g.words(2) + `":` + u })
	links("bulletin board", func(g *gen, u string) string { return "[url=" + u + "]" + g.words(2) + "[/url]" })
	links("reStructuredText", func(g *gen, u string) string { return "`" + g.words(2) + " <" + u + ">`_" })
	links("AsciiDoc", func(g *gen, u string) string { return u + "[" + g.words(2) + "]" })
	links("AsciiDoc, named", func(g *gen, u string) string { return "link:" + u + "[" + g.words(2) + "]" })
	links("wiki", func(g *gen, u string) string { return "[" + u + " " + g.words(2) + "]" })
	links("wiki, double", func(g *gen, u string) string { return "[[" + u + "|" + g.words(2) + "]]" })
	links("in words", func(g *gen, u string) string { return g.words(3) + " " + u + ", " + g.words(3) })

	// Names that are not places.
	ident := func(name string, build func(g *gen, s string) string) { add("name: "+name, same, build) }
	ident("namespace", func(g *gen, s string) string { return `<svg xmlns="http://www.w3.org/2000/svg" width="9"></svg>` })
	ident("own namespace", func(g *gen, s string) string {
		return `<x:tide xmlns:x="http://ternrock.example/ns/` + g.word() + `"/>`
	})
	ident("prefixes", func(g *gen, s string) string {
		return `<html prefix="gr: http://ternrock.example/ns/` + g.word() + `# og: http://ogp.me/ns#">`
	})
	ident("document type", func(g *gen, s string) string {
		return `<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Strict//EN" "http://www.w3.org/TR/xhtml1/DTD/xhtml1-strict.dtd">`
	})
	ident("vocabulary", func(g *gen, s string) string { return `<div vocab="http://schema.org/" typeof="Museum"></div>` })
	ident("item type", func(g *gen, s string) string {
		return `<div itemscope itemtype="http://schema.org/` + g.word() + `"></div>`
	})
	ident("schema in JSON", func(g *gen, s string) string {
		return `{"$schema":"http://json-schema.org/draft-07/schema#","title":"` + g.word() + `"}`
	})
	ident("another host's link", func(g *gen, s string) string { return `<a href="http://fonts.example/` + g.word() + `">x</a>` })
	ident("longer host", func(g *gen, s string) string { return `http://ternrock.example.org/` + g.word() })
	ident("host that ends alike", func(g *gen, s string) string { return `http://nottternrock.example/` + g.word() })
	ident("style sheet's namespace", func(g *gen, s string) string { return `@namespace svg url(http://www.w3.org/2000/svg);` })
}
