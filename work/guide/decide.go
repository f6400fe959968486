package guide

import (
	"errors"
	"os"
	"path/filepath"
	"slices"

	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
	"trimlantern/outside/disk"
	"trimlantern/work"
	"trimlantern/work/decide"
	"trimlantern/work/preview"
	"trimlantern/work/run"
)

// manyItems is how many items are asked about one by one without asking first whether that is wanted.
const manyItems = 12

// Items is how many items wait, where there are many.
type Items struct{ Count int }

// ItemAbout is an item, with how many others are of the same host.
type ItemAbout struct {
	decide.Item
	SameHost int
}

// decide goes through what needs a decision, once for each item. It reports whether something was decided that
// another preview has to take up.
func (w *walk) decide() (again bool, err error) {
	asked := false
	for {
		list, err := decide.WorkList(w.job)
		if err != nil {
			return again, err
		}
		items := slices.DeleteFunc(slices.Clone(list.Items), func(i decide.Item) bool {
			// What ready and redirect test find is asked about, and looked at again, in steps of their own.
			return i.Pending != "" || len(i.Choices) == 0 || i.What != "" || w.later[i.Key()]
		})
		if len(items) == 0 {
			return again, nil
		}
		if len(items) > manyItems && !asked {
			answer, err := w.ask(Question{ID: "many", About: Items{len(items)}, Choices: []string{"yes", "later"}, Default: "later"})
			if err != nil {
				return again, err
			}
			if answer == "later" {
				for _, i := range items {
					w.later[i.Key()] = true
				}
				return again, nil
			}
		}
		asked = true
		done, err := w.item(items[0], items)
		if done {
			w.last = nil
		}
		if err != nil {
			return again, err
		}
		again = again || done
	}
}

// item asks about one item, and does what is answered.
func (w *walk) item(i decide.Item, all []decide.Item) (done bool, err error) {
	about := ItemAbout{Item: i}
	for _, other := range all {
		if other.Host == i.Host && i.Host != "" && other.Number != i.Number && slices.Contains(other.Choices, "adopt") {
			about.SameHost++
		}
	}
	q := Question{ID: "item", About: about, Key: i.Key(), Choices: slices.Clone(i.Choices), Default: "later"}
	if about.SameHost > 0 && slices.Contains(q.Choices, "adopt") {
		q.Choices = append([]string{"adopt-host"}, q.Choices...)
	}
	if i.Reason == string(rewrite.Unsound) {
		q.Choices = append([]string{"mend"}, q.Choices...)
	}
	q.Choices = append(q.Choices, "later")
	answer, err := w.ask(q)
	if err != nil {
		return false, err
	}
	what := i.Name()
	var result any
	switch answer {
	case "later":
		w.later[i.Key()] = true
		return false, nil
	case "adopt":
		result, err = decide.Adopt(w.ctx, w.job, decide.AdoptOptions{What: what})
	case "adopt-host":
		result, err = decide.Adopt(w.ctx, w.job, decide.AdoptOptions{What: i.Host})
	case "secure", "insecure", "leave":
		result, err = decide.Host(w.job, i.Host, answer)
	case "mend":
		return w.mend(i)
	case "edit":
		result, err = decide.Edit(w.ctx, w.job, what, false, func(text []byte) ([]byte, error) { return w.edited(about, text) })
		if errors.Is(err, ErrStop) {
			return false, err
		}
	case "replace", "accept":
		text, aerr := w.ask(Question{ID: map[string]string{"replace": "replace-by", "accept": "because"}[answer], About: about, Key: i.Key()})
		if aerr != nil {
			return false, aerr
		}
		if text == "" {
			return false, nil // asked again
		}
		if answer == "replace" {
			result, err = decide.Replace(w.job, what, text)
		} else {
			result, err = decide.Accept(w.job, what, text)
		}
	}
	if err != nil {
		w.later[i.Key()] = true // nobody is asked the same for ever
		return false, w.told(err)
	}
	w.person.Tell(result)
	if a, ok := result.(*decide.Adopted); ok && len(a.Copies) == 0 {
		w.later[i.Key()] = true
		return false, nil
	}
	return true, nil
}

// edited puts a text into a file for the person to edit, in whatever editor, and reads what became of it.
func (w *walk) edited(about ItemAbout, text []byte) ([]byte, error) {
	dir, remove, err := disk.TempFolder("edit") // of the caller alone
	if err != nil {
		return nil, work.Failed(err, "the text cannot be written", "free some space in the folder for temporary files")
	}
	defer remove()
	file := filepath.Join(dir, "text.txt")
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return nil, work.Failed(err, "the text cannot be written", "free some space in the folder for temporary files")
	}
	from, err := w.ask(Question{ID: "edit-file", About: about, Key: about.Key(), Default: file})
	if err != nil {
		return nil, err
	}
	by, err := disk.Read(from, decide.MaxText)
	if err != nil {
		return nil, work.BadUse(err, "the new text cannot be read", "name a file that holds it")
	}
	return by, nil
}

// mend corrects lengths that an earlier replacement broke, with consent.
func (w *walk) mend(i decide.Item) (done bool, err error) {
	p, err := preview.Mend(w.ctx, w.job, envelope.Cause{Was: "http://", Now: "https://"})
	if err != nil {
		return false, err
	}
	w.person.Tell(p)
	if p.Changes() == 0 {
		w.later[i.Key()] = true
		return false, nil
	}
	ok, err := w.yes("mend", p)
	if err != nil || !ok {
		w.later[i.Key()] = true
		return false, err
	}
	a, err := run.Apply(w.ctx, w.job, run.Options{})
	if err != nil {
		return false, err
	}
	w.person.Tell(a)
	w.later[i.Key()] = true // the next preview says what became of it
	return true, nil
}
