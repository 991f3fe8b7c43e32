// Package secrets seals what is stored but must not be read from the database: secrets of
// sources, keys that notifications are signed with.
package secrets

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"fmt"
)

// Box seals and opens with one key (AES-256 in Galois/counter mode).
type Box struct{ seal cipher.AEAD }

// New makes a box of a key of 32 bytes.
func New(key []byte) (Box, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return Box{}, fmt.Errorf("the key for secrets: %w", err)
	}
	seal, err := cipher.NewGCM(block)
	return Box{seal}, err
}

// Seal encrypts a secret so that it opens for its owner alone.
func (b Box) Seal(owner, secret string) ([]byte, error) {
	nonce := make([]byte, b.seal.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return b.seal.Seal(nonce, nonce, []byte(secret), []byte(owner)), nil
}

// Another seals anew what was sealed for an owner, for another box.
func (b Box) Another(owner string, sealed []byte, to Box) ([]byte, error) {
	secret, err := b.Open(owner, sealed)
	if err != nil || secret == "" {
		return nil, err
	}
	return to.Seal(owner, secret)
}

// Open decrypts what was sealed for an owner; "" of nothing.
func (b Box) Open(owner string, sealed []byte) (string, error) {
	if len(sealed) == 0 {
		return "", nil
	}
	n := b.seal.NonceSize()
	if len(sealed) < n {
		return "", fmt.Errorf("the stored secret of %s is not whole: store it again", owner)
	}
	secret, err := b.seal.Open(nil, sealed[:n], sealed[n:], []byte(owner))
	if err != nil {
		return "", fmt.Errorf("the stored secret of %s does not open with this service's key: store it again", owner)
	}
	return string(secret), nil
}
