//go:build linux

package main

import (
	"crypto/tls"
	"io"
	"net"

	"tovik.example/tovik/internal/transport/transporttest"
)

// startSecureService starts a service with TLS. The address, HOST:PORT, takes plain connections, and encrypts them.
func (s *stage) startSecureService() (service *process, address string, stop func()) {
	cert, private, err := transporttest.Certificate(s.dir)
	check(err)
	service, secure := s.startServiceWith("--tls-cert", cert, "--tls-key", private)
	tunnel := must(net.Listen("tcp", "127.0.0.1:0"))
	go encrypt(tunnel, secure)
	return service, tunnel.Addr().String(), func() {
		service.stop()
		_ = tunnel.Close()
	}
}

// secureLinks is limited by the descriptors of this process, which needs two for each.
const secureLinks = 5000

// encrypt passes each plain connection on over one with TLS.
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
