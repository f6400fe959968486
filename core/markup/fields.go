package markup

import (
	"bytes"
	"regexp"
	"strings"

	"trimlantern/core/text"
)

// fieldLanguage is one way in which a language for fields, other than HTML, holds an address. To add one, add a row.
type fieldLanguage struct {
	name   string
	ends   string         // what its last character may be, blanks apart: a first look; "": any
	before *regexp.Regexp // what is directly before the address, in plain spelling
	use    Use
	kind   Kind
}

// fieldLanguages is the one table of them; the first row that fits counts. What a page does with an address is written
// before it in all of them, so that `![lens](http://…)` loads and `[lens](http://…)` does not.
var fieldLanguages = []fieldLanguage{
	{"Markdown, picture", "(<", regexp.MustCompile(`!\[[^\[\]\n]{0,200}\]\(\s?<?$`), Loads, Image},
	{"Markdown, link", "(<", regexp.MustCompile(`\[[^\[\]\n]{0,200}\]\(\s?<?$`), Opens, ""},
	{"BBCode, media", "]", regexp.MustCompile(`(?i)\[(img|image|picture|photo|video|audio|media|embed|flash|swf|youtube|iframe)\b[^\[\]\n]{0,80}\]\s?$`), Loads, Image},
	{"BBCode, link", "=]", regexp.MustCompile(`(?i)\[(url|link|a)(=["']?|\])$`), Opens, ""},
	{"reStructuredText, picture", ":", regexp.MustCompile(`\.\. (\|[^|\n]{1,80}\| )?(image|figure|video|audio)::\s{1,8}$`), Loads, Image},
	{"AsciiDoc, media", ":", regexp.MustCompile(`(^|[\s(\[|="'>])(image|video|audio)::?$`), Loads, Image},
	{"AsciiDoc, link", ":", regexp.MustCompile(`(^|[\s(\[|="'>])link:$`), Opens, ""},
	{"wiki, picture", ":(", regexp.MustCompile(`(?i)\[\[\s?(file|image|img|media|picture)\s?[:(]\s?$`), Loads, Image},
	{"wiki, link", "[", regexp.MustCompile(`\[\[\s?$`), Opens, ""},
	{"wiki, braces", "{", regexp.MustCompile(`(^|[^{])\{\{\s?$`), Loads, Image},
	{"Textile, link", ":", regexp.MustCompile(`":$`), Opens, ""},
}

// textile is a picture of Textile and of wikis like it: !http://…!, with how it is placed before it. Since an
// exclamation mark may end a sentence, the address must be followed by one too: we must not take "Look!http://… there" for
// a picture.
var textile = struct{ before, after *regexp.Regexp }{
	regexp.MustCompile(`(^|[\s>(\[|="'])!([<>=]|\([^()\n]{0,40}\)|\{[^{}\n]{0,80}\}|\[[a-z-]{2,8}\]){0,4}$`),
	regexp.MustCompile(`^[^\s"'<>!]+!(\W|$)`),
}

// definition is an address that Markdown names: [lens]: http://…
var definition = regexp.MustCompile(`(^|\n) {0,3}\[([^\[\]\n]{1,80})\]:\s?<?$`)

// fieldMax is how many characters before an address are looked at.
const fieldMax = 240

// fieldMarks are the characters of which one is among the last of what is before an address in any of the languages: a
// first look.
var fieldMarks = "(<]:[{!=|) >\n"

// fieldUse returns what a page does with the address at start if a language for fields says so, otherwise Text.
func fieldUse(b []byte, start int) Use {
	if start == 0 || strings.IndexByte(fieldMarks+"+0123456789abcdefABCDEF;\\", b[start-1]) < 0 {
		return Text
	}
	if c, _, _ := text.Before(b, start); !strings.ContainsRune(fieldMarks, c) && (c != '+' || !inForm(b, start)) {
		return Text
	}
	head := plainHead(b, start, fieldMax)
	last := strings.TrimRight(head, " \t\r\n")
	if last != "" {
		last = last[len(last)-1:]
	}
	for i := range fieldLanguages {
		if l := &fieldLanguages[i]; (l.ends == "" || last != "" && strings.Contains(l.ends, last)) && l.before.MatchString(head) {
			return l.use
		}
	}
	if !strings.ContainsAny(head, "!]") {
		return Text
	}
	if textile.before.MatchString(head) && textile.after.MatchString(plainTail(b, start, fieldMax)) {
		return Loads
	}
	if m := definition.FindStringSubmatch(head); m != nil && pictured(b, start, m[2]) {
		return Loads
	}
	return Text
}

// definitionMax is how far before its definition a picture may be that uses it.
const definitionMax = 1000

// pictured reports whether a picture before or after the definition at start uses its name.
func pictured(b []byte, start int, name string) bool {
	around := strings.ToLower(plainHead(b, start, definitionMax) + "\n" + plainTail(b, start, definitionMax))
	name = strings.ToLower(name)
	if strings.Contains(around, "!["+name+"]") {
		return true
	}
	for rest := around; ; {
		i := strings.Index(rest, "]["+name+"]")
		if i < 0 {
			return false
		}
		if open := strings.LastIndexByte(rest[:i], '['); open > 0 && rest[open-1] == '!' {
			return true
		}
		rest = rest[i+2:]
	}
}

// plainHead is text.Head, with blanks for the plus signs of a form.
func plainHead(b []byte, start, size int) string {
	head := text.Head(b, start, size)
	if inForm(b, start) {
		head = strings.ReplaceAll(head, "+", " ")
	}
	return head
}

// plainTail is text.Tail, with blanks for the plus signs of a form.
func plainTail(b []byte, start, size int) string {
	tail := text.Tail(b, start, size)
	if inForm(b, start) {
		tail = strings.ReplaceAll(tail, "+", " ")
	}
	return tail
}

// inForm reports whether the address at start is percent-encoded, so that a plus sign around it is a blank.
func inForm(b []byte, start int) bool { return bytes.IndexByte(b[start:min(len(b), start+8)], '%') > 0 }

// tagOpens are the ends of the ways in which the beginning of a tag is written through one layer or two: %3C, %253c, &lt;,
// &amp;lt;, &#60;, &#x3c;, \u003c.
var tagOpens = [][]byte{[]byte("3c"), []byte("3C"), []byte("lt;"), []byte("60;")}

// mayBeTag reports whether a tag may be written through escapes before start: a first look.
func mayBeTag(b []byte, start int) bool {
	near := b[max(0, start-2*tagMax):start]
	for _, open := range tagOpens {
		if bytes.Contains(near, open) {
			return true
		}
	}
	return false
}

// tagMax is how many characters before an address are looked at for the tag that it is in.
const tagMax = 1000

// TagLayers returns the layers through which the tag is written that holds what begins at start; none if it is in no tag, or
// in one that is written as it is.
func TagLayers(b []byte, start int) []text.Layer {
	if !mayBeTag(b, start) {
		return nil
	}
	for p, n := start, 0; p > 0 && n < tagMax; n++ {
		c, from, ok := text.Before(b, p)
		if !ok || c == '>' {
			return nil
		}
		if c == '<' {
			if all := text.Stacks(b, from, p, '<'); len(all) > 0 {
				return all[0].Layers()
			}
			return nil
		}
		p = from
	}
	return nil
}

// tagUse returns what a page does with the address at start as an attribute of a tag that is written through escapes, as
// in &lt;img src=&quot;http://…; Text if it is not in one.
func tagUse(b []byte, start int) Use {
	if !mayBeTag(b, start) {
		return Text
	}
	head := plainHead(b, start, tagMax)
	open := strings.LastIndexByte(head, '<')
	if open < 0 || open+1 == len(head) || head[open+1]|0x20 < 'a' || head[open+1]|0x20 > 'z' {
		return Text
	}
	tag := []byte(head[open:] + "x")
	at := len(tag) - 1
	use := Text
	for _, end := range []string{`">`, `'>`, ">"} {
		WalkHTML(append(tag[:at+1:at+1], end...), Markup{Tag: func(_ string, attrs []Attr) {
			for _, a := range attrs {
				if use == Text && a.Start <= at && at < a.End && a.End == at+1 {
					if use = a.Context.Use; use == Loads {
						use = dataUse(tag[a.Start:a.End])
					}
				}
			}
		}})
	}
	return use
}
