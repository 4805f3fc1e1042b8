package nbd

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"
	"path/filepath"
)

// ClientTLS reads a folder as libvirt lays it out for clients: cacert.pem,
// clientcert.pem and clientkey.pem. The caller sets the server's name.
func ClientTLS(folder string) (*tls.Config, error) {
	pool, pair, err := certificates(folder, "client")
	if err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool, Certificates: []tls.Certificate{pair}}, nil
}

// ServerTLS reads a folder as libvirt lays it out for servers: cacert.pem,
// servercert.pem and serverkey.pem. Clients have to show a certificate of the
// same authority.
func ServerTLS(folder string) (*tls.Config, error) {
	pool, pair, err := certificates(folder, "server")
	if err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert, Certificates: []tls.Certificate{pair}}, nil
}

func certificates(folder, side string) (*x509.CertPool, tls.Certificate, error) {
	ca, err := os.ReadFile(filepath.Join(folder, "cacert.pem"))
	if err != nil {
		return nil, tls.Certificate{}, fmt.Errorf("certificate authority: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(ca) {
		return nil, tls.Certificate{}, fmt.Errorf("%s holds no certificate", filepath.Join(folder, "cacert.pem"))
	}
	pair, err := tls.LoadX509KeyPair(filepath.Join(folder, side+"cert.pem"), filepath.Join(folder, side+"key.pem"))
	if err != nil {
		return nil, pair, fmt.Errorf("%s certificate: %w", side, err)
	}
	return pool, pair, nil
}
