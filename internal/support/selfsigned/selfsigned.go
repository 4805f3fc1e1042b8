// Package selfsigned makes certificates for servers on loopback, for tests.
package selfsigned

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"time"
)

// Certificate is that of a server on 127.0.0.1, for an hour.
type Certificate struct {
	Server tls.Certificate
	PEM    string
	Pool   *x509.CertPool // in which it is trusted
}

// New makes one.
func New() (Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return Certificate{}, err
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "server"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		return Certificate{}, err
	}
	out := Certificate{Server: tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, PEM: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), Pool: x509.NewCertPool()}
	out.Pool.AppendCertsFromPEM([]byte(out.PEM))
	return out, nil
}
