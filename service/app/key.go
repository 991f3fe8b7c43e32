package app

import (
	"context"
	"encoding/base64"
	"errors"

	"gorm.io/gorm"

	"rotanex.example/service/notify"
	"rotanex.example/service/secrets"
	"rotanex.example/service/sources"
	"rotanex.example/service/store"
)

// sealedWith is the setting that only the key opens with which secrets are sealed.
const sealedWith = "sealed_with"

// agreeOnKey holds the service's key against that of services before it: with another one it could open no secret, and would seal
// some that they cannot.
func agreeOnKey(ctx context.Context, s *store.Store, box secrets.Box) error {
	mark, err := mark(box)
	if err != nil {
		return err
	}
	set, err := s.Setting(ctx, sealedWith, mark)
	if err != nil {
		return err
	}
	return opens(set, box)
}

// KeyOpens says whether a key is that of the services that made a setting (see store.Look).
func KeyOpens(set string, key []byte) error {
	box, err := secrets.New(key)
	if err != nil {
		return err
	}
	return opens(set, box)
}

func opens(set string, box secrets.Box) error {
	sealed, err := base64.StdEncoding.DecodeString(set)
	if err == nil {
		_, err = box.Open(sealedWith, sealed)
	}
	if err != nil {
		return errors.New("--key-file is not the key with which the secrets in this database are sealed: give this service the file of the others, or of before; after rotate-key, the new one. If it is lost: rotanex-service rotate-key --lost")
	}
	return nil
}

// LostKey has services go by another key from now on, as the one before is lost. What was sealed with that one stays shut: each
// source and receiver says that its secret has to be stored again.
func LostKey(tx *gorm.DB, key []byte) error {
	box, err := secrets.New(key)
	if err != nil {
		return err
	}
	mark, err := mark(box)
	if err != nil {
		return err
	}
	return store.SetSetting(tx, sealedWith, mark)
}

func mark(box secrets.Box) (string, error) {
	sealed, err := box.Seal(sealedWith, sealedWith)
	return base64.StdEncoding.EncodeToString(sealed), err
}

// Reseal seals all secrets anew, from one key to another, and says how many there are.
func Reseal(tx *gorm.DB, from, to []byte) (n int, err error) {
	old, err := secrets.New(from)
	if err != nil {
		return 0, err
	}
	other, err := secrets.New(to)
	if err != nil {
		return 0, err
	}
	for _, reseal := range []func(*gorm.DB, secrets.Box, secrets.Box) (int, error){sources.Reseal, notify.Reseal} {
		some, err := reseal(tx, old, other)
		if n += some; err != nil {
			return n, err
		}
	}
	mark, err := mark(other)
	if err != nil {
		return n, err
	}
	return n, store.SetSetting(tx, sealedWith, mark)
}
