package markup

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func use(text string) Use {
	return UsesOf([]byte(text), "").At(strings.Index(text, "http"))
}

func TestFieldLanguages(t *testing.T) {
	const picture = "http://fonts.example/a.png"
	for text, want := range map[string]Use{
		"![lens](" + picture + ")":                         Loads,
		"[lens](" + picture + ")":                          Opens,
		"![lens][a]\n\n[a]: " + picture:                    Loads,
		"[lens][a]\n\n[a]: " + picture:                     Text,
		"see !" + picture + "! there":                      Loads,
		"look!" + picture + " there":                       Text,
		"[img]" + picture + "[/img]":                       Loads,
		"[url=" + picture + "]lens[/url]":                  Opens,
		".. image:: " + picture:                            Loads,
		"image::" + picture + "[lens]":                     Loads,
		"link:" + picture + "[lens]":                       Opens,
		"{{" + picture + "|lens}}":                         Loads,
		"[[" + picture + "|lens]]":                         Opens,
		"[[File:" + picture + "|lens]]":                    Loads,
		"%21%5Blens%5D%28http%3A%2F%2Ffonts.example%2Fa":   Loads,
		"&lt;img src=&quot;" + picture + "&quot;&gt;":      Loads,
		"&amp;lt;img src=&amp;quot;" + picture + "&amp;qu": Loads,
		"&lt;a href=&quot;" + picture + "&quot;&gt;":       Opens,
		"a picture: " + picture + " of a lens":             Text,
	} {
		assert.Equal(t, want, use(text), text)
	}
}

// A field language is one row, read in each way in which it may be written.
func TestAddedFieldLanguage(t *testing.T) {
	const text = "picture<-http://fonts.example/a.png here"
	assert.Equal(t, Text, use(text))
	defer func(was []fieldLanguage) { fieldLanguages = was }(fieldLanguages)
	fieldLanguages = append(fieldLanguages[:len(fieldLanguages):len(fieldLanguages)], fieldLanguage{"arrows", "-", regexp.MustCompile(`picture<-$`), Loads, Image})
	defer func(was string) { fieldMarks = was }(fieldMarks)
	fieldMarks += "-"
	assert.Equal(t, Loads, use(text))
	assert.Equal(t, Loads, use("picture%3C-http%3A%2F%2Ffonts.example%2Fa.png here"))
}
