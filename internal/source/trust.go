package source

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

func fingerprint(raw []byte) string {
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// PinError says that a server showed another certificate than the one pinned.
type PinError struct{ Pinned, Shown string }

func (e *PinError) Error() string {
	return fmt.Sprintf("the server shows the certificate %.16s…, pinned is %.16s…", e.Shown, e.Pinned)
}

// TLS returns how a connection to the source is secured. With a pin the server's certificate must be the pinned one,
// whoever signed it; otherwise it must verify for the server's name. seen is called with the certificate shown, before
// it is judged.
func (s Settings) TLS(server string, seen func(*x509.Certificate)) (*tls.Config, error) {
	c := &tls.Config{ServerName: server, MinVersion: tls.VersionTLS12}
	if s.Authorities != "" {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM([]byte(s.Authorities)) {
			return nil, &Trouble{What: "the certificates of the authorities cannot be read", Try: "give them as PEM, one after another"}
		}
		c.RootCAs = pool
	}
	if s.Secrets.Certificate != "" {
		pair, err := tls.X509KeyPair([]byte(s.Secrets.Certificate), []byte(s.Secrets.Key))
		if err != nil {
			return nil, &Trouble{What: "the client certificate and its key cannot be read", Try: "give both as PEM, and the key that belongs to the certificate", Err: err}
		}
		c.Certificates = []tls.Certificate{pair}
	}
	roots := c.RootCAs
	c.InsecureSkipVerify = true // judged below, so that an unknown certificate can be shown and pinned
	c.VerifyConnection = func(state tls.ConnectionState) error {
		leaf := state.PeerCertificates[0]
		if seen != nil {
			seen(leaf)
		}
		if s.Pin != "" {
			if shown := fingerprint(leaf.Raw); !strings.EqualFold(shown, s.Pin) {
				return &PinError{Pinned: s.Pin, Shown: shown}
			}
			return nil
		}
		between := x509.NewCertPool()
		for _, other := range state.PeerCertificates[1:] {
			between.AddCert(other)
		}
		_, err := leaf.Verify(x509.VerifyOptions{DNSName: server, Roots: roots, Intermediates: between})
		return err
	}
	return c, nil
}

// Distrust says what is wrong with a certificate and what to do, nil where err is about something else.
func Distrust(err error) *Trouble {
	var pin *PinError
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	const pinIt = "compare its fingerprint with the server's own and pin it (--pin), or give the authority that signed it (--authority)"
	switch {
	case errors.As(err, &pin):
		return &Trouble{What: pin.Error(), Try: "find out why it changed; if it should have, pin the new one", Err: err}
	case errors.As(err, &unknown):
		return &Trouble{What: "nobody known here signed the server's certificate", Try: pinIt, Err: err}
	case errors.As(err, &name):
		return &Trouble{What: "the server's certificate is for another name: " + name.Error(), Try: "use the name it is for, or " + pinIt, Err: err}
	case errors.As(err, &invalid):
		return &Trouble{What: "the server's certificate is not valid: " + invalid.Error(), Try: "renew it at the server, or " + pinIt, Err: err}
	}
	return nil
}
