package e2e

import "encoding/json"

// convert turns one record into another by the JSON that they share.
func convert[T any](from any) (to T, err error) {
	data, err := json.Marshal(from)
	if err == nil {
		err = json.Unmarshal(data, &to)
	}
	return to, err
}
