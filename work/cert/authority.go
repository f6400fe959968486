package cert

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"trimlantern/outside/acme"
	"trimlantern/outside/probe"
	"trimlantern/report/words"
	"trimlantern/work"
)

// authorityFault says in a user's words what an authority answered, and what to do.
func authorityFault(err error, directory string) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	var r *acme.Refused
	if !errors.As(err, &r) {
		if errors.Is(err, acme.ErrClear) {
			return work.BadUse(nil, fmt.Sprintf("%q is not an https address", directory), "write the whole address of the authority's directory: --directory https://…")
		}
		return work.Failed(err, "the authority "+work.HostOf(directory), "run the same command again")
	}
	what, do := words.Refusal(work.HostOf(directory), string(r.Step), string(r.Kind), r.See, r.After)
	return &work.Fault{Code: work.World, What: what, Do: do, Err: &told{r}}
}

// told carries a refusal along whose words are in the fault already.
type told struct{ *acme.Refused }

// Error adds what the authority said of single names.
func (t *told) Error() string {
	var parts []string
	for _, n := range t.Names {
		said := strings.Join(strings.Fields(n.Detail), " ")
		if n.Name != "" {
			said = n.Name + ": " + said
		}
		parts = append(parts, said)
	}
	if len(parts) == 0 && t.Detail != "" {
		parts = append(parts, strings.Join(strings.Fields(t.Detail), " "))
	}
	if len(parts) == 0 && t.Err != nil {
		parts = append(parts, probe.Failure(t.Err))
	}
	if len(parts) == 0 {
		parts = append(parts, string(t.Kind))
	}
	return strings.Join(parts, "; ")
}

// Unwrap gives the refusal.
func (t *told) Unwrap() error { return t.Refused }
