// Package decide puts together what is left for a person to decide, and records what they decide.
package decide

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/core/mixed"
	"trimlantern/core/point"
	"trimlantern/core/rewrite"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/preview"
)

// List is what is left for a person to decide: from the newest preview, the last scan, ready and redirect test.
type List struct {
	Site     string   `json:"site"`
	Items    []Item   `json:"items"`
	Decided  int      `json:"decided"`  // decisions that the site file holds
	Preview  string   `json:"preview"`  // when the newest one was made; "": there is none
	Part     bool     `json:"part"`     // it was of a part of the site
	Scan     string   `json:"scan"`     // the same of the last scan
	Old      bool     `json:"old"`      // the site was changed since the scan: what it found is not listed
	Outdated []string `json:"outdated"` // "ready", "redirect test": what they looked at was changed since, and what they found is not listed
	More     int      `json:"more"`     // findings of a kind that are not listed one by one
}

// Open returns how many items wait for a decision.
func (w *List) Open() (n int) {
	for _, i := range w.Items {
		if i.Pending == "" {
			n++
		}
	}
	return n
}

// Code is the exit code that it comes to.
func (*List) Code() int { return work.Clean }

// Item is one thing to decide on.
type Item struct {
	Number  int         `json:"number"`
	Finding string      `json:"finding"`          // a stable name of its kind
	Reason  string      `json:"reason,omitempty"` // why preview leaves it
	URL     string      `json:"url,omitempty"`
	Host    string      `json:"host,omitempty"`
	Class   mixed.Class `json:"class,omitempty"` // what a browser does with it, as the last scan saw it
	Places  []string    `json:"places"`          // where it is stored, the first of them
	Stored  int         `json:"stored"`          // how often
	Pages   int         `json:"pages"`           // on how many documents the last scan saw it
	On      string      `json:"on,omitempty"`    // one of them
	What    string      `json:"what,omitempty"`  // of a point: what was seen
	Note    string      `json:"note,omitempty"`
	Choices []string    `json:"choices"`           // the subcommands of decide that answer it
	Pending string      `json:"pending,omitempty"` // it is decided, and the next preview or scan goes by it

	key   string
	left  change.Left   // the first of its findings in preview
	lefts []change.Left // all of them, as far as they are kept
}

// maxLefts is how many findings of one item are kept.
const maxLefts = 2000

// maxItems bounds a work list.
const maxItems = 5000

// maxItemPlaces is how many places of one item are named.
const maxItemPlaces = 5

// collecting puts a work list together.
type collecting struct {
	job  *work.Job
	out  *List
	at   map[string]int // items by key
	urls map[string]string
}

// WorkList puts together what needs a decision, from what the logbook holds.
func WorkList(j *work.Job) (*List, error) {
	c := &collecting{job: j, at: map[string]int{}, urls: j.AcceptedURLs(), out: &List{Site: j.Site.String(), Items: []Item{},
		Decided: len(Decisions(j).Decisions)}}
	pending, err := c.preview()
	if err != nil {
		return nil, err
	}
	if err := c.scan(pending); err != nil {
		return nil, err
	}
	points, outdated, err := lastPoints(j)
	if err != nil {
		return nil, err
	}
	c.out.Outdated = outdated
	for _, p := range points {
		if !p.Counts() {
			continue
		}
		choices := []string{"accept"}
		if p.Grade == point.Stop {
			choices = []string{} // what stops visitors is fixed, not decided
		}
		c.add(Item{Finding: p.ID, What: p.What, Note: p.Do, Places: p.About, Choices: choices, key: p.Key()})
	}
	slices.SortStableFunc(c.out.Items, func(a, b Item) int {
		return cmp.Or(weight(a.Class)-weight(b.Class), strings.Compare(a.Finding, b.Finding), b.Stored-a.Stored, strings.Compare(a.URL, b.URL))
	})
	return c.out, c.number()
}

// weight puts what browsers act on first, and what no scan has seen last.
func weight(c mixed.Class) int {
	if c == "" {
		return len(mixed.Classes)
	}
	return findings.Rank(c)
}

// add adds an item, unless the list is full.
func (c *collecting) add(i Item) *Item {
	if len(c.out.Items) >= maxItems {
		c.out.More++
		return nil
	}
	if i.Places == nil {
		i.Places = []string{}
	}
	if c.job.IsDump() { // there is no folder for copies
		i.Choices = slices.DeleteFunc(i.Choices, func(c string) bool { return c == "adopt" })
	}
	c.at[i.key] = len(c.out.Items)
	c.out.Items = append(c.out.Items, i)
	return &c.out.Items[len(c.out.Items)-1]
}

// preview takes what the newest sheet left for a person. It reports whether the sheet has changes that are
// not made yet.
func (c *collecting) preview() (pending bool, err error) {
	j := c.job
	id, header, end, err := j.LastSheetOf(preview.References)
	if err != nil || id == "" {
		return false, err
	}
	c.out.Preview, c.out.Part = header.Time, !header.Choice.All()
	runs, err := j.Runs()
	if err != nil {
		return false, err
	}
	pending = end.Changes() > 0 && !slices.ContainsFunc(runs, func(r *work.JournalState) bool { return r.Header.Sheet == id })
	f, err := j.Book.OpenSheet(id)
	if errors.Is(err, fs.ErrNotExist) {
		return pending, nil
	}
	if err != nil {
		return pending, work.BookFault(err)
	}
	defer f.Close()
	err = change.EachLeft(f, c.left)
	if err != nil {
		return pending, work.Failed(err, "the change sheet cannot be read", "make a new one: trimlantern preview")
	}
	return pending, nil
}

// left takes one finding of a sheet.
func (c *collecting) left(l *change.Left) {
	if !l.Reason.NeedsPerson() {
		return
	}
	finding, of := work.About(l)
	if c.job.Accepted(finding, of) != "" {
		return
	}
	if decision := c.job.File.Hosts[l.Host]; work.ByAddress[l.Reason] && (decision == "secure" || decision == "leave") {
		return
	}
	key := finding + " " + of
	n, ok := c.at[key]
	if !ok {
		i := Item{Finding: finding, Reason: string(l.Reason), URL: l.URL, Host: l.Host, Note: l.Note, Choices: choicesFor(l), key: key, left: *l}
		if c.decided(&i); c.add(i) == nil {
			return
		}
		n = c.at[key]
	}
	i := &c.out.Items[n]
	i.Stored += l.Count
	if len(i.lefts) < maxLefts {
		i.lefts = append(i.lefts, *l)
	}
	if where := placeWords(l); len(i.Places) < maxItemPlaces && !slices.Contains(i.Places, where) {
		i.Places = append(i.Places, where)
	}
}

// decided marks an item that the next preview takes care of.
func (c *collecting) decided(i *Item) {
	for _, r := range c.job.File.Replaced {
		if i.URL != "" && work.SameURL(r.From) == work.SameURL(i.URL) {
			i.Pending = r.To
		}
	}
	for _, e := range c.job.File.Edited {
		if i.left.Column != "" && e.Cell == cellOf(&i.left) && (e.Path == "" || e.Path == i.left.Path) && !strings.Contains(i.Note, work.EditStale) {
			i.Pending = "edited"
		}
	}
}

// placeWords says where a finding of preview is stored.
func placeWords(l *change.Left) string {
	switch {
	case l.File != "":
		return fmt.Sprintf("%s:%d", l.File, l.Line)
	case l.Column == "" && l.Line > 0:
		return strings.TrimSpace(fmt.Sprintf("line %d %s", l.Line, l.Table))
	}
	where := l.Table
	if l.Column != "" {
		where += "." + l.Column
	}
	if l.Label != "" {
		where += ", " + l.Label
	}
	if l.Path != "" {
		where += " " + l.Path
	}
	return where
}

// choicesFor says how one can decide on a finding of preview.
func choicesFor(l *change.Left) []string {
	switch {
	case l.Reason == rewrite.Private || l.Reason == rewrite.OtherPort || l.Reason == rewrite.Outside:
		return []string{"replace", "accept"}
	case work.ByAddress[l.Reason] && l.Reason != rewrite.Subdomain:
		return []string{"adopt", "replace", "secure", "leave", "accept"}
	case work.ByAddress[l.Reason]:
		return []string{"replace", "secure", "leave", "accept"}
	}
	if l.Column != "" && len(l.Key) > 0 {
		return []string{"edit", "accept"}
	}
	return []string{"accept"}
}

// scan takes what the last scan found and no preview changes.
func (c *collecting) scan(pending bool) error {
	j := c.job
	scan, err := findings.Last(j)
	if err != nil || scan == nil {
		return err
	}
	c.out.Scan = scan.Time.UTC().Format(time.RFC3339)
	changed, err := j.LastChange()
	if err != nil {
		return err
	}
	c.out.Old = !changed.IsZero() && scan.Time.Before(changed)
	verdicts := map[string]string{}
	for _, h := range scan.Hosts {
		verdicts[h.Host] = h.Verdict.Answer
	}
	for _, one := range scan.Culprits {
		key := work.InsecureAddress + " " + work.SameURL(one.URL)
		if n, ok := c.at[key]; ok {
			i := &c.out.Items[n]
			if i.Pages += one.Pages; i.On == "" {
				i.Class, i.On = one.Class, one.On
			}
			continue
		}
		host := work.HostOf(one.URL)
		decision := j.File.Hosts[host]
		changes := one.Ours || verdicts[host] == "secure" || decision == "secure" // what preview takes care of
		if c.out.Old || c.urls[work.SameURL(one.URL)] != "" || decision == "leave" || changes && (pending || c.out.Preview == "") {
			continue
		}
		i := Item{Finding: work.InsecureAddress, URL: one.URL, Host: host, Class: one.Class, Pages: one.Pages, On: one.On, Choices: []string{"adopt", "replace", "secure", "leave", "accept"}, key: key}
		if one.Ours {
			i.Choices = []string{"replace", "accept"}
		}
		c.decided(&i)
		c.add(i)
	}
	return nil
}

// number gives each item the number that it had, or a new one.
func (c *collecting) number() error {
	keys := make([]string, len(c.out.Items))
	for i := range c.out.Items {
		keys[i] = c.out.Items[i].key
	}
	numbers, err := c.job.Numbered(keys)
	if err != nil {
		return err
	}
	for i := range c.out.Items {
		c.out.Items[i].Number = numbers[i]
	}
	return nil
}

// item finds an item of the work list by its number or its URL; nil where there is none.
func item(j *work.Job, raw string) (*Item, error) {
	list, err := WorkList(j)
	if err != nil {
		return nil, err
	}
	n, bad := strconv.Atoi(raw)
	for i := range list.Items {
		if one := &list.Items[i]; bad == nil && one.Number == n || bad != nil && one.URL != "" && work.SameURL(one.URL) == work.SameURL(raw) {
			return one, nil
		}
	}
	if bad == nil {
		return nil, work.BadUse(nil, fmt.Sprintf("nothing that needs a decision has the number %d", n), "trimlantern show lists what does, with numbers")
	}
	return nil, nil
}

// Key names an item from one work list to the next.
func (i Item) Key() string { return i.key }

// Name is what decisions know an item by.
func (i Item) Name() string {
	if i.URL != "" && i.Finding == work.InsecureAddress {
		return i.URL
	}
	return strconv.Itoa(i.Number)
}
