// Package providers is how Rotanex reaches what is not its own: sources that let
// servers, and farms that take frames. Each is one Go interface with one small
// documented HTTP protocol behind it (docs/protocols), so that any provider can be
// put behind either; servers that stand already are reached over SSH.
//
// Every call may be repeated and then changes nothing, and every answer may get
// lost: who calls asks again.
package providers

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"rotanex.example/core/pricing"
)

// ErrGone says that the source has no such thing, or none any more.
var ErrGone = errors.New("the source has none of that name")

// ErrUnable says that the source does not do that, for anybody.
var ErrUnable = errors.New("the source does not know this call")

// Refused says that the source understood and will not: asking again is of no use.
type Refused struct{ Why string }

func (e *Refused) Error() string { return "the source refused: " + e.Why }

// Servers is a source that lets servers.
type Servers interface {
	// Offers lists what it lets.
	Offers(ctx context.Context) ([]Offered, error)
	// Make asks for a server; one of that name that stands already is that server.
	Make(ctx context.Context, o Order) error
	// Look says how a server is. ErrGone: there is none.
	Look(ctx context.Context, name string) (Server, error)
	// List says which servers of ours there are, those that stopped included as long
	// as the source remembers their meters.
	List(ctx context.Context, owner string) ([]Server, error)
	// Prolong lets a server's meter run for so long in all, where it was to end before. ErrUnable: the source ends none by itself.
	Prolong(ctx context.Context, name string, lasts time.Duration) error
	// Stop ends a server, and with it its meter. Stopping one that stopped is no error.
	Stop(ctx context.Context, name string) error
	// Delete lets the source forget a server that stopped, and its disk.
	Delete(ctx context.Context, name string) error
	// Keep keeps the disk of a server that is up as an image, to make others from.
	Keep(ctx context.Context, name, image string) error
}

// Offered is a kind of server as its source describes it.
type Offered struct {
	Name   string        `json:"name"`
	Free   int           `json:"free"`
	PriceH pricing.Money `json:"price_h"`
}

// Order asks a source for a server. Its name is ours and the same however often
// it is asked for, so that asking again after a crash makes no second server.
type Order struct {
	Name      string `json:"name"`
	Owner     string `json:"owner"` // the installation that asks; the same in every order of ours
	Offer     string `json:"offer"`
	Image     string `json:"image,omitempty"` // a kept one; none: blank, to be set up
	Service   string `json:"service"`         // where its agent finds us
	JoinToken string `json:"join_token"`      // with which its agent joins as Name
	// LastsS is for how long its meter may run, in seconds: then the source ends it by itself, though we are away.
	LastsS float64 `json:"lasts_s,omitempty"`
}

// States of a server as its source sees it.
const (
	Booting = "booting"
	Up      = "up"
	Stopped = "stopped"
)

// Server is a server as its source sees it.
type Server struct {
	Name    string `json:"name"`
	Owner   string `json:"owner"`
	Offer   string `json:"offer"`
	State   string `json:"state"`
	Address string `json:"address,omitempty"`
	Image   string `json:"image,omitempty"` // that it was made from
	// Metered is how long its meter ran, in seconds, and Charge what that comes to, in
	// the currency of the source's prices; none where the source has no meter of its own.
	Metered float64        `json:"metered_s"`
	Charge  *pricing.Money `json:"charge,omitempty"`
}

// Farm is a source that takes frames.
type Farm interface {
	// Missing says which of these chunks, by SHA-256, the farm does not have yet.
	Missing(ctx context.Context, sums []string) ([]string, error)
	// Send gives the farm one chunk.
	Send(ctx context.Context, sum string, chunk []byte) error
	// Submit hands a job in; one of that name that is there already is that job.
	Submit(ctx context.Context, j Job) error
	// Look says how a job is. ErrGone: there is none.
	Look(ctx context.Context, name string) (JobStatus, error)
	// Release lets the frames that are no proof frames be rendered.
	Release(ctx context.Context, name string) error
	// Again lets failed frames be rendered once more.
	Again(ctx context.Context, name string, frames []int) error
	// Withdraw takes frames out of a job that are not begun, and returns those that are out; others were begun before.
	// ErrUnable: the farm does not do that.
	Withdraw(ctx context.Context, name string, frames []int) ([]int, error)
	// Picture reads a finished frame; the caller closes it.
	Picture(ctx context.Context, name string, frame int) (io.ReadCloser, error)
	// End closes a job: what is not rendered yet is not rendered, and its charge stands.
	End(ctx context.Context, name string) error
}

// Job is frames of one shot for a farm.
type Job struct {
	Name     string            `json:"name"` // ours, the same however often it is handed in
	Owner    string            `json:"owner"`
	Order    string            `json:"order"` // jobs of one order share the minimum charge
	Tier     string            `json:"tier"`
	Shot     string            `json:"shot"`
	Frames   []int             `json:"frames"`
	Proofs   []int             `json:"proofs"` // of the frames, those rendered before all the rest
	Package  []PackageFile     `json:"package"`
	Launcher string            `json:"launcher"`
	Plugins  []string          `json:"plugins,omitempty"`
	Licence  string            `json:"licence,omitempty"` // kind of the licence that its renderer needs
	Scene    string            `json:"scene"`
	Width    int               `json:"width"`
	Height   int               `json:"height"`
	Settings map[string]string `json:"settings"`
	// Most is what it may charge for the job, in the currency of its prices: when that is reached it renders no more of
	// it, and ends it. Nil: as much as it takes.
	Most *pricing.Money `json:"most,omitempty"`
}

// PackageFile is one file of a shot's package: its content is its chunks, in order.
type PackageFile struct {
	Path   string   `json:"path"`
	Size   int64    `json:"size"`
	Chunks []string `json:"chunks"`
}

// States of a farm's job.
const (
	Analysing = "analysing"
	Queued    = "queued"
	Proofing  = "proofing"
	Held      = "held" // proof frames are done: it waits for Release
	Rendering = "rendering"
	Done      = "done" // no frame is waiting or rendering
	Rejected  = "rejected"
	Ended     = "ended"
)

// JobStatus is how a job is.
type JobStatus struct {
	Name     string     `json:"name"`
	State    string     `json:"state"`
	Findings []string   `json:"findings"` // of the analysis; of a rejected job, why
	Queue    int        `json:"queue"`    // jobs before it
	Frames   []JobFrame `json:"frames"`
	// NodeSeconds is what its nodes worked, failed frames included, ChargedFrames how
	// many frames are billed, Charge what it comes to in the currency of the source.
	NodeSeconds   float64       `json:"node_s"`
	ChargedFrames int           `json:"charged_frames"`
	Charge        pricing.Money `json:"charge"`
}

// States of a frame at a farm.
const (
	FrameWaiting   = "waiting"
	FrameRendering = "rendering"
	FrameDone      = "done"
	FrameFailed    = "failed"
	FrameWithdrawn = "withdrawn"
)

// JobFrame is one frame of a job.
type JobFrame struct {
	Frame   int     `json:"frame"`
	State   string  `json:"state"`
	Seconds float64 `json:"seconds,omitempty"` // of its last try
	Tries   int     `json:"tries"`
	Cause   string  `json:"cause,omitempty"`
	SHA256  string  `json:"sha256,omitempty"`
}

// Remote is a source behind either of Rotanex's two protocols.
type Remote struct {
	Address string // such as http://127.0.0.1:7081
	Secret  string // sent as a bearer token; none: no
	Client  *http.Client
}

// patience is how long a source may take to answer.
const patience = 10 * time.Second

// mostAnswered is the largest answer but a picture that is taken in.
const mostAnswered = 64 << 20

// Direct follows no redirect: a secret, or what is signed, is for the address that a person gave, and what another one says of
// a server is not what its source says.
var Direct = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// spoken reads an answer in which nothing is asked for: JSON, or nothing at all. A page of somebody who sits in between is not
// the protocol's, and not believed.
func spoken(answer *http.Response) error {
	said, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err == nil && len(bytes.TrimSpace(said)) > 0 && !json.Valid(said) {
		err = fmt.Errorf("the answer is not the protocol's but %s", answer.Header.Get("Content-Type"))
	}
	return err
}

func (r Remote) open(ctx context.Context, method, path string, body []byte, kind string) (*http.Response, error) {
	address := strings.TrimRight(r.Address, "/") + path
	request, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", kind)
	if r.Secret != "" {
		request.Header.Set("Authorization", "Bearer "+r.Secret)
	}
	client := r.Client
	if client == nil {
		client = Direct
	}
	answer, err := client.Do(request)
	var failed *url.Error
	switch {
	case errors.As(err, &failed) && failed.Timeout():
		return nil, fmt.Errorf("%s does not answer: %w", address, failed.Err)
	case errors.As(err, &failed):
		return nil, fmt.Errorf("nothing answers at %s: %w", address, failed.Err)
	case err != nil:
		return nil, err
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 4096))
	_ = answer.Body.Close()
	why := strings.TrimSpace(string(said))
	switch answer.StatusCode {
	case http.StatusNotFound, http.StatusGone:
		return nil, ErrGone
	case http.StatusMethodNotAllowed, http.StatusNotImplemented:
		return nil, ErrUnable
	case http.StatusConflict, http.StatusUnprocessableEntity, http.StatusPaymentRequired:
		return nil, &Refused{why}
	}
	if answer.StatusCode < 400 {
		return nil, fmt.Errorf("%s %s answered %s to %q: redirects are not followed; give its own address", method, address, answer.Status, answer.Header.Get("Location"))
	}
	return nil, fmt.Errorf("%s %s answered %s: %s", method, address, answer.Status, why)
}

// ask calls and reads the whole answer into out, if that is not nil.
func (r Remote) ask(ctx context.Context, method, path string, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	answer, err := r.open(ctx, method, path, body, "application/json")
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	if out == nil {
		if err := spoken(answer); err != nil {
			return fmt.Errorf("%s %s: %w", method, path, err)
		}
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, mostAnswered)).Decode(out); err != nil {
		return fmt.Errorf("%s %s: the answer is not whole: %w", method, path, err)
	}
	return nil
}

// forgiving takes what is gone as done.
func forgiving(err error) error {
	if errors.Is(err, ErrGone) {
		return nil
	}
	return err
}

func at(kind, name string) string { return "/" + kind + "/" + url.PathEscape(name) }

// RemoteServers is a source behind the protocol for servers.
type RemoteServers struct{ Remote }

// Offers implements Servers.
func (r RemoteServers) Offers(ctx context.Context) (out []Offered, err error) {
	return out, r.ask(ctx, http.MethodGet, "/offers", nil, &out)
}

// Make implements Servers.
func (r RemoteServers) Make(ctx context.Context, o Order) error {
	return r.ask(ctx, http.MethodPut, at("servers", o.Name), o, nil)
}

// Look implements Servers.
func (r RemoteServers) Look(ctx context.Context, name string) (out Server, err error) {
	return out, r.ask(ctx, http.MethodGet, at("servers", name), nil, &out)
}

// List implements Servers.
func (r RemoteServers) List(ctx context.Context, owner string) (out []Server, err error) {
	return out, r.ask(ctx, http.MethodGet, "/servers?owner="+url.QueryEscape(owner), nil, &out)
}

// Prolong implements Servers.
func (r RemoteServers) Prolong(ctx context.Context, name string, lasts time.Duration) error {
	return r.ask(ctx, http.MethodPut, at("servers", name)+"/lasts", map[string]float64{"lasts_s": lasts.Seconds()}, nil)
}

// Stop implements Servers.
func (r RemoteServers) Stop(ctx context.Context, name string) error {
	return r.ask(ctx, http.MethodPost, at("servers", name)+"/stop", nil, nil)
}

// Delete implements Servers.
func (r RemoteServers) Delete(ctx context.Context, name string) error {
	return forgiving(r.ask(ctx, http.MethodDelete, at("servers", name), nil, nil))
}

// Keep implements Servers.
func (r RemoteServers) Keep(ctx context.Context, name, image string) error {
	return r.ask(ctx, http.MethodPut, at("images", image), map[string]string{"server": name}, nil)
}

// RemoteFarm is a source behind the protocol for farms.
type RemoteFarm struct{ Remote }

// Missing implements Farm.
func (r RemoteFarm) Missing(ctx context.Context, sums []string) (out []string, err error) {
	return out, r.ask(ctx, http.MethodPost, "/chunks/missing", sums, &out)
}

// Send implements Farm.
func (r RemoteFarm) Send(ctx context.Context, sum string, chunk []byte) error {
	answer, err := r.open(ctx, http.MethodPut, at("chunks", sum), chunk, "application/octet-stream")
	if err == nil {
		_ = answer.Body.Close()
	}
	return err
}

// Submit implements Farm.
func (r RemoteFarm) Submit(ctx context.Context, j Job) error {
	return r.ask(ctx, http.MethodPut, at("jobs", j.Name), j, nil)
}

// Look implements Farm.
func (r RemoteFarm) Look(ctx context.Context, name string) (out JobStatus, err error) {
	return out, r.ask(ctx, http.MethodGet, at("jobs", name), nil, &out)
}

// Release implements Farm.
func (r RemoteFarm) Release(ctx context.Context, name string) error {
	return r.ask(ctx, http.MethodPost, at("jobs", name)+"/release", nil, nil)
}

// Again implements Farm.
func (r RemoteFarm) Again(ctx context.Context, name string, frames []int) error {
	return r.ask(ctx, http.MethodPost, at("jobs", name)+"/again", frames, nil)
}

// Withdraw implements Farm.
func (r RemoteFarm) Withdraw(ctx context.Context, name string, frames []int) (out []int, err error) {
	err = r.ask(ctx, http.MethodPost, at("jobs", name)+"/withdraw", frames, &out)
	if errors.Is(err, ErrGone) {
		err = ErrUnable // the job was there a moment ago
	}
	return out, err
}

// Picture implements Farm.
func (r RemoteFarm) Picture(ctx context.Context, name string, frame int) (io.ReadCloser, error) {
	answer, err := r.open(ctx, http.MethodGet, fmt.Sprintf("%s/frames/%d", at("jobs", name), frame), nil, "application/json")
	if err != nil {
		return nil, err
	}
	return answer.Body, nil
}

// End implements Farm.
func (r RemoteFarm) End(ctx context.Context, name string) error {
	return r.ask(ctx, http.MethodDelete, at("jobs", name), nil, nil)
}
