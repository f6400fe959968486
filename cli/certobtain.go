package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/cert"
	"trimlantern/work/checkup"
)

// obtainFlags adds what cert obtain, renew and revoke share.
func (a *app) obtainFlags(c *cobra.Command, o *cert.ObtainOptions) {
	a.address(c)
	a.network(c)
	c.Flags().StringVar(&o.Folder, "folder", "", "keep certificates in this `FOLDER` (default: beside the site file)")
}

func (a *app) certObtain() *cobra.Command {
	o := cert.ObtainOptions{}
	c := &cobra.Command{
		Use:   "obtain",
		Short: "Obtain a certificate by the open protocol (RFC 8555)",
		Long: `Obtains one certificate for all names of the site and of its sister
sites, from any authority that speaks the open protocol: --directory names
the address of its directory. What was asked for is kept, so that the same
command without options goes on, and cert renew repeats it.

The ownership of each name is proven in a way that works; it is tried first,
before the authority is asked:
  file         a file in the folder that the server serves (--root)
  listener     a little server of our own on port 80, where none listens
  dns-update   a record, by dynamic update (RFC 2136): --dns-update
  dns-program     a record, by a program of yours: --dns-program
  dns-by-hand  a record that you make: it is shown, and waited for
A name with a wildcard needs one of the last three.

The new certificate is checked before it replaces anything. --server-file puts
it where the server's configuration already names files, --after has the
server read them; then every address is asked what it shows. If any shows
something worse than before, the old files come back. Without --server-file,
name the files in the folder "current", which always leads to the newest.

` + exitCodes,
		Example: `  trimlantern cert obtain --directory https://authority.example/directory --accept-terms
  trimlantern cert obtain --server-file /etc/ssl/ternrock.pem --server-file /etc/ssl/ternrock.key --after "nginx -s reload"
  trimlantern cert obtain --name '*.ternrock.example' --dns-update 192.0.2.53 --dns-update-key update.key
  trimlantern cert obtain --show`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if o.Way != "" && !slices.Contains(cert.Ways, o.Way) {
				return &work.Fault{Code: work.Misuse, What: "--proof " + o.Way + " is not known", Do: "write " + strings.Join(cert.Ways, ", ")}
			}
			j, err := a.bookJob()
			if err != nil {
				return err
			}
			o.Tell = func(records []cert.Record) {
				t := a.text(a.errs)
				t.Records(records)
			}
			return shown(a, (*report.Text).Obtained)(cert.Obtain(c.Context(), j, o))
		},
	}
	a.obtainFlags(c, &o)
	f := c.Flags()
	f.StringVar(&o.Directory, "directory", "", "the `URL` of the authority's directory")
	f.BoolVar(&o.Accept, "accept-terms", false, "you have read the authority's terms of service and agree")
	f.StringVar(&o.Email, "email", "", "an `ADDRESS` that the authority may write to")
	f.StringVar(&o.BindingID, "eab-id", "", "the `ID` by which the authority knows you already")
	f.StringVar(&o.BindingKey, "eab-key-file", "", "`FILE` with the key to it, in base64")
	f.StringVar(&o.Way, "proof", "", "how names are proven: `WAY` (default: what works)")
	f.BoolVar(&o.Anyway, "anyway", false, "ask the authority even if this machine cannot see the proof")
	f.StringArrayVar(&o.Roots, "root", nil, "a `FOLDER` that the server serves (repeatable; default: from the site file)")
	f.StringVar(&o.Listen, "listen", "", "where the little server listens: `ADDRESS:PORT` (default: port 80)")
	f.StringVar(&o.Update, "dns-update", "", "the name `SERVER` that takes updates of the zone")
	f.StringVar(&o.UpdateKey, "dns-update-key", "", "`FILE` with the key that signs updates, as name servers write it")
	f.StringVar(&o.Program, "dns-program", "", "`PROGRAM` that adds and removes records: PROGRAM add|remove NAME VALUE")
	f.StringArrayVar(&o.Resolvers, "resolver", nil, "ask this name `SERVER` (repeatable; default: the system's)")
	span(f, &o.Wait, "wait", 0, "wait so long for records to be seen: `TIME`, like 30m")
	f.StringArrayVar(&o.Names, "name", nil, "another `NAME` for the certificate, also *.HOST (repeatable)")
	f.BoolVar(&o.Each, "each", false, "one certificate for each site of the network")
	words(c, f, &o.Key, "key", "the kind of key: `ecdsa|rsa` (default: ecdsa)", "ecdsa", "rsa")
	f.StringVar(&o.Profile, "profile", "", "the kind of certificate, by a `NAME` that the authority offers")
	f.StringVar(&o.Chain, "chain", "", "of several chains that the authority offers the one to the root of this `NAME` (a part of it)")
	f.StringArrayVar(&o.Install, "server-file", nil, "replace this `FILE` of the server; what it gets is told by what it holds, or named: key=FILE, certificate=, intermediates=, certificate-with-chain=, all= (repeatable)")
	f.StringVar(&o.After, "after", "", "run this `COMMAND` so that the server reads the files")
	f.BoolVar(&o.Again, "again", false, "obtain a new one even if there is a good one")
	f.BoolVar(&o.Show, "show", false, "print certificate, chain and private key, to paste into a panel")
	check(c.RegisterFlagCompletionFunc("proof", cobra.FixedCompletions(cert.Ways, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func (a *app) certRenew() *cobra.Command {
	o := cert.ObtainOptions{}
	timer := ""
	c := &cobra.Command{
		Use:   "renew",
		Short: "Renew the certificates that are due; print nothing when none is",
		Long: `Renews what cert obtain obtained, in the same way: when a third of its life
is left, or when the authority asks for it (RFC 9773). When nothing is due it
prints nothing and ends with 0. The key is a new one each time, unless
--keep-key is given.

--install-timer prints what makes this machine run it every six hours: a line
for cron, or two units for systemd. checkup and status say when the renewal
failed, or has not run.

` + exitCodes,
		Example: `  trimlantern cert renew --quiet
  trimlantern cert renew --again
  trimlantern cert renew --install-timer cron`,
		Args: noArgs,
		RunE: with(a.bookJob, func(c *cobra.Command, _ []string, j *work.Job) error {
			if timer != "" {
				return shown(a, (*report.Text).Timer)(checkup.RenewalTimer(j, timer))
			}
			return shown(a, (*report.Text).Obtained)(cert.Renew(c.Context(), j, o))
		}),
	}
	a.obtainFlags(c, &o)
	c.Flags().BoolVar(&o.Again, "again", false, "renew now, due or not")
	c.Flags().BoolVar(&o.KeepKey, "keep-key", false, "keep the private key")
	words(c, c.Flags(), &timer, "install-timer", "print what runs it every six hours: `cron|systemd`", checkup.Timers...)
	return c
}

func (a *app) certRevoke() *cobra.Command {
	o := cert.ObtainOptions{}
	reason, version, anyway := "superseded", "", false
	reasons := []string{"superseded", "key-compromise", "cessation", "unspecified"}
	c := &cobra.Command{
		Use:   "revoke [HOST]",
		Short: "Have the authority revoke a certificate",
		Long: `Has the authority revoke a certificate that cert obtain obtained: the one in
use, or another by the name of its folder (--version). There is no way back.
One that the site still serves is not revoked, unless --anyway is given:
browsers would turn visitors away.

` + exitCodes,
		Example: `  trimlantern cert revoke --version 20261126-210000
  trimlantern cert revoke --because key-compromise --version 20261126-210000`,
		Args: atMost(1, "one HOST"),
		RunE: with(a.bookJob, func(c *cobra.Command, args []string, j *work.Job) error {
			return shown(a, (*report.Text).Revoked)(cert.Revoke(c.Context(), j, o, append(args, "")[0], version, reason, anyway))
		}),
	}
	a.obtainFlags(c, &o)
	c.Flags().StringVar(&reason, "because", reason, "why: `superseded|key-compromise|cessation|unspecified`")
	c.Flags().StringVar(&version, "version", "", "the `NAME` of the certificate's folder (default: the one in use)")
	c.Flags().BoolVar(&anyway, "anyway", false, "also one that the site serves")
	check(c.RegisterFlagCompletionFunc("because", cobra.FixedCompletions(reasons, cobra.ShellCompDirectiveNoFileComp)))
	return c
}
