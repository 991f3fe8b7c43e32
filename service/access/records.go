package access

import (
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// ForgetHost takes the credentials of a host that is no more.
func ForgetHost(tx *gorm.DB, host string) error {
	return tx.Exec("DELETE FROM tokens WHERE host = $1 AND kind IN ('agent', 'join')", host).Error
}

// Join trades a join token for the host's credential. The token is used up in
// the same transaction, and credentials the host had before are worthless after.
func (a *Access) Join(ctx context.Context, joinToken, host string) (string, error) {
	hash := sha256.Sum256([]byte(joinToken))
	secret := newSecret()
	own := sha256.Sum256([]byte(secret))
	err := a.store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		used := tx.Exec(`DELETE FROM tokens WHERE hash = ? AND kind = 'join' AND expires_at > ? AND (host IS NULL OR host = ?)`,
			hash[:], a.clock.WallNow(), host)
		if used.Error != nil {
			return used.Error
		}
		if used.RowsAffected == 0 {
			return httpapi.Forbidden(fmt.Sprintf("the join token is not good for host %s, was used before or has expired; make a new one: rotanex tokens join %s", host, host))
		}
		if err := tx.Exec(`DELETE FROM tokens WHERE kind = 'agent' AND host = ?`, host).Error; err != nil {
			return err
		}
		return tx.Create(&Token{Kind: "agent", Name: "agent " + host, Role: Agent, Host: &host, Hash: own[:], CreatedAt: a.clock.WallNow()}).Error
	})
	return secret, err
}

// otherAdmins counts the tokens of admins that are good, but for one. They stay as they are until the transaction ends.
func otherAdmins(tx *gorm.DB, but int64, now time.Time) (int, error) {
	ids, err := store.Column[int64](tx.Raw("SELECT id FROM tokens WHERE kind = 'access' AND role = 'admin' AND (expires_at IS NULL OR expires_at > $1) ORDER BY id FOR UPDATE", now))
	return len(slices.DeleteFunc(ids, func(id int64) bool { return id == but })), err
}

// Restored ends the sessions of a backup: they may have ended since.
func Restored(tx *gorm.DB) error { return tx.Exec("DELETE FROM tokens WHERE kind = 'session'").Error }

// Prune deletes up to so many tokens that expired before a time, and says how many there were.
func Prune(tx *gorm.DB, before time.Time, most int) (int64, error) {
	return store.Prune(tx, "tokens", "expires_at < ?", before, most)
}
