package access

import "gorm.io/gorm"

// ForgetHost takes the credentials of a host that is no more.
func ForgetHost(tx *gorm.DB, host string) error {
	return tx.Exec("DELETE FROM tokens WHERE host = $1 AND kind IN ('agent', 'join')", host).Error
}
