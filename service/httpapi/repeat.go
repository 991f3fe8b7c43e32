package httpapi

import (
	"crypto/sha256"
	"encoding/json"
)

// Fingerprint tells one request from another under the same key.
func Fingerprint(body any) []byte {
	data, _ := json.Marshal(body)
	sum := sha256.Sum256(data)
	return sum[:]
}

// SameRequest compares what was asked under an Idempotency-Key before and now.
func SameRequest(before, now []byte) error {
	if string(before) != string(now) {
		return Conflict("the Idempotency-Key was used before with another request; use a new key")
	}
	return nil
}
