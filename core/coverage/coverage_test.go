package coverage

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An address is in one state, whatever is said of it and in which order: the one that tells most.
func TestOneState(t *testing.T) {
	all := []Cause{}
	for c := range causes {
		if c.State() != Unseen {
			all = append(all, c)
		}
	}
	for _, a := range all {
		for _, b := range all {
			l := New(nil)
			l.Set(Mark{URL: "https://ternrock.example/", Cause: a})
			l.Set(Mark{URL: "https://ternrock.example/", Cause: b})
			s := l.Summary(5)
			require.Len(t, s.Lines, 1, "%s, %s", a, b)
			require.Equal(t, []int{1, 1}, []int{s.Addresses, s.Lines[0].Count}, "%s, %s", a, b)
			want := a
			if causes[b].rank > causes[a].rank {
				want = b
			}
			require.Equal(t, want, l.Of("https://ternrock.example/"))
			require.Equal(t, []Example{{URL: "https://ternrock.example/"}}, s.Lines[0].Examples)
		}
	}
}

// Each cause has a state that States lists, and the verdict is a function of the causes alone.
func TestVerdict(t *testing.T) {
	for c, row := range causes {
		assert.Contains(t, States, row.state, c)
		l := New(nil)
		l.Set(Mark{URL: "https://ternrock.example/", Cause: AsDocument})
		assert.True(t, l.Summary(1).Complete)
		l.Set(Mark{URL: "https://ternrock.example/other", Cause: c})
		assert.Equal(t, !row.blocks, l.Summary(1).Complete, c)
	}
	for c, row := range causes {
		for _, k := range []Kind{Page, Part, Thing} {
			assert.Contains(t, Clauses, c.clause(k), c)
		}
		assert.Equal(t, row.blocks, Names(string(c)), c)
	}
	l := New(nil)
	assert.False(t, l.Summary(1).Complete, "nothing was looked at")
	l.Set(Mark{URL: "https://ternrock.example/s.css", Kind: Part, Cause: AsDocument})
	assert.False(t, l.Summary(1).Complete, "no page was looked at")
	l.Set(Mark{URL: "https://ternrock.example/x", Cause: "a lamp"})
	assert.Equal(t, 1, l.Len(), "a cause that is not known says nothing")
}

func TestSummary(t *testing.T) {
	l := New(nil)
	for i := range 700 {
		l.Set(Mark{URL: fmt.Sprint("https://ternrock.example/", i), Cause: AsDocument})
		l.Set(Mark{URL: fmt.Sprint("https://ternrock.example/p", i), Cause: MaxPages, Note: "--pages"})
	}
	l.Set(Mark{URL: "https://ternrock.example/s.css", Kind: Part, Cause: NoAnswer})
	l.Set(Mark{URL: "https://ternrock.example/a.png", Kind: Thing, Cause: Bare})
	s := l.Summary(2)
	assert.Equal(t, []int{1402, 700, 1400, 0, 1, 1}, []int{s.Addresses, s.PagesRead, s.PagesKnown, s.PartsRead, s.PartsKnown, s.NotAsked})
	assert.Equal(t, 700, s.Count(MaxPages, MaxDepth))
	require.Len(t, s.Blocking(), 3)
	assert.Equal(t, Line{State: Excluded, Cause: MaxPages, Kind: "page", Count: 700, Blocks: true, Clause: Addresses, Examples: []Example{{"https://ternrock.example/p0", "--pages"}, {"https://ternrock.example/p1", "--pages"}}, Patterns: []Shape{{"https://ternrock.example/p#", 700}}}, s.Blocking()[0])
}

// What is not seen as each visitor sees it is a line besides the address's own, which a look clears, and which the owner
// can accept by its clause or its cause, and no longer accept.
func TestClauses(t *testing.T) {
	l := New(nil)
	for _, u := range []string{"a", "b", "c"} {
		l.Set(Mark{URL: u, Cause: AsDocument})
		l.Set(Mark{URL: u, Cause: Unrun})
		l.Set(Mark{URL: u, Cause: Unrun})
	}
	l.Set(Mark{URL: "d", Cause: Password})
	l.Clear("b", Unrun)
	s := l.Summary(5)
	assert.Equal(t, []int{4, 3, 4}, []int{s.Addresses, s.PagesRead, s.PagesKnown})
	open := func() (out []string) {
		for _, c := range s.Clauses {
			if !c.Closed {
				out = append(out, fmt.Sprint(c.Clause, " ", c.Open))
			}
		}
		return out
	}
	assert.Equal(t, []string{"scripts 2", "walls 1"}, open())
	assert.Len(t, s.Blocking(), 2)
	s.Accept(map[string]string{"scripts": "they load nothing"})
	assert.Equal(t, []string{"walls 1"}, open())
	assert.False(t, s.Complete)
	s.Accept(map[string]string{"unrun": "they load nothing", "walls": "the keepers' pages"})
	assert.Empty(t, open())
	assert.True(t, s.Complete)
	assert.Empty(t, s.Blocking())
	assert.Len(t, s.Accepted(), 2)
	s.Accept(nil)
	assert.False(t, s.Complete)
	assert.Equal(t, []bool{true, true, false, false}, []bool{Names("scripts"), Names("unrun"), Names("gone"), Names("a lamp")})
}

// A trap is named by what its addresses have in common.
func TestPatterns(t *testing.T) {
	l := New(nil)
	for i := range 40 {
		l.Set(Mark{URL: fmt.Sprintf("https://ternrock.example/cal/%d/%d", 1900+i, i), Cause: MaxPages})
		l.Set(Mark{URL: fmt.Sprintf("https://ternrock.example/shop?sort=%d&by=x%d", i, i), Cause: MaxPages})
		l.Set(Mark{URL: fmt.Sprintf("https://ternrock.example/shop?by=y%d&sort=%d", i, i), Cause: MaxPages})
	}
	l.Set(Mark{URL: "https://ternrock.example/one", Cause: MaxPages})
	assert.Equal(t, []Shape{{"https://ternrock.example/shop?by=…&sort=…", 80}, {"https://ternrock.example/cal/#/#", 40}}, l.Summary(1).Lines[0].Patterns)
}

// Each site of a network has numbers of its own, and together they are those of all.
func TestGroups(t *testing.T) {
	l := New(func(u string) string { return strings.Split(u, "/")[2] })
	for i, host := range []string{"ternrock.example", "shop.ternrock.example", "shop.ternrock.example"} {
		l.Set(Mark{URL: fmt.Sprintf("https://%s/%d", host, i), Cause: AsDocument})
	}
	l.Set(Mark{URL: "https://shop.ternrock.example/cart", Cause: Password})
	l.Set(Mark{URL: "https://tides.example/", Cause: Elsewhere})
	assert.Equal(t, []string{"shop.ternrock.example", "ternrock.example"}, l.Groups())
	one, other, all := l.SummaryOf("ternrock.example", 5), l.SummaryOf("shop.ternrock.example", 5), l.Summary(5)
	assert.Equal(t, []bool{true, false, false}, []bool{one.Complete, other.Complete, all.Complete})
	assert.Equal(t, []int{1, 2, 3}, []int{one.PagesRead, other.PagesRead, all.PagesRead})
	assert.Equal(t, 5, all.Addresses)
	assert.Equal(t, Line{State: Read, Cause: AsDocument, Kind: "page", Count: 3, Clause: Addresses, Examples: []Example{{"https://ternrock.example/0", ""}, {"https://shop.ternrock.example/1", ""}, {"https://shop.ternrock.example/2", ""}}, Patterns: []Shape{}}, all.Lines[0])
}

// What a crawl with a session must not follow, and what only looks like it.
func TestActs(t *testing.T) {
	for _, c := range []struct {
		path     string
		acts     Cause
		signedIn Cause
	}{
		{"/wp-login.php?action=logout&_wpnonce=1f2e", Session, Session},
		{"/wp-login.php?action=lostpassword", "", ""},
		{"/wp-login.php", "", ""},
		{"/?action=delete&id=1", Acting, Acting},
		{"/?action=delete&id=1&_wpnonce=1", Session, Session},
		{"/delete?id=1", Acting, Acting},
		{"/how-to/delete", "", Acting},
		{"/account/logout/", "", Session},
		{"/account/logout?now=1", Session, Session},
		{"/sign-out.php", "", Session},
		{"/?add-to-cart=12", Acting, Acting},
		{"/shop/?remove_item=9", Acting, Acting},
		{"/lamp/?replytocom=7#respond", Session, Session},
		{"/wp-admin/post.php?post=3&action=edit", Session, Session},
		{"/admin/", "", Acting},
		{"/?token_csrf=1", Session, Session},
		{"/how-to-delete-a-cookie/", "", ""},
		{"/logout-times/", "", ""},
		{"/vote/", "", ""},
		{"/?action=show", "", ""},
		{"/?p=delete", "", ""},
		{"/administration-of-lights/", "", ""},
		{"/", "", ""},
	} {
		u, err := url.Parse("https://ternrock.example" + c.path)
		require.NoError(t, err)
		assert.Equal(t, []Cause{c.acts, c.signedIn}, []Cause{Acts(u, false), Acts(u, true)}, c.path)
	}
}
