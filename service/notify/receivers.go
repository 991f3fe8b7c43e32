package notify

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"rotanex.example/core/stock"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/secrets"
)

// spec is what a receiver is asked to be.
type spec struct {
	Address  string        `json:"address"`
	Subjects []Subject     `json:"subjects"`
	Quiet    []stock.Hours `json:"quiet"`
}

// check says what is wrong with it, and fills in what was not said: all subjects.
func (s *spec) check(mailed bool) error {
	u, err := url.Parse(s.Address)
	switch {
	case err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "":
	case err == nil && u.Scheme == "mailto":
		if _, err := mail.ParseAddress(u.Opaque); err != nil {
			return httpapi.BadField("/address", s.Address, "has no mailbox: want for example mailto:td@lanternfish.example")
		}
		if !mailed {
			return httpapi.BadField("/address", s.Address, "needs a mail server: start the service with --smtp smtp://HOST:587 and --mail-from")
		}
	default:
		return httpapi.BadField("/address", s.Address, "is no address: want for example https://hooks.lanternfish.example/rotanex or mailto:td@lanternfish.example")
	}
	if len(s.Subjects) == 0 {
		s.Subjects = subjects
	}
	for i, x := range s.Subjects {
		if !slices.Contains(subjects, x) {
			return httpapi.BadField(fmt.Sprintf("/subjects/%d", i), string(x), "is no subject: want some of "+said(subjects))
		}
	}
	for i, h := range s.Quiet {
		if err := h.Validate(); err != nil {
			return httpapi.BadField(fmt.Sprintf("/quiet/%d", i), "", err.Error())
		}
	}
	return nil
}

// said names subjects.
func said(all []Subject) string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = string(x)
	}
	return strings.Join(out, ", ")
}

// put stores a receiver, and returns it with the secret that its web hook is signed with if
// that is new: it is nowhere else to be read.
func (n *Notify) put(ctx context.Context, name string, s spec) (r Receiver, secret string, err error) {
	if err := s.check(n.Mail != nil); err != nil {
		return r, "", err
	}
	old, err := n.find(ctx, name)
	if err != nil && old.Name == "" && !missing(err) {
		return r, "", err
	}
	now := n.Clock.Now()
	r = Receiver{Name: name, Address: s.Address, Subjects: s.Subjects, Quiet: s.Quiet, CreatedAt: now, NextAt: now}
	if !r.mailbox() && len(old.Secret) == 0 {
		raw := make([]byte, 32)
		if _, err := rand.Read(raw); err != nil {
			return r, "", err
		}
		secret = secretPrefix + base64.StdEncoding.EncodeToString(raw)
		if r.Secret, err = n.Secrets.Seal(owner(name), secret); err != nil {
			return r, "", err
		}
	}
	if err := keep(n.Store.WithContext(ctx), r); err != nil {
		return r, "", err
	}
	r, err = n.find(ctx, name)
	return r, secret, err
}

// owner is for whom a receiver's secret is sealed.
func owner(receiver string) string { return "receiver " + receiver }

// mailbox reports whether the receiver is told by mail.
func (r Receiver) mailbox() bool { return strings.HasPrefix(r.Address, "mailto:") }

// test tells a receiver that this is a test, and returns why that did not go.
func (n *Notify) test(ctx context.Context, name string) (fault string, err error) {
	r, err := n.find(ctx, name)
	if err != nil {
		return "", err
	}
	x := Notice{ID: uuid.New(), Subject: "test", Text: "This is a test: " + name + " is told by Rotanex of " + said(r.Subjects), At: n.Clock.Now()}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if failed := n.deliver(ctx, r, []Notice{x}, func([]Notice) error { return nil }); failed != nil {
		return failed.Error(), nil
	}
	return "", well(n.Store.WithContext(ctx), name)
}

// Reseal seals the secrets of receivers anew, from one key to another, and says how many there are.
func Reseal(tx *gorm.DB, from, to secrets.Box) (n int, err error) {
	var all []Receiver
	if err := tx.Where("secret IS NOT NULL").Order("name").Find(&all).Error; err != nil {
		return 0, err
	}
	for _, r := range all {
		sealed, err := from.Another(owner(r.Name), r.Secret, to)
		if err == nil {
			err = tx.Model(&Receiver{Name: r.Name}).Update("secret", sealed).Error
		}
		if err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}
