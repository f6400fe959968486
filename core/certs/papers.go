package certs

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"
	"software.sslmate.com/src/go-pkcs12"
)

// Paper is one thing that was found in a file: a certificate, a key or a request.
type Paper struct {
	File string            `json:"file"`
	What string            `json:"what"` // in words
	Cert *x509.Certificate `json:"-"`
	Key  crypto.Signer     `json:"-"`
	Bad  string            `json:"bad,omitempty"` // why it cannot be used
}

// Read takes a file apart: PEM blocks of all kinds, mixed with whatever stands between them, one thing in
// DER, a bundle of certificates (PKCS #7, .p7b), or certificates with their key (PKCS #12, .p12 and .pfx),
// which password opens. It fails where the file holds none of them.
func Read(file string, b []byte, password string) ([]Paper, error) {
	var out []Paper
	rest := b
	for {
		block, after := pem.Decode(rest)
		if block == nil {
			break
		}
		rest = after
		if block.Type == "PKCS7" || block.Type == "CMS" {
			out = append(out, bundled(file, block.Bytes)...)
			continue
		}
		out = append(out, paper(file, block.Type, block.Bytes, block.Headers["DEK-Info"] != ""))
	}
	if len(out) == 0 {
		if all := bundled(file, b); len(all) > 0 {
			return all, nil
		}
		if all := locked(file, b, password); len(all) > 0 {
			return all, nil
		}
		for _, kind := range []string{"CERTIFICATE", "PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY", "CERTIFICATE REQUEST"} {
			if p := paper(file, kind, b, false); p.Bad == "" {
				return []Paper{p}, nil
			}
		}
		return nil, errors.New("holds no certificate, key or request, neither as PEM nor as DER")
	}
	return out, nil
}

// bundled reads the certificates of a bundle (RFC 2315); none where it is no bundle.
func bundled(file string, der []byte) (out []Paper) {
	if !shallow(der) {
		return nil
	}
	p, err := pkcs7.Parse(der)
	if err != nil {
		return nil
	}
	for _, c := range p.Certificates {
		out = append(out, paper(file, "CERTIFICATE", c.Raw, false))
	}
	return out
}

// Bounds of a bundle: the library reads each level again for the one around it. Example: 100,000 times 30 80, which opens a
// sequence whose end is not known, would take hours.
const (
	maxDepth    = 40
	maxElements = 50_000
)

// shallow reports whether BER (X.690) is nested no deeper, and holds no more, than bundles of certificates do.
func shallow(der []byte) bool {
	ends := []int{len(der)} // of the elements around; -1: its end is marked by two zeros
	for p, n := 0, 0; p < len(der); n++ {
		for len(ends) > 1 && ends[len(ends)-1] == p {
			ends = ends[:len(ends)-1]
		}
		if n > maxElements || len(ends) > maxDepth || p+2 > len(der) {
			return false
		}
		tag := der[p]
		p++
		for long := tag&0x1f == 0x1f; long; p++ {
			if p >= len(der) {
				return false
			}
			long = der[p]&0x80 != 0
		}
		if p >= len(der) {
			return false
		}
		size := int(der[p])
		p++
		switch {
		case tag == 0 && size == 0:
			if ends[len(ends)-1] == -1 {
				ends = ends[:len(ends)-1]
			}
			continue
		case size == 0x80:
			ends = append(ends, -1)
			continue
		case size > 0x80:
			count := size & 0x7f
			if count > 4 || p+count > len(der) {
				return false
			}
			size = 0
			for _, c := range der[p : p+count] {
				size = size<<8 | int(c)
			}
			p += count
		}
		if size > len(der)-p {
			return false
		}
		if tag&0x20 != 0 {
			ends = append(ends, p+size)
		} else {
			p += size
		}
	}
	return true
}

// locked reads certificates with their key (RFC 7292); none where it is no such file.
func locked(file string, der []byte, password string) (out []Paper) {
	key, leaf, chain, err := pkcs12.DecodeChain(der, password)
	if errors.Is(err, pkcs12.ErrIncorrectPassword) {
		return []Paper{{File: file, What: "certificates with their key", Bad: "is locked with a password: name the file that holds it, --password-file FILE"}}
	}
	if err != nil {
		return nil
	}
	for _, c := range append([]*x509.Certificate{leaf}, chain...) {
		out = append(out, paper(file, "CERTIFICATE", c.Raw, false))
	}
	if signer, ok := key.(crypto.Signer); ok {
		out = append(out, Paper{File: file, What: "a private key (" + keyWords(signer.Public()) + ")", Key: signer})
	}
	return out
}

// paper reads one block; locked says that it is encrypted in the old way.
func paper(file, kind string, der []byte, locked bool) Paper {
	p := Paper{File: file}
	bad := func(err error) Paper {
		p.Bad = "cannot be read: " + strings.TrimPrefix(err.Error(), "x509: ")
		return p
	}
	switch {
	case kind == "ENCRYPTED PRIVATE KEY" || locked:
		p.What, p.Bad = "a private key", "is locked with a password; servers need it open, in a file of mode 0600"
		return p
	case kind == "CERTIFICATE" || kind == "X509 CERTIFICATE" || kind == "TRUSTED CERTIFICATE":
		p.What = "a certificate"
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return bad(err)
		}
		p.Cert = c
		switch {
		case bytes.Equal(c.RawIssuer, c.RawSubject):
			p.What = "the authority's root certificate " + fmt.Sprintf("%q", name(c))
			if !c.IsCA {
				p.What = "a certificate that signed itself, for " + strings.Join(shown(c), ", ")
			}
		case c.IsCA:
			p.What = "an intermediate certificate " + fmt.Sprintf("%q, from %q", name(c), c.Issuer.CommonName)
		default:
			p.What = "the certificate of " + strings.Join(shown(c), ", ") + ", from " + fmt.Sprintf("%q", c.Issuer.CommonName)
		}
	case strings.HasSuffix(kind, "PRIVATE KEY"):
		p.What = "a private key"
		key, err := readKey(der)
		if err != nil {
			return bad(err)
		}
		p.Key, p.What = key, "a private key ("+keyWords(key.Public())+")"
	case strings.HasSuffix(kind, "CERTIFICATE REQUEST"):
		p.What = "a signing request"
		r, err := x509.ParseCertificateRequest(der)
		if err != nil {
			return bad(err)
		}
		p.What = "a signing request for " + strings.Join(r.DNSNames, ", ")
	case kind == "EC PARAMETERS" || kind == "DH PARAMETERS":
		p.What = "parameters, which are not needed"
	default:
		p.What, p.Bad = fmt.Sprintf("%q", kind), "is of no use here"
	}
	return p
}

// readKey reads a key in any of the three usual forms.
func readKey(der []byte) (crypto.Signer, error) {
	if k, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		if s, ok := k.(crypto.Signer); ok {
			return s, nil
		}
	}
	if k, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return k, nil
	}
	return x509.ParseECPrivateKey(der)
}

func keyWords(public crypto.PublicKey) string {
	switch k := public.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA, %d bits", k.N.BitLen())
	case *ecdsa.PublicKey:
		return "ECDSA, " + k.Curve.Params().Name
	}
	return fmt.Sprintf("%T", public)
}

// Bundle is what a server needs, in its order.
type Bundle struct {
	Chain []*x509.Certificate // the site's own first, then each one's issuer, no root
	Key   crypto.Signer       // nil: none that belongs to it
}

// Sort finds what belongs together among papers, in whatever order they came. names
// tell the site's own certificate. It fails where there is none.
func Sort(papers []Paper, names []string) (Bundle, error) {
	var all []*x509.Certificate
	for _, p := range papers {
		if p.Cert != nil {
			all = append(all, p.Cert)
		}
	}
	if len(all) == 0 {
		return Bundle{}, errors.New("none of the files holds a certificate")
	}
	leaf := best(all, papers, names)
	out := Bundle{Chain: []*x509.Certificate{leaf}}
	for at := leaf; !bytes.Equal(at.RawIssuer, at.RawSubject); {
		var next *x509.Certificate
		for _, c := range all {
			if bytes.Equal(c.RawSubject, at.RawIssuer) && at.CheckSignatureFrom(c) == nil && !bytes.Equal(c.RawIssuer, c.RawSubject) && (next == nil || c.NotAfter.After(next.NotAfter)) {
				next = c
			}
		}
		if next == nil || len(out.Chain) > len(all) {
			break
		}
		out.Chain = append(out.Chain, next)
		at = next
	}
	for _, p := range papers {
		if p.Key != nil && sameKey(p.Key.Public(), leaf.PublicKey) {
			out.Key = p.Key
		}
	}
	return out, nil
}

// best returns the site's own certificate among several: one that is for a name, and of these one that the key
// fits; of last year's and this year's the one that ends later.
func best(all []*x509.Certificate, papers []Paper, names []string) *x509.Certificate {
	rank := func(c *x509.Certificate) (n int) {
		if !c.IsCA {
			n++
		}
		if slices.ContainsFunc(names, func(name string) bool { return c.VerifyHostname(name) == nil }) {
			n += 4
		}
		if slices.ContainsFunc(papers, func(p Paper) bool { return p.Key != nil && sameKey(p.Key.Public(), c.PublicKey) }) {
			n += 2
		}
		return n
	}
	leaf := all[0]
	for _, c := range all[1:] {
		if a, b := rank(c), rank(leaf); a > b || a == b && c.NotAfter.After(leaf.NotAfter) {
			leaf = c
		}
	}
	return leaf
}

func sameKey(a, b crypto.PublicKey) bool {
	e, ok := a.(interface{ Equal(crypto.PublicKey) bool })
	return ok && e.Equal(b)
}

// PEM writes the chain and the key as servers want them; key is nil without one.
func (b Bundle) PEM() (chain, key []byte, err error) {
	for _, c := range b.Chain {
		chain = append(chain, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
	}
	if b.Key == nil {
		return chain, nil, nil
	}
	key, err = KeyPEM(b.Key)
	return chain, key, err
}

// NewKey makes a private key of a kind: "ecdsa" on P-256, or "rsa" of 3072 bits.
func NewKey(kind string) (crypto.Signer, error) {
	switch kind {
	case "ecdsa":
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case "rsa":
		return rsa.GenerateKey(rand.Reader, 3072)
	}
	return nil, fmt.Errorf("keys are of the kind ecdsa or rsa, not %q", kind)
}

// KeyPEM writes a key in the form that servers read (PKCS #8, RFC 5958).
func KeyPEM(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// ReadKey reads the first private key of a PEM text.
func ReadKey(b []byte) (crypto.Signer, error) {
	papers, err := Read("", b, "")
	if err != nil {
		return nil, err
	}
	for _, p := range papers {
		if p.Key != nil {
			return p.Key, nil
		}
	}
	return nil, errors.New("holds no private key that can be read")
}

// Asking makes a signing request (PKCS #10, RFC 2986) in DER for names, the first of them the subject's.
func Asking(key crypto.Signer, names []string) ([]byte, error) {
	return x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: names[0]}, DNSNames: names}, key)
}

// Request makes a private key of a kind (see NewKey) and a signing request for names; both as PEM.
func Request(kind string, names []string) (key, request []byte, err error) {
	signer, err := NewKey(kind)
	if err != nil {
		return nil, nil, err
	}
	der, err := Asking(signer, names)
	if err != nil {
		return nil, nil, err
	}
	if key, err = KeyPEM(signer); err != nil {
		return nil, nil, err
	}
	return key, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), nil
}

// Fits reports whether a private key belongs to a certificate.
func Fits(key crypto.Signer, c *x509.Certificate) bool {
	return key != nil && c != nil && sameKey(key.Public(), c.PublicKey)
}
