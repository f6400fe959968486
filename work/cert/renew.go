package cert

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"trimlantern/core/certs"
	"trimlantern/outside/acme"
	"trimlantern/outside/certfolder"
	"trimlantern/report/words"
	"trimlantern/work"
)

// askedAnew is how often an authority is asked when a certificate is to be renewed.
const askedAnew = 6 * time.Hour

// Renew renews the certificates of the site that are due: when a third of their life is left, or when the
// authority says (RFC 9773). It repeats what was asked for the last time.
func Renew(ctx context.Context, j *work.Job, o ObtainOptions) (*Obtained, error) {
	defer j.Progress.End()
	dir, err := folderOf(j, o.Folder)
	if err != nil {
		return nil, folderFault(err)
	}
	there, err := certfolder.There(dir)
	if refused := work.Untrusted(err); refused != nil {
		return nil, refused
	}
	if err == nil && there != nil {
		plan, _, perr := there.Plan()
		if err = perr; err == nil && plan.Directory == "" {
			there = nil
		}
	}
	if err != nil {
		return nil, work.Failed(err, "what was asked for before cannot be read", "obtain a certificate anew: trimlantern cert obtain")
	}
	if there == nil {
		return nil, work.BadUse(nil, "no certificate of this site was obtained by this program", "obtain one first: trimlantern cert obtain --directory https://…")
	}
	r, release, err := begin(j, o)
	if err != nil {
		return nil, err
	}
	defer release()
	r.out.Renewing = true
	pause := o.pause
	if pause == 0 {
		pause = renewPause
	}
	return r.each(ctx, func(c *Certificate, set *certfolder.Set) error {
		r.askWindow(ctx, set)
		for try := 1; ; try++ {
			err := r.one(ctx, c, set, o.Again)
			var refused *acme.Refused
			if err == nil || try == renewTries || ctx.Err() != nil || !errors.As(err, &refused) || !refused.Again() || refused.After > pause {
				return err
			}
			r.closeWay()
			r.job.Progress.At("the authority failed; trying once more", 0, 0)
			r.rest(ctx, pause)
		}
	})
}

// How often a renewal is tried in one run where the authority fails, and how long it is waited in between.
const (
	renewTries = 3
	renewPause = 30 * time.Second
)

// askWindow asks the authority when it wants the certificate to be renewed. Without an answer the certificate's
// own dates decide.
func (r *obtaining) askWindow(ctx context.Context, set *certfolder.Set) {
	current, err := r.current(set)
	if err != nil || current == nil {
		return
	}
	st, err := set.State()
	if err != nil || r.job.Now().Sub(st.Asked).Abs() < askedAnew || r.open(ctx) != nil {
		return
	}
	w, err := r.ca.Window(ctx, current.Chain[0])
	if err != nil {
		return
	}
	st.Window, st.Asked = w, r.job.Now()
	_ = set.SetState(st) // then it is asked again
}

// Renewal is what is known of the renewal of one certificate.
type Renewal struct {
	Host   string    `json:"host"`
	Until  time.Time `json:"until"`
	Due    time.Time `json:"due"`
	Ran    time.Time `json:"ran,omitzero"`    // when a renewal last looked whether it is due; zero: none ever did
	Failed time.Time `json:"failed,omitzero"` // when it failed the last time; zero: it did not
	Why    string    `json:"why,omitempty"`

	Stale []string `json:"stale,omitempty"` // addresses that showed an earlier one when they were last asked

	Revoked bool `json:"revoked"` // the one in use was revoked at the owner's wish
}

// idle is how long nobody may have looked whether a certificate is due, before that is a fault.
const idle = 4 * 24 * time.Hour

// Trouble says what is wrong with the renewal at a time; "" where nothing is.
func (r Renewal) Trouble(now time.Time) string {
	switch {
	case r.Revoked:
		return words.Fill(words.RenewalRevoked, r.Host)
	case len(r.Stale) > 0:
		return words.Fill(words.RenewalUnserved, r.Host, r.Stale[0])
	case !r.Failed.IsZero() && now.After(r.Due):
		return words.Fill(words.RenewalFailed, r.Host, r.Failed.UTC().Format("2006-01-02"), r.Why)
	case now.After(r.Due.Add(idle)):
		return words.Fill(words.RenewalOverdue, r.Host, r.Due.UTC().Format("2006-01-02"))
	case !r.Ran.IsZero() && now.Sub(r.Ran) > idle:
		return words.Fill(words.RenewalNotAsked, r.Host, r.Ran.UTC().Format("2006-01-02"))
	}
	return ""
}

// Renewals returns what is known of the certificates that this program obtained for the site.
func Renewals(j *work.Job) ([]Renewal, error) {
	if j.Book == nil {
		return nil, nil
	}
	dir, err := folderOf(j, "")
	if err != nil {
		return nil, err
	}
	folder, err := certfolder.There(dir)
	if err != nil || folder == nil {
		return nil, err
	}
	hosts, err := folder.Sets()
	if err != nil {
		return nil, err
	}
	var out []Renewal
	for _, host := range hosts {
		if !slices.Contains(j.Site.NetworkHosts(), host) {
			continue
		}
		set, err := folder.Set(host)
		if err != nil {
			return nil, err
		}
		name, err := set.Current()
		if err != nil {
			return nil, err
		}
		v, err := set.Read(name)
		if err != nil || v == nil {
			continue // there is none in use
		}
		st, err := set.State()
		if err != nil {
			return nil, err
		}
		out = append(out, Renewal{Host: host, Until: v.Chain[0].NotAfter.UTC(), Due: certs.RenewAt(v.Chain[0], st.Window).UTC(), Ran: st.Ran, Failed: st.Failed, Why: st.Why, Stale: st.Stale,
			Revoked: slices.Contains(st.Revoked, name)})
	}
	return out, nil
}

// Look asks the site's addresses whether they show the newest of the certificates that this program obtained, and keeps
// the answer for Renewals.
func Look(ctx context.Context, j *work.Job) error {
	renewals, err := Renewals(j)
	if err != nil || len(renewals) == 0 {
		return err
	}
	dir, err := folderOf(j, "")
	if err != nil {
		return err
	}
	folder, err := certfolder.Open(dir)
	if err != nil {
		return err
	}
	web, err := j.Web()
	if err != nil {
		return err
	}
	for _, r := range renewals {
		set, err := folder.Set(r.Host)
		if err != nil {
			return err
		}
		name, err := set.Current()
		if err != nil {
			return err
		}
		v, err := set.Read(name)
		if err != nil {
			return err
		}
		noteServed(&Certificate{Served: served(ctx, j, web, set, v.Chain[0])}, set)
	}
	return nil
}

// Revoked is a certificate that was revoked.
type Revoked struct {
	Host   string    `json:"host"`
	Names  []string  `json:"names"`
	Until  time.Time `json:"until"`
	Reason string    `json:"reason"`
}

// Code is the exit code that it comes to.
func (*Revoked) Code() int { return work.Clean }

// Revoke has the authority revoke the certificate of one host that is in use, or the one called version. One that
// the site still serves is refused, unless anyway is set: browsers would turn visitors away.
func Revoke(ctx context.Context, j *work.Job, o ObtainOptions, host, version, reason string, anyway bool) (*Revoked, error) {
	defer j.Progress.End()
	if _, ok := acme.Reasons[reason]; !ok {
		return nil, work.BadUse(nil, fmt.Sprintf("%q is not a reason", reason), "write unspecified, key-compromise, superseded or cessation")
	}
	r, release, err := begin(j, o)
	if err != nil {
		return nil, err
	}
	defer release()
	if host == "" {
		host = j.Site.Host
	}
	if !slices.Contains(j.Site.NetworkHosts(), host) {
		return nil, work.BadUse(nil, host+" is not one of the site's names", "name one of them")
	}
	set, err := r.folder.Set(host)
	if err != nil {
		return nil, keepFault(err, r.folder)
	}
	if version == "" {
		if version, err = set.Current(); err != nil {
			return nil, keepFault(err, r.folder)
		}
	}
	v, err := set.Read(version)
	if err != nil {
		return nil, work.BadUse(nil, "there is no certificate "+version+" of "+host, "see the folders in "+set.Path())
	}
	if v == nil {
		return nil, work.BadUse(nil, "no certificate of "+host+" is in use", "name one of the folders in "+set.Path()+" with --version NAME")
	}
	leaf := v.Chain[0]
	if shows := slices.IndexFunc(served(ctx, j, r.web, set, leaf), func(s Served) bool { return s.New || s.Why == alone }); shows >= 0 && !anyway {
		return nil, work.BadUse(nil, "the site serves this certificate", "put a new one in place first: trimlantern cert obtain --again; then revoke the old one: --version "+version+"; or revoke it at once with --anyway: browsers will turn visitors away")
	}
	if err := r.open(ctx); err != nil {
		return nil, err
	}
	defer r.ca.Close()
	err = r.ca.Revoke(ctx, leaf, reason)
	var refused *acme.Refused
	if err != nil && !(errors.As(err, &refused) && refused.Kind == acme.AlreadyRevoked) {
		return nil, authorityFault(err, r.plan.Directory)
	}
	st, err := set.State()
	if err == nil {
		st.Revoked = append(st.Revoked, v.Name)
		err = set.SetState(st)
	}
	if err != nil {
		return nil, keepFault(err, r.folder)
	}
	return &Revoked{Host: host, Names: leaf.DNSNames, Until: leaf.NotAfter.UTC(), Reason: reason}, j.Note("revoke", host+" ("+reason+")", 0)
}
