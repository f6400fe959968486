// Command manypages is the site for bench/scan.sh: it serves a made site of many
// pages over HTTPS, or fetches all of them in a plain loop, which is what a scan is
// held against.
//
//	manypages serve PAGES CA-FILE ADDR-FILE
//	manypages fetch PAGES CA-FILE ADDR PARALLEL
package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

const host = "ternrock.example"

func main() {
	log.SetFlags(0)
	if len(os.Args) < 5 {
		log.Fatal("manypages serve PAGES CA-FILE ADDR-FILE, or fetch PAGES CA-FILE ADDR PARALLEL")
	}
	pages, err := strconv.Atoi(os.Args[2])
	if err != nil {
		log.Fatal(err)
	}
	if os.Args[1] == "serve" {
		err = serve(pages, os.Args[3], os.Args[4])
	} else {
		err = fetch(pages, os.Args[3], os.Args[4], os.Args[5])
	}
	if err != nil {
		log.Fatal(err)
	}
}

// page writes one page of about 20 kB: a menu, words, pictures, and links onward.
func page(n, pages int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "<!DOCTYPE html><html><head><title>Page %d</title><link rel=stylesheet href=/style.css></head><body><nav>", n)
	for i := range 40 {
		fmt.Fprintf(&b, `<a href="https://%s/page/%d" class="menu-item">Room %d</a> `, host, i, i)
	}
	b.WriteString("</nav><main>")
	for i := range 30 {
		fmt.Fprintf(&b, `<p class="words">Between the %dth and the %dth tide the keeper trims the lantern, writes into the logbook what the wind does, and counts the terns on the northern ledge; on most days nobody else does, and the light burns all the same. <a href="/page/%d">Onward</a></p>`, i, i+1, (n*31+i*977)%pages)
		if i%6 == 0 {
			fmt.Fprintf(&b, `<img src="/media/%d.svg" alt="The ledge" width="420" srcset="/media/%d.svg 1x, /media/%d.svg 2x">`, i, i, i+1)
		}
	}
	if n%10 == 0 {
		fmt.Fprintf(&b, `<img src="http://%s/media/old-%d.svg">`, host, n%500)
	}
	fmt.Fprintf(&b, `<a href="/page/%d">Next</a></main></body></html>`, (n+1)%pages)
	return b.String()
}

func serve(pages int, caFile, addrFile string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: host}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		DNSNames: []string{host}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &key.PublicKey, key)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	if err := os.WriteFile(caFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600); err != nil {
		return err
	}
	if err := os.WriteFile(addrFile, []byte(l.Addr().String()), 0o600); err != nil {
		return err
	}
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := 0
		if r.URL.Path == "/style.css" {
			w.Header().Set("Content-Type", "text/css")
			fmt.Fprint(w, "p { color: #123 }")
			return
		}
		if _, err := fmt.Sscanf(r.URL.Path, "/page/%d", &n); err != nil && r.URL.Path != "/" {
			w.Header().Set("Content-Type", "image/svg+xml")
			fmt.Fprint(w, "<svg/>")
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, page(n, pages))
	})
	s := &http.Server{Handler: h, TLSConfig: &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}}
	return s.ServeTLS(l, "", "")
}

func fetch(pages int, caFile, addr, parallel string) error {
	n, err := strconv.Atoi(parallel)
	if err != nil {
		return err
	}
	ca, err := os.ReadFile(caFile)
	if err != nil {
		return err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(ca)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 16,
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, addr)
		}}}
	var next, bytes atomic.Int64
	var failed atomic.Value
	var workers sync.WaitGroup
	for range n {
		workers.Go(func() {
			for i := next.Add(1) - 1; i < int64(pages); i = next.Add(1) - 1 {
				res, err := client.Get(fmt.Sprintf("https://%s/page/%d", host, i))
				if err == nil {
					var b []byte
					b, err = io.ReadAll(res.Body)
					bytes.Add(int64(len(b)))
					res.Body.Close()
				}
				if err != nil {
					failed.Store(err)
					return
				}
			}
		})
	}
	workers.Wait()
	if err, ok := failed.Load().(error); ok {
		return err
	}
	fmt.Fprintf(os.Stderr, "%d pages, %d MB\n", pages, bytes.Load()>>20)
	return nil
}
