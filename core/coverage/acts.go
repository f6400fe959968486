package coverage

import (
	"net/url"
	"path"
	"slices"
	"strings"
)

// acting are the last segments of paths that do something. As the name of an ordinary page
// none of them is usual.
var acting = []string{"logout", "log-out", "log_out", "logoff", "signout", "sign-out", "sign_out", "delete", "unsubscribe", "add-to-cart", "add_to_cart", "addtocart"}

// actions are what a parameter is called, or what stands in one of actionNames, of a link that does
// something.
var actions = append([]string{"destroy", "trash", "untrash", "remove", "unlink", "deactivate", "empty", "remove_item", "undo_item", "purge", "flush",
	"vote", "like", "approve", "unapprove", "spam", "revoke", "cancel", "replytocom"}, acting...)

// actionNames are the usual parameters that say what to do.
var actionNames = []string{"action", "do", "task", "cmd", "op", "method", "mode", "act"}

// guards are parameters that only links have that do something: a proof that the one who follows
// them meant it.
var guards = []string{"nonce", "csrf", "xsrf", "authenticity_token", "sesskey", "form_token", "formhash"}

// dashboards are the folders in which systems keep what only their keepers use.
var dashboards = []string{"wp-admin", "admin", "administrator", "_admin", "backend"}

// Acts reports whether following a link would probably do something, like logging out or deleting, or
// leads into a dashboard, whose links do. It goes by the words of the address alone.
func Acts(u *url.URL) bool {
	segments := strings.Split(strings.ToLower(strings.Trim(u.Path, "/")), "/")
	last := segments[len(segments)-1]
	if slices.Contains(acting, strings.TrimSuffix(last, path.Ext(last))) {
		return true
	}
	if slices.ContainsFunc(segments, func(s string) bool { return slices.Contains(dashboards, s) }) {
		return true
	}
	for name, values := range u.Query() {
		name = strings.ToLower(name)
		switch {
		case slices.Contains(actions, name), slices.ContainsFunc(guards, func(g string) bool { return strings.Contains(name, g) }):
			return true
		case slices.Contains(actionNames, name):
			for _, v := range values {
				if slices.Contains(actions, strings.ToLower(v)) {
					return true
				}
			}
		}
	}
	return false
}
