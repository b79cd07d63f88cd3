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
)

// startSecureService starts a service with TLS. The address, HOST:PORT, takes plain connections, and encrypts them.
func (s *stage) startSecureService() (service *process, address string, stop func()) {
	cert, private := s.certificate()
	service, secure := s.startServiceWith("--tls-cert", cert, "--tls-key", private)
	tunnel := must(net.Listen("tcp", "127.0.0.1:0"))
	go encrypt(tunnel, secure)
	return service, tunnel.Addr().String(), func() {
		service.stop()
		_ = tunnel.Close()
	}
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
