package laws

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"html"
	"io"
	"mime/quotedprintable"
	"net/url"
	"strings"
)

// quoted writes a text in quoted-printable, with lines of 76 characters.
func quoted(text string) string {
	var b bytes.Buffer
	w := quotedprintable.NewWriter(&b)
	if _, err := w.Write([]byte(text)); err != nil {
		panic(err)
	}
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.String()
}

// inLines breaks a text into lines.
func inLines(s string, width int, newline string) string {
	var b strings.Builder
	for len(s) > width {
		b.WriteString(s[:width] + newline)
		s = s[width:]
	}
	return b.String() + s + newline
}

// folded folds a long line as calendars and mail do.
func folded(s string, width int, newline string) string {
	var b strings.Builder
	for len(s) > width {
		b.WriteString(s[:width] + newline + " ")
		s = s[width:]
	}
	return b.String() + s
}

func zipped(text string) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write([]byte(text)); err != nil {
		panic(err)
	}
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// unquoted reads quoted-printable, of which no line may be longer than RFC 2045 says.
func unquoted(s string) string {
	for line := range strings.Lines(s) {
		if len(strings.TrimRight(line, "\r\n")) > 76 {
			return "a line is too long: " + line
		}
	}
	b, err := io.ReadAll(quotedprintable.NewReader(strings.NewReader(s)))
	if err != nil {
		return "cannot be read: " + err.Error()
	}
	return string(b)
}

// unfolded reads folded lines.
func unfolded(s string) string {
	return strings.NewReplacer("\r\n ", "", "\n ", "").Replace(s)
}

// unpackedParts reads the base64 in lines of a mail's last part.
func unpackedParts(s string) string {
	s = strings.ReplaceAll(s, "\r\n", "\n")
	head, body, ok := strings.Cut(s, "base64\n\n")
	if !ok {
		return s
	}
	body, tail, _ := strings.Cut(body, "--b42")
	b, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(body, "\n", ""))
	if err != nil {
		return "cannot be read: " + err.Error()
	}
	return head + string(b) + tail
}

// unzipped reads what is compressed after a mark.
func unzipped(s string) string {
	r, err := gzip.NewReader(strings.NewReader(strings.TrimPrefix(s, "lz1:")))
	if err != nil {
		return "cannot be read: " + err.Error()
	}
	b, err := io.ReadAll(r)
	if err != nil {
		return "cannot be read: " + err.Error()
	}
	return string(b)
}

func init() {
	addWhole("mail part in quoted-printable", either, func(g *gen, s string) string {
		return "Content-Type: text/html\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" + quoted(`<p class="x">`+g.words(4)+` <a href="`+g.own(s)+`">x</a> = `+g.words(3)+"</p>\r\n")
	})
	readAs(unquoted)
	addWhole("quoted-printable, soft break in the address", either, func(g *gen, s string) string {
		return quoted(g.words(9+g.IntN(4)) + " " + g.own(s) + g.path() + g.path() + " – " + g.words(9))
	})
	readAs(unquoted)
	addWhole("quoted-printable with signs as codes", secure, func(g *gen, s string) string {
		return `<a href=3D"` + s + "://" + g.host() + "/" + g.word() + `">x</a> caf=C3=A9`
	})
	addWhole("mail of two parts, base64 in lines", either, func(g *gen, s string) string {
		body := base64.StdEncoding.EncodeToString([]byte("<p>" + g.words(20) + ` <a href="` + g.own(s) + `">x</a> ` + g.words(20) + "</p>"))
		nl := g.pick("\r\n", "\n")
		return "--b42" + nl + "Content-Type: text/plain" + nl + nl + "See " + g.own(s) + nl + "--b42" + nl + "Content-Type: text/html" + nl + "Content-Transfer-Encoding: base64" + nl + nl + inLines(body, 76, nl) + "--b42--" + nl
	})
	readAs(unpackedParts)
	addWhole("base64 in lines of 64", either, func(g *gen, s string) string {
		return inLines(base64.StdEncoding.EncodeToString([]byte(g.words(20)+" "+g.own(s)+" "+g.words(30))), 64, "\n")
	})
	addWhole("calendar", either, func(g *gen, s string) string {
		return "BEGIN:VEVENT\r\nSUMMARY:" + g.words(2) + "\r\n" + folded("DESCRIPTION:"+g.words(6)+" "+g.own(s)+" "+g.words(8), 75, "\r\n") + "\r\n" + "URL:" + g.own(s) + "\r\nEND:VEVENT\r\n"
	})
	readAs(unfolded)
	addWhole("address card", either, func(g *gen, s string) string {
		return "BEGIN:VCARD\r\nVERSION:3.0\r\n" + folded("PHOTO;VALUE=URI:"+g.ownImage(s)+"?x="+g.words(1), 60, "\r\n") + "\r\nURL:" + g.own(s) + "\r\nEND:VCARD\r\n"
	})
	readAs(unfolded)
	addWhole("directory entry", either, func(g *gen, s string) string {
		u := g.own(s)
		return "dn: cn=" + g.word() + "\nlabeledURI: " + u + "\ndescription:: " + base64.StdEncoding.EncodeToString([]byte(g.words(3)+" "+u)) + "\n"
	})
	addWhole("folded header", either, func(g *gen, s string) string {
		return folded("List-Unsubscribe: <"+g.own(s)+"?list="+g.word()+">", 40, "\r\n") + "\r\nSubject: x\r\n"
	})
	readAs(unfolded)
	add("data address in base64", either, func(g *gen, s string) string {
		return `<iframe src="data:text/html;base64,` + base64.StdEncoding.EncodeToString([]byte(`<a href="`+g.own(s)+`">x</a>`)) + `"></iframe>`
	})
	add("data address, percent-encoded", secure, func(g *gen, s string) string {
		return `<iframe src="data:text/html,` + url.PathEscape(`<a href="`+g.own(s)+`">x</a>`) + `"></iframe>`
	})
	addWhole("compressed in base64", secure, func(g *gen, s string) string {
		in := php(pairs{"url", g.own(s), "x", g.words(3)})
		return hex.EncodeToString([]byte(in))
	})
	classes[len(classes)-1].name, classes[len(classes)-1].want = "hexadecimal digits of a serialized value", either
	addWhole("short code with a packed argument", secure, func(g *gen, s string) string {
		return `[raw]` + base64.StdEncoding.EncodeToString([]byte(url.PathEscape(`<a href="`+g.own(s)+`">`+g.word()+`</a>`))) + `[/raw]`
	})
	add("percent-coded HTML loads from another host", secure, func(g *gen, s string) string {
		return "content=" + url.QueryEscape(`<img src="`+g.cdn(s)+`" alt="x">`)
	})
	add("entity-coded HTML loads from another host", secure, func(g *gen, s string) string {
		return html.EscapeString(`<img src="` + g.cdn(s) + `" alt="` + g.word() + `">`)
	})
	add("twice entity-coded HTML loads from another host", secure, func(g *gen, s string) string {
		return html.EscapeString(html.EscapeString(`<img alt="" src="` + g.cdn(s) + `">`))
	})
	add("escaped HTML in a script loads from another host", secure, func(g *gen, s string) string {
		return `<div data-set="` + html.EscapeString(js(pairs{"html", `<img src="` + g.cdn(s) + `">`})) + `"></div>`
	})
	add("entity-coded HTML links to another host", same, func(g *gen, s string) string {
		return html.EscapeString(`<a href="` + s + `://fonts.example/about">` + g.word() + `</a>`)
	})
	addWhole("lines of columns with quotes doubled", secure, func(g *gen, s string) string {
		v := php(pairs{"url", g.own(s), "n", g.IntN(99)})
		return "id,settings\n1,\"" + strings.ReplaceAll(v, `"`, `""`) + "\"\n"
	})
	addWhole("lines of columns with JSON, quotes doubled", secure, func(g *gen, s string) string {
		v := js(pairs{"url", g.own(s), "n", g.IntN(99)})
		return "id,settings\n1,\"" + strings.ReplaceAll(v, `"`, `""`) + "\"\n"
	})
	add("a head in prose", secure, func(g *gen, s string) string {
		return "PHP writes " + g.pick("a:2:{ for an array", `s:5:"hello for a string`, "O:8:\"stdClass\":1:{ for an object", `s:3:" and so on`) + ", see " + g.own(s)
	})
	add("a head quoted in prose", secure, func(g *gen, s string) string {
		return "The value began with `a:2:{` and " + g.words(3) + ": " + g.own(s) + "."
	})
	addWhole("web archive of one page", either, func(g *gen, s string) string {
		body := "<html>" + g.words(3) + " " + g.own(s) + "</html>"
		return fmt.Sprintf("WARC/1.0\r\nWARC-Type: resource\r\nWARC-Target-URI: https://ternrock.example/\r\nContent-Length: %d\r\n\r\n%s\r\n\r\n", len(body), body)
	})
	addWhole("form of several parts", either, func(g *gen, s string) string {
		return "--x1\r\nContent-Disposition: form-data; name=\"url\"\r\n\r\n" + g.own(s) + "\r\n--x1--\r\n"
	})
	addRaw("compressed value with text before it", either, func(g *gen, s string) string {
		return "lz1:" + string(zipped(g.words(9)+" "+g.own(s)))
	})
	readAs(unzipped)
	addWhole("truncated base64", either, func(g *gen, s string) string {
		v := base64.StdEncoding.EncodeToString([]byte(`<a href="` + s + `://ternrock.example` + g.path() + `">` + strings.Repeat(g.word(), 9)))
		return v[:len(v)/4*4-3]
	})
	classes[len(classes)-1].want = left | same
}
