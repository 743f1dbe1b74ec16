package service

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"

	"oskeld.dev/oskeld/internal/git"
)

// sealer keeps secrets under AES-256-GCM; the nonce stands in front.
type sealer struct{ aead cipher.AEAD }

func newSealer(key [32]byte) (sealer, error) {
	block, err := aes.NewCipher(key[:])
	if err != nil {
		return sealer{}, err
	}
	aead, err := cipher.NewGCM(block)
	return sealer{aead}, err
}

func (s sealer) seal(plain []byte) ([]byte, error) {
	nonce := make([]byte, s.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return s.aead.Seal(nonce, nonce, plain, nil), nil
}

func (s sealer) open(sealed []byte) ([]byte, error) {
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return nil, errors.New("the sealed value is too short")
	}
	return s.aead.Open(nil, sealed[:n], sealed[n:], nil)
}

func (s *Service) sealCredential(c git.Credential) ([]byte, error) {
	if c == (git.Credential{}) {
		return nil, nil
	}
	text, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	return s.seal.seal(text)
}

func (s *Service) openCredential(sealed []byte) (c git.Credential, err error) {
	if sealed == nil {
		return c, nil
	}
	text, err := s.seal.open(sealed)
	if err != nil {
		return c, err
	}
	return c, json.Unmarshal(text, &c)
}
