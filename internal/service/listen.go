package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"plumbbob/internal/hint"
)

// lock keeps a second service out of the data directory.
func (s *Service) lock() error {
	f, err := os.OpenFile(filepath.Join(s.o.DataDir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return fmt.Errorf("another plumbd is using %s: stop it, or name another directory with --data-dir", s.o.DataDir)
	}
	s.locked = f // an unreferenced file is closed by the garbage collector, and the lock goes with it
	return nil
}

// listen binds the address. What can be reached from elsewhere is served over TLS.
func (s *Service) listen() error {
	ln, err := net.Listen("tcp", s.o.Listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf("%s is in use: stop what listens there, or choose another address with --listen", s.o.Listen)
	}
	if err != nil {
		return fmt.Errorf("--listen: %w", err)
	}
	s.ln = ln
	addr := ln.Addr().(*net.TCPAddr)
	if addr.IP.IsLoopback() && s.o.TLSCert == "" {
		s.URL = "http://" + addr.String()
		return nil
	}
	cert, err := s.certificate()
	if err != nil {
		return err
	}
	s.secure = &tls.Config{
		GetCertificate: s.newest(cert), MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
		CipherSuites: []uint16{ // of TLS 1.2: none that puts a block after the other
			tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384,
			tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256, tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256,
		},
	}
	host := addr.IP.String()
	if addr.IP.IsUnspecified() {
		host, _ = os.Hostname()
	}
	s.URL = "https://" + net.JoinHostPort(host, fmt.Sprint(addr.Port))
	return nil
}

// newest gives out a certificate, and takes one that has been put in its place: whatever
// renews it need not stop the service. One that cannot be read is not taken.
func (s *Service) newest(cert tls.Certificate) func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	var mu sync.Mutex
	var read time.Time
	if info, err := os.Stat(s.o.TLSCert); err == nil {
		read = info.ModTime()
	}
	return func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		mu.Lock()
		defer mu.Unlock()
		if info, err := os.Stat(s.o.TLSCert); s.o.TLSCert != "" && err == nil && !info.ModTime().Equal(read) {
			if c, err := tls.LoadX509KeyPair(s.o.TLSCert, s.o.TLSKey); err == nil {
				cert, read = c, info.ModTime()
				s.o.Log.Info("another certificate is used from now on", "file", s.o.TLSCert)
			} else {
				s.o.Log.Error("the new certificate cannot be used, so the old one stays", "file", s.o.TLSCert, "because", err)
				read = info.ModTime()
			}
		}
		return &cert, nil
	}
}

func (s *Service) certificate() (tls.Certificate, error) {
	if s.o.TLSCert != "" {
		c, err := tls.LoadX509KeyPair(s.o.TLSCert, s.o.TLSKey)
		if err != nil {
			return c, fmt.Errorf("--tls-cert, --tls-key: %w", err)
		}
		return c, nil
	}
	file := filepath.Join(s.o.DataDir, "tls.pem")
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if text, err = selfSigned(); err == nil {
			err = os.WriteFile(file, text, 0o600)
		}
	}
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("certificate: %w", err)
	}
	c, err := tls.X509KeyPair(text, text)
	if err != nil {
		return c, fmt.Errorf("certificate in %s: %w", file, err)
	}
	sum := sha256.Sum256(c.Certificate[0])
	s.Fingerprint = hex.EncodeToString(sum[:])
	return c, nil
}

const certLasts = 10 * 365 * 24 * time.Hour

// ownAddresses are those of this host, for a certificate of its own.
func ownAddresses() (ips []net.IP) {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLinkLocalUnicast() {
			ips = append(ips, n.IP)
		}
	}
	return ips
}

// selfSigned makes a certificate that clients know by its fingerprint.
func selfSigned() ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, err
	}
	host, _ := os.Hostname()
	c := x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "Plumb Bob on " + host},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(certLasts), DNSNames: []string{host, "localhost"}, IPAddresses: ownAddresses(),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, &c, &c, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	out := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	return append(out, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...), nil
}

// underTLS is how TLS is spoken here, although the API may be served in clear.
func (s *Service) underTLS() (*tls.Config, error) {
	if s.secure != nil {
		return s.secure, nil
	}
	cert, err := s.certificate()
	if err != nil {
		return nil, err
	}
	return &tls.Config{GetCertificate: s.newest(cert), MinVersion: tls.VersionTLS12}, nil
}

// listenMessages takes what gear sends over syslog, where that is wanted.
func (s *Service) listenMessages() (err error) {
	if s.o.GearSyslog == "" && s.o.GearSyslogTLS == "" || s.o.Safe {
		return nil
	}
	how := s.secure
	if s.o.GearSyslogTLS != "" {
		if how, err = s.underTLS(); err != nil {
			return err
		}
	}
	s.messages, err = hint.ListenMessages(s.o.GearSyslog, s.o.GearSyslogTLS, how, hint.Said{Log: s.o.Log, Store: s.Store.AddMessages, Soon: s.watcher.Again})
	return err
}
