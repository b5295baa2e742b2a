package gate

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/net/publicsuffix"
)

// The lab's own authority. There is one for each domain, which may speak for the names at and below it alone (RFC 5280,
// 4.2.1.10): who trusts it trusts it for nothing else.

const (
	authorityLives = 10 * 365 * 24 * time.Hour
	ownLives       = 90 * 24 * time.Hour
	authorityBegin = "authority-"
)

// constraint is the domain that the authority of a name speaks for.
func constraint(name string) string {
	name = strings.TrimPrefix(name, "*.")
	if top, err := publicsuffix.EffectiveTLDPlusOne(name); err == nil {
		return top
	}
	return name
}

func (c *certificates) authorityFile(domain string) string {
	return filepath.Join(c.g.options.Folder, certificateFolder, authorityBegin+domain+".pem")
}

// authority returns the authority for a domain, which is made where there is none.
func (c *certificates) authority(domain string) (*x509.Certificate, crypto.Signer, error) {
	text, err := os.ReadFile(c.authorityFile(domain))
	if err == nil {
		pair, err := tls.X509KeyPair(text, text)
		if err != nil {
			return nil, nil, fmt.Errorf("the authority for %s cannot be read: %w", domain, err)
		}
		return pair.Leaf, pair.PrivateKey.(crypto.Signer), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, err
	}
	key, err := newKey()
	if err != nil {
		return nil, nil, err
	}
	now := c.g.options.Now()
	t := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{Organization: []string{c.settings.Lab + " (a lab's own authority)"}, CommonName: domain},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(authorityLives), IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage:                    x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: []string{domain},
		ExcludedIPRanges: []*net.IPNet{{IP: net.IPv4zero.To4(), Mask: net.CIDRMask(0, 32)}, {IP: net.IPv6zero, Mask: net.CIDRMask(0, 128)}},
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, nil, err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, nil, err
	}
	text = append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	file := c.authorityFile(domain)
	if err := writeWhole(file, text); err != nil {
		return nil, nil, err
	}
	made, err := x509.ParseCertificate(der)
	return made, key, err
}

// serial is a number that no other certificate has (RFC 5280, 4.1.2.2).
func serial() *big.Int {
	b := make([]byte, 16)
	rand.Read(b)
	b[0] &= 0x7f
	return new(big.Int).SetBytes(b)
}

// issue makes a certificate for a name by the lab's own authority.
func (c *certificates) issue(name string) error {
	c.mu.Lock() // one makes the authority
	parent, signer, err := c.authority(constraint(name))
	c.mu.Unlock()
	if err != nil {
		return err
	}
	var key *ecdsa.PrivateKey
	if key, err = newKey(); err != nil {
		return err
	}
	now := c.g.options.Now()
	t := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(ownLives), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, t, parent, key.Public(), signer)
	if err != nil {
		return err
	}
	return c.write(name, "own", [][]byte{der}, key)
}

// Authorities returns the certificates of the lab's own authorities that the gate has, in PEM.
func (g *Gate) Authorities() (string, error) {
	files, err := filepath.Glob(filepath.Join(g.options.Folder, certificateFolder, authorityBegin+"*.pem"))
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return "", err
		}
		for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
			if block.Type == "CERTIFICATE" {
				out.Write(pem.EncodeToMemory(block))
			}
		}
	}
	return out.String(), nil
}

// Certificates reads certificates in PEM; what is none is left out.
func Certificates(text string) (all []*x509.Certificate) {
	for block, rest := pem.Decode([]byte(text)); block != nil; block, rest = pem.Decode(rest) {
		if c, err := x509.ParseCertificate(block.Bytes); err == nil {
			all = append(all, c)
		}
	}
	return all
}
