package system

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A system is told by its tables together and by their columns, never by a name alone.
func TestRecognise(t *testing.T) {
	l, err := Get("wordpress")
	require.NoError(t, err)
	all := func(short string) []string { return l.Columns[short] }
	family := []Seen{{Name: "xoptions", Columns: all("options")}, {Name: "xposts", Columns: all("posts")}, {Name: "xpostmeta", Columns: all("postmeta")}}
	for _, c := range []struct {
		why   string
		seen  []Seen
		table string
		want  Known
		known bool
	}{
		{"behind a prefix without an underscore", family, "xposts", Known{Short: "posts"}, true},
		{"one site of several", append(family[:3:3], Seen{Name: "x2_posts", Columns: all("posts")}), "x2_posts", Known{Short: "posts"}, true},
		{"another table of that ending", append(family[:3:3], Seen{Name: "xforum_posts", Columns: []string{"id", "guid", "post_title"}}), "xforum_posts", Known{}, false},
		{"one table, with all columns", []Seen{{Name: "x_posts", Columns: append(all("posts"), "more")}}, "x_posts", Known{Short: "posts"}, true},
		{"one table, with some", []Seen{{Name: "x_posts", Columns: []string{"ID", "guid", "post_title"}}}, "x_posts", Known{}, false},
		{"one table, with no underscore", []Seen{{Name: "signposts", Columns: all("posts")}}, "signposts", Known{}, false},
		{"columns that nobody names", []Seen{{Name: "x_posts", Width: len(all("posts"))}}, "x_posts", Known{Short: "posts", Columns: all("posts")}, true},
		{"another number of them", []Seen{{Name: "x_posts", Width: 5}}, "x_posts", Known{}, false},
		{"another number, in the family", append(family[:1:1], Seen{Name: "xposts", Width: 5}, family[2]), "xposts", Known{Short: "posts", Blind: true}, true},
		{"a family with other columns", []Seen{{Name: "xoptions", Columns: []string{"id"}}, {Name: "xposts", Columns: []string{"id"}}, {Name: "xpostmeta", Columns: []string{"id"}}}, "xoptions", Known{}, false},
	} {
		got, known := l.Recognise(c.seen)[c.table]
		assert.Equal(t, c.known, known, c.why)
		assert.Equal(t, c.want, got, c.why)
	}
	own, err := Parse([]byte("name: own\ntables: [pages]\ncaches: [{table: sessions}]\n"))
	require.NoError(t, err)
	known := own.Recognise([]Seen{{Name: "pages", Columns: []string{"id"}}, {Name: "sessions", Columns: []string{"id"}}, {Name: "yoga_sessions", Columns: []string{"id"}}})
	assert.Equal(t, map[string]Known{"pages": {Short: "pages"}, "sessions": {Short: "sessions"}}, known)
}
