package coverage

import (
	"net/url"
	"path"
	"slices"
	"strings"
)

// leaving are words for what only those can do who have signed in.
var leaving = []string{"logout", "log-out", "log_out", "logoff", "signout", "sign-out", "sign_out"}

// acting are the last segments of paths that do something, like /delete?id=1.
var acting = append([]string{"delete", "unsubscribe", "add-to-cart", "add_to_cart", "addtocart", "empty"}, leaving...)

// actions are what a parameter is called, or what stands in one of actionNames, of a link that does
// something.
var actions = append([]string{"destroy", "trash", "untrash", "remove", "unlink", "deactivate", "remove_item", "undo_item", "purge", "flush",
	"vote", "like", "approve", "unapprove", "spam", "revoke", "cancel"}, acting...)

// actionNames are the usual parameters that say what to do.
var actionNames = []string{"action", "do", "task", "cmd", "op", "method", "mode", "act"}

// guards are parameters that only links have that do something: a proof that the one who follows
// them meant it.
var guards = []string{"nonce", "csrf", "xsrf", "authenticity_token", "sesskey", "form_token", "formhash"}

// dashboards are the folders in which systems keep what only their keepers use, sessions the one that nothing else is
// called.
var (
	dashboards = []string{"admin", "administrator", "_admin", "backend"}
	sessions   = []string{"wp-admin"}
)

// Acts tells why a link is not followed: Acting where following it would probably do something, like deleting or
// filling a cart; Session where that works for those alone who have signed in; "" where nothing speaks against
// following it. It goes by the words of the address alone. Without a session a word in a path does nothing, so that
// /admin/ and /how-to/delete are pages like others; session says that the one who follows it has signed in.
func Acts(u *url.URL, session bool) Cause {
	segments := strings.Split(strings.ToLower(strings.Trim(u.Path, "/")), "/")
	last := segments[len(segments)-1]
	last = strings.TrimSuffix(last, path.Ext(last))
	query := u.Query()
	in := func(words []string) bool {
		return slices.ContainsFunc(segments, func(s string) bool { return slices.Contains(words, s) })
	}
	cause := Cause("")
	switch {
	case in(sessions), slices.Contains(leaving, last) && (session || len(query) > 0):
		cause = Session
	case session && in(dashboards), slices.Contains(acting, last) && (session || len(query) > 0):
		cause = Acting
	}
	for name, values := range query {
		name = strings.ToLower(name)
		switch {
		case slices.ContainsFunc(guards, func(g string) bool { return strings.Contains(name, g) }), slices.Contains(leaving, name), name == "replytocom": // the same page, to answer a comment
			return Session
		case slices.Contains(actions, name):
			cause = Acting
		case slices.Contains(actionNames, name):
			for _, v := range values {
				switch v = strings.ToLower(v); {
				case slices.Contains(leaving, v):
					return Session
				case slices.Contains(actions, v):
					cause = Acting
				}
			}
		}
	}
	return cause
}
