package realsite

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"kestrel/internal/support/unprivileged"
)

// MakeCertificates makes an authority and certificates of server and client in
// a folder, under the names of libvirt as well as of QEMU. They are good for a
// day and for loopback.
func MakeCertificates(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	ca := template(1, "Skerry Line test authority")
	ca.IsCA, ca.BasicConstraintsValid, ca.KeyUsage = true, true, x509.KeyUsageCertSign
	der, err := x509.CreateCertificate(rand.Reader, ca, ca, &key.PublicKey, key)
	if err != nil {
		return fmt.Errorf("make the authority: %w", err)
	}
	err = errors.Join(writePEM(dir, "CERTIFICATE", der, "cacert.pem", "ca-cert.pem"))
	for n, side := range []string{"server", "client"} {
		own, kerr := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if kerr != nil {
			return kerr
		}
		c := template(int64(n)+2, side)
		c.KeyUsage = x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment
		c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}
		c.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1)}
		c.DNSNames = []string{"localhost"}
		der, cerr := x509.CreateCertificate(rand.Reader, c, ca, &own.PublicKey, key)
		if cerr != nil {
			return fmt.Errorf("make the certificate of the %s: %w", side, cerr)
		}
		secret, kerr := x509.MarshalPKCS8PrivateKey(own)
		if kerr != nil {
			return kerr
		}
		err = errors.Join(err, writePEM(dir, "CERTIFICATE", der, side+"cert.pem", side+"-cert.pem"), writePEM(dir, "PRIVATE KEY", secret, side+"key.pem", side+"-key.pem"))
	}
	return err
}

func template(serial int64, name string) *x509.Certificate {
	return &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour)}
}

func writePEM(dir, kind string, der []byte, names ...string) error {
	cred, err := unprivileged.As("nobody")
	if err != nil {
		return err
	}
	for _, n := range names {
		p := filepath.Join(dir, n)
		if err := os.WriteFile(p, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600); err != nil {
			return err
		}
		if err := unprivileged.Give(cred, p); err != nil {
			return err
		}
	}
	return nil
}
