package beside

import (
	"bytes"
	"strconv"
	"unicode/utf8"
)

// Member is a string or a number of a document of keys and values, such as JSON or a serialized value.
type Member struct {
	Text  []byte // decoded
	Owner int    // the array or object that it is in, or of which it is a key
	Up    int    // the one that Owner is in
	Name  []byte // the key that leads to it; nil in a list
	Key   bool   // it is a key itself
	Whole bool   // it is a string that may hold an address, so that it may change
	Lead  int    // the number directly before it in the same list; -1 if none is there
}

// Link is a part of a member that is computed from other members: a length, or a digest.
type Link struct {
	Member int
	Token  Token
	parts  []part
	by     *Algorithm // nil: a length
	chars  bool       // a length in characters
}

// part is a piece of the text that a digest is of: a member, or what joins two of them.
type part struct {
	member int // -1: the text
	text   string
}

// Parts returns the members from which the link is computed.
func (l *Link) Parts() (all []int) {
	for _, p := range l.parts {
		if p.member >= 0 {
			all = append(all, p.member)
		}
	}
	return all
}

// Write returns what the link's token becomes, or "" if that is uncertain. text returns what becomes of a member.
func (l *Link) Write(members []Member, text func(member int) []byte) string {
	var b []byte
	for _, p := range l.parts {
		if p.member < 0 {
			b = append(b, p.text...)
		} else {
			b = append(b, text(p.member)...)
		}
	}
	if l.by == nil {
		if l.chars {
			return strconv.Itoa(utf8.RuneCount(b))
		}
		return strconv.Itoa(len(b))
	}
	return l.by.Write(members[l.Member].Text, l.Token, b)
}

// Bounds of looking for links.
const (
	holderMax = 4 << 10 // how long a member is at most in which tokens are looked for
	saltMax   = 256     // how long a member is at most that is joined with another
	joinedMax = 12      // with how many neighbours of a member it is joined
)

// joints are what may be between two values of which there is one digest.
var joints = []string{"", "|", ":", "-", "\n", ",", ";", "/", "_", " ", "."}

// Links returns which members are computed from others, of those that may change. A member that holds the length of
// another counts if its key says so, or if two of a list confirm each other: [[31,"http://…"],[24,"…"]].
func Links(members []Member) (all []Link) {
	f := finder{members: members, explained: map[int]bool{}, linked: map[tokenAt]bool{}}
	for _, m := range members {
		f.budget += 4 * len(m.Text)
	}
	f.budget += 1 << 16
	f.lengths()
	f.leads()
	f.digests()
	return f.all
}

type tokenAt struct{ member, start int }

type finder struct {
	members   []Member
	all       []Link
	holders   []int   // the member of each token
	tokens    []Token // of all members
	book      *Book
	explained map[int]bool // by token
	linked    map[tokenAt]bool
	budget    int
}

func (f *finder) link(l Link) {
	at := tokenAt{l.Member, l.Token.Start}
	if !f.linked[at] {
		f.linked[at] = true
		f.all = append(f.all, l)
	}
}

// lengths finds numbers whose key says that they are a length, of a member of the same container, of the one around it, or
// of one in it.
func (f *finder) lengths() {
	byOwner := map[int][]int{}
	for i, m := range f.members {
		if m.Whole && !m.Key {
			byOwner[m.Owner] = append(byOwner[m.Owner], i)
			if m.Up != m.Owner {
				byOwner[m.Up] = append(byOwner[m.Up], i)
			}
		}
	}
	if len(byOwner) == 0 {
		return
	}
	for i, m := range f.members {
		if m.Key || m.Name == nil || !SaysLength(m.Name) {
			continue
		}
		n, err := strconv.Atoi(string(m.Text))
		if err != nil || n < leastLength {
			continue
		}
		for _, k := range append(byOwner[m.Owner][:len(byOwner[m.Owner]):len(byOwner[m.Owner])], byOwner[m.Up]...) {
			if k != i && f.measures(i, k, n) {
				break
			}
		}
	}
}

// measures links member i, which is the number n, to member k if n is its length.
func (f *finder) measures(i, k, n int) bool {
	t := f.members[k].Text
	if len(t) != n && utf8.RuneCount(t) != n {
		return false
	}
	f.link(Link{Member: i, Token: Token{Start: 0, End: len(f.members[i].Text)}, parts: []part{{member: k}}, chars: len(t) != n})
	return true
}

// leads finds numbers directly before the text that they measure, in lists; one alone is not evidence.
func (f *finder) leads() {
	var found [][2]int
	confirmed := 0
	for i, m := range f.members {
		if m.Key || m.Lead < 0 {
			continue
		}
		if n, err := strconv.Atoi(string(f.members[m.Lead].Text)); err == nil && n == len(m.Text) && n > 0 {
			confirmed++
			if m.Whole && n >= leastLength {
				found = append(found, [2]int{m.Lead, i})
			}
		}
	}
	if confirmed < 2 {
		return
	}
	for _, pair := range found {
		f.measures(pair[0], pair[1], len(f.members[pair[1]].Text))
	}
}

// digests finds tokens that are digests of one member, or of two that are joined.
func (f *finder) digests() {
	for i, m := range f.members {
		if len(m.Text) < leastDigits-1 || len(m.Text) > holderMax {
			continue
		}
		for _, t := range Tokens(m.Text) {
			f.tokens = append(f.tokens, t)
			f.holders = append(f.holders, i)
		}
	}
	if len(f.tokens) == 0 {
		return
	}
	f.book = NewBook(f.tokens)
	for i, m := range f.members {
		if m.Whole {
			f.try(m.Text, []part{{member: i}})
		}
	}
	open := map[int]bool{} // the containers in which, or beside which, tokens are not explained
	for k := range f.tokens {
		if !f.explained[k] {
			h := f.members[f.holders[k]]
			open[h.Owner], open[h.Up] = true, true
		}
	}
	for i, m := range f.members {
		if m.Whole && !m.Key && (open[m.Owner] || open[m.Up]) {
			f.joined(i)
		}
	}
}

// joined tries member i together with its neighbours, in both orders.
func (f *finder) joined(i int) {
	m := f.members[i]
	tried := 0
	for d := 1; d <= 2*joinedMax && tried < joinedMax && f.budget > 0; d++ {
		for _, k := range []int{i - d, i + d} {
			if k < 0 || k >= len(f.members) {
				continue
			}
			o := f.members[k]
			if o.Key || len(o.Text) == 0 || len(o.Text) > saltMax || o.Owner != m.Owner && o.Owner != m.Up && o.Up != m.Owner {
				continue
			}
			tried++
			for _, joint := range joints {
				f.try(bytes.Join([][]byte{m.Text, o.Text}, []byte(joint)), []part{{member: i}, {-1, joint}, {member: k}})
				f.try(bytes.Join([][]byte{o.Text, m.Text}, []byte(joint)), []part{{member: k}, {-1, joint}, {member: i}})
			}
		}
	}
}

// try links the tokens that are digests of a text. None is a digest of what it is a part of.
func (f *finder) try(text []byte, parts []part) {
	if f.budget -= len(text); f.budget < 0 {
		return
	}
	f.book.Match(text, func(k int, by *Algorithm) {
		for _, p := range parts {
			if p.member == f.holders[k] {
				return
			}
		}
		f.explained[k] = true
		f.link(Link{Member: f.holders[k], Token: f.tokens[k], parts: parts, by: by})
	})
}
