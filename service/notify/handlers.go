package notify

import (
	"errors"
	"net/http"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// List answers with the receivers.
func (n *Notify) List(w http.ResponseWriter, r *http.Request) {
	all, err := n.receivers(r.Context())
	httpapi.Answer(w, r, http.StatusOK, httpapi.List(httpapi.Each(all, n.record)), err)
}

// Put stores a receiver.
func (n *Notify) Put(w http.ResponseWriter, r *http.Request, name string) {
	body, err := httpapi.Body[spec](r)
	var out api.Receiver
	if err == nil {
		var made Receiver
		var secret string
		if made, secret, err = n.put(r.Context(), name, body); err == nil {
			out = n.record(made)
			out.Secret = secret
		}
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// Remove takes a receiver away.
func (n *Notify) Remove(w http.ResponseWriter, r *http.Request, name string) {
	httpapi.Done(w, r, n.remove(r.Context(), name))
}

// Test tells a receiver that this is a test, at once, whatever its subjects and hours are.
func (n *Notify) Test(w http.ResponseWriter, r *http.Request, name string) {
	fault, err := n.test(r.Context(), name)
	httpapi.Answer(w, r, http.StatusOK, api.ReceiverTest{Told: fault == "", Fault: fault}, err)
}

// Notices answers with what was told, newest first.
func (n *Notify) Notices(w http.ResponseWriter, r *http.Request, params api.ListNoticesParams) {
	all, next, err := n.page(r.Context(), params.Cursor, params.Limit)
	httpapi.Answer(w, r, http.StatusOK, api.NoticeList{Items: httpapi.Each(all, noticeRecord), Next: next}, err)
}

func missing(err error) bool {
	p := (*httpapi.Problem)(nil)
	return errors.As(err, &p) && p.Status == http.StatusNotFound
}
