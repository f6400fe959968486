package report

import (
	"fmt"
	"maps"
	"slices"

	"trimlantern/core/coverage"
	"trimlantern/report/words"
	"trimlantern/work/checkup"
	"trimlantern/work/findings"
)

// Checkup writes what a mail may hold: nothing when all is well, and first of all whether visitors get a page.
func (t *Text) Checkup(c *checkup.Result) {
	if c.Well {
		return
	}
	when := c.Time.UTC().Format("2006-01-02 15:04 UTC")
	if len(c.Down) > 0 {
		t.printf("%s\n", t.bad(fmt.Sprintf("%s is down (%s).", c.Site, when)))
		for _, d := range c.Down {
			t.printf("  %s\n", t.clip(d, 76))
		}
	} else {
		t.printf("%s needs attention (%s).\n", c.Site, when)
	}
	if len(c.Points) > 0 {
		t.heading("Certificate, server and pages")
		t.points(c.Points)
	}
	if len(c.Redirects) > 0 {
		t.heading("Redirects")
		for _, p := range c.Redirects {
			t.mark(t.pointMark(p), Clean(p.What)+": "+plural(len(p.About), "address"))
			for i, about := range p.About {
				if i == 4 {
					t.printf("        %s\n", t.faint("and "+number(len(p.About)-i)+" more"))
					break
				}
				t.printf("        %s\n", t.clip(about, 70))
			}
			t.whyAndDo(p)
		}
	}
	if len(c.Failed) > 0 {
		t.heading("Could not be checked")
		for _, f := range c.Failed {
			t.wrap("  ", Clean(f))
		}
	}
	culprits := func(what string, list []findings.Culprit) {
		if len(list) == 0 {
			return
		}
		t.heading(what)
		const most = 20
		for i, c := range list {
			if i == most {
				t.printf("  and %s\n", plural(len(list)-most, "more URL"))
				break
			}
			t.printf("  %s\n      %s\n", t.clip(c.URL, 76), t.faint(t.clip(fmt.Sprintf("%s, on %s, %s", words.Class(c.Class), plural(c.Pages, "page"), c.On), 72)))
		}
	}
	culprits("Insecure since last time", c.New)
	culprits("Still insecure", c.Still)
	if len(c.Unread) > 0 {
		t.heading("Could not be read")
		for i, u := range c.Unread {
			if i == 20 {
				t.printf("  and %s\n", plural(len(c.Unread)-20, "more document"))
				break
			}
			t.printf("  %s\n", t.clip(u.URL+": "+u.Why, 76))
		}
	}
	if len(c.Unread) == 0 {
		for i, l := range c.Coverage.Blocking() {
			if i == 0 {
				t.heading("Not looked at")
			}
			if l.Cause != coverage.Sampled {
				t.printf("  %s\n", t.clip(countWords(l), 76))
			}
		}
	}
	culprits("No longer insecure", c.Gone)
	t.next("trimlantern status")
}

// Timer prints what a machine needs to run the checkup, so that it can be put there as it is.
func (t *Text) Timer(c *checkup.Timer) {
	if c.Kind == "cron" {
		t.printf("%s", c.Files["crontab"])
		return
	}
	for i, name := range slices.Sorted(maps.Keys(c.Files)) {
		if i > 0 {
			t.printf("\n")
		}
		t.printf("# /etc/systemd/system/%s\n%s", Clean(name), c.Files[name])
	}
}
