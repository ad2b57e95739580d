package libvirt_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/source"
)

// authority signs certificates.
type authority struct {
	t    *testing.T
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	n    int64
}

type pair struct{ cert, key, sha256 string }

func newAuthority(t *testing.T) *authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	a := &authority{t: t, key: key}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tidewrack Ferries"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	a.cert, err = x509.ParseCertificate(raw)
	require.NoError(t, err)
	return a
}

func block(kind string, raw []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: raw}))
}

func (a *authority) pem() string { return block("CERTIFICATE", a.cert.Raw) }

func (a *authority) sign(name string, use x509.ExtKeyUsage) pair {
	a.n++
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(a.t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(100 + a.n), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment, ExtKeyUsage: []x509.ExtKeyUsage{use}, DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	raw, err := x509.CreateCertificate(rand.Reader, template, a.cert, &key.PublicKey, a.key)
	require.NoError(a.t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(a.t, err)
	sum := sha256.Sum256(raw)
	return pair{block("CERTIFICATE", raw), block("PRIVATE KEY", private), hex.EncodeToString(sum[:])}
}

// secured makes the bed listen with TLS only.
func secured(t *testing.T, a *authority) (b *bed, server pair, write func(pair)) {
	b = newBed(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	put := func(name, text string) string {
		path := b.dir + "/" + name
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	write = func(p pair) {
		put("server.pem", p.cert)
		put("server.key", p.key)
	}
	server = a.sign("localhost", x509.ExtKeyUsageServerAuth)
	write(server)
	conf := put("libvirtd.conf", fmt.Sprintf("listen_tls = 1\nlisten_tcp = 0\nlisten_addr = \"127.0.0.1\"\ntls_port = \"%d\"\nkey_file = \"%s/server.key\"\ncert_file = \"%s/server.pem\"\nca_file = \"%s\"\n",
		port, b.dir, b.dir, put("ca.pem", a.pem())))
	b.args = []string{"--listen", "-f", conf}
	b.Mend(t) // waits by the socket
	b.form = fmt.Sprintf("test+tls://127.0.0.1:%d%s/node.xml", port, b.dir)
	return b, server, write
}

func step(r source.Report, name string) source.Step {
	for _, s := range r.Steps {
		if s.Name == name {
			return s
		}
	}
	return source.Step{}
}

func TestOverTLS(t *testing.T) {
	a := newAuthority(t)
	b, server, write := secured(t, a)
	us := a.sign("dowsing-rod", x509.ExtKeyUsageClientAuth)
	set := b.Settings()
	set.Secrets = source.Secrets{Certificate: us.cert, Key: us.key}
	probe := func(s source.Settings) source.Report {
		src, err := b.Open(s)
		require.NoError(t, err)
		defer src.Close()
		return src.Probe(t.Context())
	}

	r := probe(set)
	assert.False(t, r.OK())
	st := step(r, source.StepCertificate)
	assert.Equal(t, source.Failed, st.Outcome, "%+v", r.Steps)
	assert.Contains(t, st.Found, "nobody known here signed")
	require.NotNil(t, r.Certificate)
	assert.Equal(t, server.sha256, r.Certificate.SHA256)

	set.Authorities = a.pem()
	r = probe(set)
	assert.True(t, r.OK(), "%+v", r.Steps)

	pinned := set
	pinned.Authorities, pinned.Pin = "", server.sha256
	assert.True(t, probe(pinned).OK())

	unsigned := set
	unsigned.Secrets = source.Secrets{}
	r = probe(unsigned)
	assert.Equal(t, source.Failed, step(r, source.StepSignedIn).Outcome, "%+v", r.Steps)
	stranger := newAuthority(t).sign("stranger", x509.ExtKeyUsageClientAuth)
	unsigned.Secrets = source.Secrets{Certificate: stranger.cert, Key: stranger.key}
	r = probe(unsigned)
	assert.Equal(t, source.Failed, step(r, source.StepSignedIn).Outcome, "%+v", r.Steps)

	// The certificate changes while it is collected from.
	src, err := b.Open(pinned)
	require.NoError(t, err)
	defer src.Close()
	_, err = src.Inventory(t.Context())
	require.NoError(t, err)
	write(a.sign("localhost", x509.ExtKeyUsageServerAuth))
	b.form = "test+unix:///" + b.dir + "/node.xml?socket=%s"
	b.Break(t)
	b.Mend(t)
	_, err = src.Inventory(t.Context())
	if err == nil { // it may notice the lost connection only now
		_, err = src.Inventory(t.Context())
	}
	assert.ErrorContains(t, err, "pinned is "+server.sha256[:16])
}
