package rental

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
)

// Remote is a source behind Rotanex's small protocol for rented servers, which is
// described in docs/formats.md.
type Remote struct {
	Address string // such as http://127.0.0.1:7081
	Client  *http.Client
}

// Make implements Provider.
func (r Remote) Make(ctx context.Context, o Order) error {
	body, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return r.ask(ctx, http.MethodPut, o.Name, body)
}

// End implements Provider.
func (r Remote) End(ctx context.Context, name string) error {
	if err := r.ask(ctx, http.MethodDelete, name, nil); err != nil && err != ErrGone {
		return err
	}
	return nil
}

func (r Remote) ask(ctx context.Context, method, name string, body []byte) error {
	address := strings.TrimRight(r.Address, "/") + "/servers/" + url.PathEscape(name)
	request, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	client := r.Client
	if client == nil {
		client = http.DefaultClient
	}
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	said, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	switch {
	case err != nil:
		return err
	case answer.StatusCode == http.StatusNotFound:
		return ErrGone
	case answer.StatusCode >= 300:
		return fmt.Errorf("%s %s answered %s: %s", method, address, answer.Status, strings.TrimSpace(string(said)))
	}
	return nil
}
