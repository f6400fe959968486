package fetch

import (
	"bytes"
	"compress/gzip"
	"encoding/xml"
	"io"
	"strings"

	"github.com/temoto/robotstxt"
)

// Sitemap reads a site map or an index of site maps (sitemaps.org 0.9), packed with
// gzip or not, as XML or as a text with an address in each line, or a feed in its place: the addresses of pages, in other
// languages too, and of further maps, up to a bound. They are absolute or relative to the map.
func Sitemap(b []byte, most int) (pages, maps []string, err error) {
	if bytes.HasPrefix(b, []byte{0x1f, 0x8b}) {
		z, err := gzip.NewReader(bytes.NewReader(b))
		if err != nil {
			return nil, nil, err
		}
		if b, err = io.ReadAll(io.LimitReader(z, maxBody)); err != nil {
			return nil, nil, err
		}
	}
	if !bytes.HasPrefix(bytes.TrimLeft(b, "\xef\xbb\xbf \t\r\n"), []byte("<")) {
		for line := range strings.Lines(string(b)) {
			if line = strings.Trim(line, "\ufeff \t\r\n"); line != "" && len(pages) < most {
				pages = append(pages, line)
			}
		}
		return pages, nil, nil
	}
	d := xml.NewDecoder(bytes.NewReader(b))
	d.Strict = false
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // addresses are ASCII
	var path []string
	for len(pages)+len(maps) < most {
		tok, err := d.Token()
		if err == io.EOF {
			return pages, maps, nil
		}
		if err != nil {
			return pages, maps, err
		}
		switch t := tok.(type) {
		case xml.StartElement:
			if len(path) > 16 {
				return pages, maps, nil
			}
			path = append(path, t.Name.Local)
			for _, a := range t.Attr {
				if t.Name.Local == "link" && a.Name.Local == "href" { // another language, or an entry of Atom
					pages = append(pages, a.Value)
				}
			}
		case xml.EndElement:
			path = path[:max(len(path)-1, 0)]
		case xml.CharData:
			text := strings.TrimSpace(string(t))
			if len(path) < 2 || text == "" {
				continue
			}
			switch inner, outer := path[len(path)-1], path[len(path)-2]; {
			case inner == "loc" && outer == "sitemap":
				maps = append(maps, text)
			case inner == "loc" && outer == "url", inner == "link" && (outer == "item" || outer == "channel"):
				pages = append(pages, text)
			}
		}
	}
	return pages, maps, nil
}

// Rules are what a robots.txt says.
type Rules struct{ group *robotstxt.Group }

// Robots reads a robots.txt (RFC 9309) and returns its rules for us and the site maps
// that it names. What cannot be read forbids nothing.
func Robots(status int, b []byte) (*Rules, []string) {
	data, err := robotstxt.FromStatusAndBytes(status, shortLines(b))
	if err != nil {
		return &Rules{}, nil
	}
	return &Rules{data.FindGroup("TrimLantern")}, data.Sitemaps
}

// maxRule is the longest line of a robots.txt that is read to its end. A rule with thousands of stars, as in
// `Disallow: /*/*/*…`, would cost seconds for each address; cut off, it forbids more, never less.
const maxRule = 1 << 10

func shortLines(b []byte) []byte {
	var out []byte
	for line := range bytes.Lines(b) {
		if len(line) > maxRule {
			line = append(bytes.Clone(line[:maxRule]), '\n')
		}
		out = append(out, line...)
	}
	return out
}

// Allows reports whether a path, with its query, may be asked for.
func (r *Rules) Allows(path string) bool { return r == nil || r.group == nil || r.group.Test(path) }
