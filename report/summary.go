package report

import (
	"io"
	"strings"
	"time"

	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/decide"
	"trimlantern/work/guide"
)

// summaryData is what the summary page shows.
type summaryData struct {
	Site, When, Tool, Verdict, Took string
	Done                            bool
	Steps                           []summaryStep
	Found                           []summaryFound
	Left                            []summaryLeft
	Next                            string
}

type (
	summaryStep  struct{ Name, State, What, When string }
	summaryFound struct{ Class, Words, Before, After string }
	summaryLeft  struct {
		Number, What string
		Places       []string // the first of where it is
		Why          string
	}
)

// Summary writes the page that an owner keeps of a guided run: one file, which asks for nothing.
func Summary(w io.Writer, g *guide.Walked, took time.Duration) error {
	d := summaryData{Site: Clean(g.Status.Site), When: time.Now().UTC().Format("2006-01-02 15:04") + " UTC", Tool: Clean(work.Tool), Done: g.Status.Clean,
		Took: took.Round(time.Second).String(), Next: Clean(g.Status.Next)}
	d.Verdict = "Not done yet"
	if d.Done {
		d.Verdict = strings.Replace(onHTTPS(g.Status), "on HTTPS", "On HTTPS", 1)
	}
	for _, s := range g.Status.Steps {
		d.Steps = append(d.Steps, summaryStep{Clean(s.Name), s.State, Clean(s.What), clock(s.When)})
	}
	if g.Before != nil && g.Scan != nil {
		for _, c := range mixed.Classes {
			if b, a := g.Before.Classes[c], g.Scan.Classes[c]; b+a > 0 {
				d.Found = append(d.Found, summaryFound{string(c), words.Class(c), number(b), number(a)})
			}
		}
	}
	if g.Left != nil {
		for _, i := range g.Left.Items {
			if i.Pending != "" {
				continue
			}
			d.Left = append(d.Left, leftOver(i))
		}
	}
	return summaryTemplate.Execute(w, d)
}

// leftOver is what the summary says of one thing that still needs a decision.
func leftOver(i decide.Item) summaryLeft {
	const most = 3
	l := summaryLeft{Number: number(i.Number), What: Clean(i.URL), Why: words.Reason(rewrite.Reason(i.Reason))}
	if i.Note != "" {
		l.Why = strings.TrimPrefix(l.Why+": "+Clean(i.Note), ": ")
	}
	places := i.Places
	switch {
	case l.What != "":
	case i.What != "":
		l.What = Clean(i.What)
	case len(places) > 0:
		l.What, places = Clean(places[0]), places[1:]
	}
	for _, p := range places[:min(len(places), most)] {
		l.Places = append(l.Places, Clean(p))
	}
	if n := len(places) - most; n > 0 {
		l.Places = append(l.Places, "and "+number(n)+" more")
	}
	return l
}
