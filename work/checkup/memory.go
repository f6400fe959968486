package checkup

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"trimlantern/core/alike"
	"trimlantern/core/hops"
	"trimlantern/core/mixed"
	"trimlantern/core/point"
	"trimlantern/outside/fetch"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// Memory is what a site looked like when it was well: the next look finds by it what no status code shows.
type Memory struct {
	Time   time.Time                 `json:"time"`
	Pages  map[string]alike.Likeness `json:"pages"`            // by address
	Hosts  []string                  `json:"hosts"`            // other hosts that scripts, frames and forms lead to
	Hidden []uint32                  `json:"hidden,omitempty"` // hashes of scripts that hide what they do
	Proof  int                       `json:"proof"`            // what answers where certificate authorities look: a status; 0: nothing
	Until  time.Time                 `json:"until,omitzero"`   // when the certificate ends
}

const memoryFile = "memory.json"

// Bounds of what is remembered, and of what is asked for once more.
const (
	maxRemembered = 3000
	maxAsked      = 100
	maxNamed      = 20 // pages that one point names
)

// looks gathers what pages look like while they are read.
type looks struct {
	mu    sync.Mutex
	own   []string
	pages map[string]alike.Likeness
}

func (l *looks) shown(page *url.URL, r *fetch.Response) {
	if r.Status != http.StatusOK {
		return
	}
	seen := alike.Remember(page, r.Body, l.own)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.pages[page.String()] = seen
}

// memory makes what is seen today into what can be remembered.
func (l *looks) memory(now time.Time) *Memory {
	m := &Memory{Time: now, Pages: l.pages, Hosts: []string{}}
	for _, p := range l.pages {
		m.Hosts = append(m.Hosts, p.Hosts...)
		m.Hidden = append(m.Hidden, p.Hidden...)
	}
	slices.Sort(m.Hosts)
	m.Hosts = slices.Compact(m.Hosts)
	slices.Sort(m.Hidden)
	m.Hidden = slices.Compact(m.Hidden)
	return m
}

// remembering compares what is seen with what is remembered.
type remembering struct {
	ctx      context.Context
	job      *work.Job
	was, now *Memory
	scan     *findings.Scan
	points   []point.Point
	keep     []string // pages that are remembered as they were: what they show today is a fault
}

// remember adds what became of the site since it was last well, and remembers what is well today. What changed for good is
// said once; what is a fault is said as long as it lasts.
func remember(ctx context.Context, j *work.Job, l *looks, scan *findings.Scan, learn bool, out *Result) error {
	if j.Book == nil {
		return nil
	}
	was := &Memory{}
	if err := j.Book.ReadJSON(memoryFile, was); err != nil || learn {
		was = &Memory{} // history --check says that it is damaged; it is written anew
	}
	m := &remembering{ctx: ctx, job: j, was: was, now: l.memory(j.Now()), scan: scan}
	if err := m.outside(); err != nil {
		return err
	}
	if !was.Time.IsZero() {
		m.gone()
		m.changed()
		m.foreign()
		m.proof()
	} else {
		m.first()
	}
	m.now.Hosts, m.now.Hidden = union(m.now.Hosts, was.Hosts), union(m.now.Hidden, was.Hidden)
	points, err := j.WithDecisions(m.points)
	if err != nil {
		return err
	}
	out.Points = append(out.Points, faultsOf(points)...)
	for _, page := range m.keep {
		if old, ok := was.Pages[page]; ok {
			m.now.Pages[page] = old
		} else {
			delete(m.now.Pages, page)
		}
	}
	for _, page := range slices.Backward(slices.Sorted(maps.Keys(m.now.Pages))) { // the front page sorts first
		if len(m.now.Pages) > maxRemembered {
			delete(m.now.Pages, page)
		}
	}
	if len(m.now.Pages) == 0 {
		return nil // nothing was seen: yesterday counts
	}
	if err := j.Book.WriteJSON(memoryFile, m.now); err != nil {
		return work.Failed(err, "what the site looks like cannot be kept in the logbook", "make the folder of the site file writable")
	}
	return nil
}

// union joins two sets, of which the first is kept where there is no room for both.
func union[T cmp.Ordered](now, was []T) []T {
	for _, v := range was {
		if !slices.Contains(now, v) && len(now) < maxRemembered {
			now = append(now, v)
		}
	}
	slices.Sort(now)
	return now
}

// add adds a point about pages, the first of which it names.
func (m *remembering) add(s words.Sentence, pages []string, values ...any) {
	if len(pages) > 0 {
		slices.Sort(pages)
		m.points = append(m.points, s.Point(pages[:min(len(pages), maxNamed)], append([]any{pages[0], words.Others(len(pages) - 1)}, values...)...))
	}
}

// front reports whether a page is the front page of the site.
func (m *remembering) front(page string) bool {
	return page == m.job.Site.String()+"/" || page == m.job.Site.String()
}

// first says what is wrong on the first day already.
func (m *remembering) first() {
	by := map[alike.Change][]string{}
	said := map[alike.Change]string{}
	for page, now := range m.now.Pages {
		if c := (alike.Likeness{}).Changes(now); c == alike.Failing || c == alike.Stock && m.front(page) {
			by[c], said[c] = append(by[c], page), cmp.Or(now.Fault, now.Stock)
			m.keep = append(m.keep, page)
		}
	}
	m.add(words.PageFails, by[alike.Failing], said[alike.Failing])
	m.add(words.PageStock, by[alike.Stock], said[alike.Stock])
}

// changed finds pages that are not what they were.
func (m *remembering) changed() {
	by := map[alike.Change][]string{}
	said := map[alike.Change]string{}
	known := 0
	for page, now := range m.now.Pages {
		was, ok := m.was.Pages[page]
		if ok {
			known++
		}
		c := was.Changes(now)
		if c == "" || !ok && c != alike.Failing {
			continue
		}
		by[c] = append(by[c], page)
		said[c] = cmp.Or(now.Fault, now.Stock, now.Title)
		if c != alike.Replaced {
			m.keep = append(m.keep, page)
		}
	}
	m.add(words.PageFails, by[alike.Failing], said[alike.Failing])
	m.add(words.PageStock, by[alike.Stock], said[alike.Stock])
	m.add(words.PageEmpty, by[alike.Emptied])
	if other := by[alike.Replaced]; len(other)*2 > known || slices.ContainsFunc(other, m.front) {
		m.keep = append(m.keep, other...) // the site as a whole is another one
		m.add(words.SiteReplaced, other, said[alike.Replaced])
	} else {
		m.add(words.PageReplaced, other, said[alike.Replaced])
	}
}

// gone finds pages that were there and were not read now, and asks for them: those that answer are compared like others.
func (m *remembering) gone() {
	var missing, lost []string
	asked := 0
	client, err := m.job.Web()
	if err != nil {
		return // the scan has said so
	}
	for _, page := range slices.Sorted(maps.Keys(m.was.Pages)) {
		if _, ok := m.now.Pages[page]; ok {
			continue
		}
		if slices.ContainsFunc(m.scan.Unread, func(u findings.Unread) bool { return u.URL == page }) || asked == maxAsked || m.ctx.Err() != nil {
			m.keep = append(m.keep, page) // that is said already
			continue
		}
		asked++
		r, err := client.Get(m.ctx, page, nil)
		if err != nil {
			m.keep = append(m.keep, page)
			lost = append(lost, page)
			continue
		}
		switch {
		case r.Status == http.StatusNotFound || r.Status == http.StatusGone:
			missing = append(missing, page)
			if m.front(page) {
				m.keep = append(m.keep, page)
			}
		case r.Status >= 400:
			m.keep = append(m.keep, page)
			lost = append(lost, page)
		case r.Status == http.StatusOK && r.URL.String() == page && mixed.KindOf(r.Type, "") == "html":
			m.now.Pages[page] = alike.Remember(r.URL, r.Body, m.job.Site.NetworkHosts())
		}
		r.Done()
	}
	m.add(words.PagesGone, missing)
	m.add(words.PagesLost, lost)
}

// foreign finds hosts that scripts, frames and forms lead to for the first time, and scripts that hide what they do.
func (m *remembering) foreign() {
	for _, host := range m.now.Hosts {
		if !slices.Contains(m.was.Hosts, host) {
			m.add(words.HostNew, m.with(func(l alike.Likeness) bool { return slices.Contains(l.Hosts, host) }), host)
		}
	}
	hidden := map[string]bool{}
	for _, h := range m.now.Hidden {
		if !slices.Contains(m.was.Hidden, h) {
			for _, page := range m.with(func(l alike.Likeness) bool { return slices.Contains(l.Hidden, h) }) {
				hidden[page] = true
			}
		}
	}
	m.add(words.ScriptHides, slices.Collect(maps.Keys(hidden)))
}

func (m *remembering) with(holds func(alike.Likeness) bool) (pages []string) {
	for page, l := range m.now.Pages {
		if holds(l) {
			pages = append(pages, page)
		}
	}
	return pages
}

// outside looks at what no page shows: where certificate authorities look, and until when the certificate is good.
func (m *remembering) outside() error {
	client, err := m.job.Web()
	if err != nil {
		return err
	}
	r, err := client.Head(m.ctx, "http://"+m.job.Site.Host+hops.ProofFolders[0]+"trimlantern-test")
	if err == nil {
		m.now.Proof = r.Status
		r.Done()
	}
	if m.ctx.Err() != nil {
		return work.Failed(errors.New("interrupted"), "the checkup", "run the same command again")
	}
	return nil
}

// proof compares what answers where authorities look: 404 is right there, since nothing is being proven.
func (m *remembering) proof() {
	bad := func(status int) bool { return status == 0 || status == 401 || status == 403 || status >= 500 }
	if bad(m.now.Proof) && !bad(m.was.Proof) {
		answers := words.NoAnswer
		if m.now.Proof > 0 {
			answers = words.Fill(words.AnswersStatus, m.now.Proof)
		}
		m.add(words.ProofBarred, []string{"http://" + m.job.Site.Host + hops.ProofFolders[0]}, answers)
		m.now.Proof = m.was.Proof
	}
}
