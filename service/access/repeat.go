package access

import (
	"fmt"
	"net/http"

	"github.com/google/uuid"
)

// IDFor returns the id of what a request makes: the same for the same caller and
// Idempotency-Key, so that a repeat makes nothing twice; a new one without a key.
func IDFor(r *http.Request, key *string) uuid.UUID {
	if key == nil {
		return uuid.New()
	}
	name := fmt.Sprintf("%s %s %d %s", r.Method, r.URL.Path, From(r.Context()).TokenID, *key)
	return uuid.NewSHA1(uuid.NameSpaceURL, []byte(name))
}
