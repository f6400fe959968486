package cli

import (
	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/cert"
)

func (a *app) certCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "cert",
		Short: "Certificates: obtain, renew, revoke, request, check, proof",
		Long: `Certificates by open standards and without any authority's own service.

obtain gets one from an authority that speaks the open protocol (RFC 8555) and
puts it in place, renew repeats that when it is due, revoke takes one back.
Where the certificate comes another way: request makes a key and a signing
request, check looks whether the files that came back belong together and
writes them in the server's order, proof tries whether a file that proves who
owns the site can be fetched.

` + exitCodes,
		Example: `  trimlantern cert obtain --directory https://authority.example/directory --accept-terms
  trimlantern cert renew --quiet
  trimlantern cert check ternrock.crt bundle.crt ternrock.example.key.pem --write .
  trimlantern cert proof /var/www/ternrock`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.certObtain(), a.certRenew(), a.certRevoke(), a.certRequest(), a.certCheck(), a.certProof())
	return c
}

func (a *app) certRequest() *cobra.Command {
	kind := "ecdsa"
	c := &cobra.Command{
		Use:   "request [FOLDER]",
		Short: "Make a private key and a signing request for all names",
		Long: `Makes HOST.key.pem (mode 0600) and HOST.csr.pem (PKCS #10) for all names of the
site. The request goes to the authority, the key stays. Files that are there are
never overwritten. With --site it needs no site file.

` + exitCodes,
		Example: `  trimlantern cert request
  trimlantern cert request --key rsa --site https://ternrock.example --also www.ternrock.example /etc/ssl/private`,
		Args: atMost(1, "one FOLDER"),
		RunE: with(a.scanJob, func(_ *cobra.Command, args []string, j *work.Job) error {
			return shown(a, (*report.Text).Requested)(cert.Request(j, append(args, ".")[0], kind))
		}),
	}
	a.address(c)
	words(c, c.Flags(), &kind, "key", "the kind of key: `ecdsa|rsa`", "ecdsa", "rsa")
	return c
}

func (a *app) certCheck() *cobra.Command {
	o := cert.CheckOptions{}
	c := &cobra.Command{
		Use:   "check FILE…",
		Short: "Look whether certificate files and key belong together",
		Long: `Takes the files that came back from the authority, and the key, in any order, mixed
in one file or not, as PEM, DER, .p7b or .p12. Says which is which, whether key and
certificate belong together, whether the chain is whole, in date and for all names.
--write puts HOST.chain.pem and HOST.key.pem into a folder, in the order that servers
want; last year's files are kept beside them, and are not replaced by a certificate
that visitors could not use.

` + exitCodes,
		Example: `  trimlantern cert check ternrock.crt bundle.crt ternrock.example.key.pem
  trimlantern cert check everything.pem --write /etc/ssl/ternrock`,
		Args: atLeast(1, "the files of the certificate"),
		RunE: with(a.scanJob, func(_ *cobra.Command, args []string, j *work.Job) error {
			return shown(a, (*report.Text).Checked)(cert.Check(j, args, o))
		}),
	}
	a.address(c)
	c.Flags().StringVar(&a.ca, "ca", "", "trust the authority in this PEM `FILE` too")
	c.Flags().StringVar(&o.Folder, "write", "", "write chain and key to this `FOLDER`")
	c.Flags().StringVar(&o.PasswordEnv, "password-env", "", "the password of a .p12 file is in this environment `VARIABLE`")
	c.Flags().StringVar(&o.PasswordFile, "password-file", "", "the password of a .p12 file is in this `FILE`")
	c.Flags().Var(days{&o.Soon}, "expires-within", "a certificate that ends within this `TIME` needs attention, like 14d (default: 21d, or a quarter of a shorter life)")
	return c
}

func (a *app) certProof() *cobra.Command {
	keep, older := false, false
	c := &cobra.Command{
		Use:   "proof ROOT [NAME CONTENT]",
		Short: "Try whether a proof of ownership can be fetched",
		Long: `Puts a file below the well-known folder of ROOT, the folder that the server serves,
fetches it over HTTP under every name of the site as an authority would, and takes it
away again. NAME and CONTENT are what the authority gave; without them a file is made
up. --keep leaves it there for the authority.

` + exitCodes,
		Example: `  trimlantern cert proof /var/www/ternrock
  trimlantern cert proof --keep /var/www/ternrock token-from-authority content-from-authority`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) != 1 && len(args) != 3 {
				return argFault(c, "needs the folder ROOT, or ROOT, NAME and CONTENT")
			}
			return nil
		},
		RunE: with(a.scanJob, func(c *cobra.Command, args []string, j *work.Job) error {
			args = append(args, "", "")
			folder := 0
			if older {
				folder = 1
			}
			return shown(a, (*report.Text).Proof)(cert.Prove(c.Context(), j, args[0], args[1], args[2], folder, keep))
		}),
	}
	a.address(c)
	a.network(c)
	c.Flags().BoolVar(&keep, "keep", false, "leave the file there")
	c.Flags().BoolVar(&older, "pki-folder", false, "use the older folder, /.well-known/pki-validation/")
	return c
}
