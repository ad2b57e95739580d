// Package vault encrypts what must not be read in the database, with a key kept in a file outside it.
package vault

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// keyBytes is the length of the key: AES-256.
const keyBytes = 32

// Vault seals and opens secrets. It is safe for concurrent use.
type Vault struct{ seal cipher.AEAD }

// Open reads the key file, and makes one where there is none. Only its owner may be able to read it.
func Open(path string) (*Vault, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if text, err = create(path); err != nil {
			return nil, fmt.Errorf("the key file %s cannot be made: %w", path, err)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the key file cannot be read: %w", err)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s can be read by others (mode %04o): chmod 600 it, and consider the secrets of all sources known", path, mode)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != keyBytes {
		return nil, fmt.Errorf("the key file %s does not hold a key: it should be %d bytes in base64; put back the one the secrets were encrypted with", path, keyBytes)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	seal, err := cipher.NewGCM(block)
	return &Vault{seal}, err
}

// create writes a new key, and reads the one another process wrote first.
func create(path string) ([]byte, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	key := make([]byte, keyBytes)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".key-*") // made with mode 0600
	if err != nil {
		return nil, err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.WriteString(base64.StdEncoding.EncodeToString(key) + "\n")
	if err = errors.Join(err, tmp.Sync(), tmp.Close()); err != nil {
		return nil, err
	}
	if err := os.Link(tmp.Name(), path); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	return os.ReadFile(path)
}

// Seal encrypts text. It can be opened only for the same purpose.
func (v *Vault) Seal(text []byte, purpose string) ([]byte, error) {
	nonce := make([]byte, v.seal.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return v.seal.Seal(nonce, nonce, text, []byte(purpose)), nil
}

// ErrKey says that something was encrypted with another key, or for another purpose, or is damaged.
var ErrKey = errors.New("the secret cannot be decrypted with this key file: put back the key it was encrypted with, or give the secret again")

// Unseal decrypts what Seal made for the purpose.
func (v *Vault) Unseal(sealed []byte, purpose string) ([]byte, error) {
	n := v.seal.NonceSize()
	if len(sealed) < n {
		return nil, ErrKey
	}
	text, err := v.seal.Open(nil, sealed[:n], sealed[n:], []byte(purpose))
	if err != nil {
		return nil, ErrKey
	}
	return text, nil
}
