package guide

import (
	"slices"

	"trimlantern/core/rules"
	"trimlantern/work"
	"trimlantern/work/redirect"
)

// RedirectAbout is what the question of redirects needs.
type RedirectAbout struct {
	Test  *redirect.Tested
	Files ruleFiles
}

// redirect tests the redirects, and puts them in place where they are missing.
func (w *walk) redirect() error {
	for {
		t, err := redirect.Test(w.ctx, w.job, redirect.Options{})
		if err != nil {
			return err
		}
		w.person.Tell(t)
		if t.Code() == work.Clean {
			return nil
		}
		files := findRuleFiles(w.ctx, w.job)
		q := Question{ID: "redirect", About: RedirectAbout{t, files}, Choices: []string{"apache", "nginx", "php", "again", "later"}, Default: "later"}
		if files.Server != "" {
			q.Choices = slices.DeleteFunc(q.Choices, func(c string) bool { return slices.Contains(rules.Servers, c) && c != files.Server && c != "php" })
		}
		if files.Server != "" && files.Of[files.Server] != "" {
			q.Default = files.Server
		}
		answer, err := w.ask(q)
		if err != nil {
			return err
		}
		switch answer {
		case "again":
		case "later":
			return nil
		default:
			again, err := w.install(answer, files)
			if err != nil {
				return err
			}
			if !again {
				return nil
			}
		}
	}
}

// install puts rules into a file. again: the redirects are looked at once more, and a person who gave a file that cannot
// be used is asked once more.
func (w *walk) install(server string, files ruleFiles) (again bool, err error) {
	file, err := w.ask(Question{ID: "rule-file", About: server, Default: files.Of[server]})
	if err != nil {
		return false, err
	}
	if file == "" {
		r, err := redirect.RulesFor(w.job, rules.Rule{Server: server}, false)
		if err != nil {
			return false, err
		}
		w.person.Tell(r)
		return false, nil
	}
	o := redirect.InstallOptions{}
	if server == "nginx" {
		if o.After, err = w.ask(Question{ID: "rule-reload", About: server, Default: "nginx -s reload"}); err != nil {
			return false, err
		}
	}
	rule := rules.Rule{Server: server}
	r, err := redirect.Install(w.ctx, w.job, rule, file, o)
	if err == nil && !r.Changed && r.Code() != work.Clean {
		// Behind a proxy that ends TLS another rule is right. Trying it does no harm: it is taken back if it is wrong.
		rule.Proxy = true
		if behind, perr := redirect.Install(w.ctx, w.job, rule, file, o); perr == nil && behind.Code() == work.Clean {
			r = behind
		}
	}
	if err != nil {
		return w.o.Live, w.told(err)
	}
	w.person.Tell(r)
	return w.o.Live || r.Code() == work.Clean, nil
}
