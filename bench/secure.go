//go:build linux

package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"tovik.example/tovik/bench/load"
)

// secure measures the memory of an idle link over TLS.
func (s *stage) secure(r results) {
	cert, private := s.certificate()
	service, address := s.startServiceWith("--tls-cert", cert, "--tls-key", private)
	defer service.stop()
	tunnel := must(net.Listen("tcp", "127.0.0.1:0"))
	defer tunnel.Close()
	go encrypt(tunnel, address)
	hellos := s.hellos(secureLinks)
	r["link_rss_tls_kb"], _, _ = s.weigh(service, load.Plan{Address: tunnel.Addr().String(), Source: "127.0.0.2", Path: "/v1/link", Links: secureLinks, Hellos: hellos, At: 16},
		`{"type":"activity"}`, calm)
}

// secureLinks are so many that this process, which encrypts them, has enough descriptors.
const secureLinks = 5000

// encrypt passes on what comes over plain connections over as many with TLS.
func encrypt(plain net.Listener, address string) {
	for {
		near, err := plain.Accept()
		if err != nil {
			return
		}
		go func() {
			defer near.Close()
			far, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true}) // it speaks to its own child
			if err != nil {
				return
			}
			defer far.Close()
			go func() {
				_, _ = io.Copy(far, near)
				_ = far.Close()
			}()
			_, _ = io.Copy(near, far)
		}()
	}
}

// certificate makes a certificate, and returns its files.
func (s *stage) certificate() (cert, private string) {
	key := must(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	file := func(name, kind string, der []byte) string {
		path := filepath.Join(s.dir, name)
		check(os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600))
		return path
	}
	return file("cert.pem", "CERTIFICATE", must(x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key))),
		file("key.pem", "PRIVATE KEY", must(x509.MarshalPKCS8PrivateKey(key)))
}
