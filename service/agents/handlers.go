package agents

import (
	"context"
	"io"
	"net/http"
	"strconv"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/framefiles"
	"rotanex.example/core/timing"
	"rotanex.example/service/access"
	files "rotanex.example/service/framefiles"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/loops"
	"rotanex.example/service/queue"
	"rotanex.example/service/samples"
	"rotanex.example/service/turn"
)

// Lease answers an agent with frames to render, when there are some.
func (a *Agents) Lease(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.LeaseRequest](r)
	var leases []turn.Lease
	if err == nil {
		leases, err = a.lease(r.Context(), queue.Holding{Host: access.From(r.Context()).Host, Boot: body.Boot, Held: heldOf(body.Held), Starts: body.Starts}, time.Duration(float64(body.WaitS)*float64(time.Second)))
	}
	if r.Context().Err() != nil {
		return // nobody listens any more
	}
	httpapi.Answer(w, r, http.StatusOK, leaseRecords(leases), err)
}

// Heartbeat renews the leases that the agent holds and tells it which are not its
// own any more.
func (a *Agents) Heartbeat(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.Heartbeat](r)
	out := api.HeartbeatAnswer{Revoked: []api.Held{}}
	host := access.From(r.Context()).Host
	var said heard
	if err == nil {
		said, err = a.heard(r.Context(), queue.Holding{Host: host, Boot: body.Boot, Held: heldOf(body.Held)})
	}
	if err == nil {
		out.LeftOut = httpapi.LeftOut(r.Context())
		a.beside(r.Context(), host, said.host, body, &out)
	}
	for _, h := range said.revoked {
		out.Revoked = append(out.Revoked, api.Held{Lease: h.Lease, Fence: h.Fence})
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// beside takes in what a heartbeat has beside the leases, which are renewed whatever comes of it.
func (a *Agents) beside(ctx context.Context, host string, known hosts.Heard, body api.Heartbeat, out *api.HeartbeatAnswer) {
	take := func(part string, do func() error) {
		if err := loops.Safely(do); err != nil && ctx.Err() == nil {
			a.Log.Error("a part of a heartbeat could not be taken", "host", host, "part", part, "error", err)
			out.LeftOut = append(out.LeftOut, part+" could not be stored")
		}
	}
	take("desk", func() (err error) {
		if desk := hosts.DeskOf(body.Desk, a.Clock.At); desk != nil {
			out.ClosedUntil, err = a.Hosts.SetDesk(ctx, host, body.Boot, desk)
		}
		return err
	})
	if body.Trouble != known.Trouble {
		take("trouble", func() error { return a.Hosts.SetAside(ctx, host, body.Boot, body.Trouble) })
	}
	take("samples", func() error { return a.Samples.Keep(ctx, host, samplesOf(body.Samples)) })
	take("missing", func() (err error) {
		out.Inputs, out.InputsSum, err = a.looked(ctx, host, known, body.LookedFor, body.Missing)
		return err
	})
}

// PutPicture takes in the file of a lease.
func (a *Agents) PutPicture(w http.ResponseWriter, r *http.Request, lease, fence int64, params api.PutPictureParams) {
	httpapi.Done(w, r, a.Queue.KeepPicture(r.Context(), access.From(r.Context()).Host, lease, fence, params.ContentDigest, r.Body))
}

// PutFrameFile takes in a file that a lease has beside its picture.
func (a *Agents) PutFrameFile(w http.ResponseWriter, r *http.Request, lease, fence int64, name string, params api.PutFrameFileParams) {
	err := framefiles.ValidName(name)
	if err != nil {
		err = httpapi.BadField("file", name, err.Error())
	} else {
		file := files.File{Name: name, Kind: string(params.Kind), Ending: params.Ending}
		err = a.Queue.KeepFile(r.Context(), access.From(r.Context()).Host, lease, fence, file, params.ContentDigest, r.Body)
	}
	httpapi.Done(w, r, err)
}

// Input answers with a file of a frame that a leased one needs.
func (a *Agents) Input(w http.ResponseWriter, r *http.Request, lease, fence int64, shot string, params api.GetInputParams) {
	key, size, err := a.Queue.InputOf(r.Context(), access.From(r.Context()).Host, lease, fence, shot, params.File)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	file, err := a.Pictures.Open(r.Context(), key)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	defer func() { _ = file.Close() }()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.FormatInt(size, 10))
	_, _ = io.Copy(w, file)
}

// PutResult ends a lease.
func (a *Agents) PutResult(w http.ResponseWriter, r *http.Request, lease, fence int64) {
	body, err := httpapi.Body[api.Result](r)
	if err == nil {
		err = a.Queue.End(r.Context(), access.From(r.Context()).Host, lease, fence, resultOf(body))
	}
	httpapi.Done(w, r, err)
}

func heldOf(all []api.Held) []queue.Held {
	out := make([]queue.Held, len(all))
	for i, h := range all {
		out[i] = queue.Held{Lease: h.Lease, Fence: h.Fence, Progress: float64(h.Progress)}
	}
	return out
}

func samplesOf(all []api.DeviceSample) []samples.Sample {
	out := make([]samples.Sample, len(all))
	for i, d := range all {
		out[i] = samples.Sample{Device: d.Device, Use: d.Use, MemoryBytes: d.MemoryBytes, Celsius: d.Celsius, Watts: d.Watts, MHz: d.Mhz}
	}
	return out
}

func leaseRecords(all []turn.Lease) []api.Lease {
	out := make([]api.Lease, len(all))
	for i, l := range all {
		out[i] = api.Lease{
			Lease: l.Lease, Fence: l.Fence, Run: l.Run, Shot: l.Shot, Frame: l.Frame, Crew: l.Crew, Devices: l.Devices, Backend: l.Backend,
			MemoryMode: api.LeaseMemoryMode(l.MemoryMode), Package: l.Package, Scene: l.Scene, Width: l.Width, Height: l.Height, Launcher: l.Launcher, Settings: l.Settings, Start: l.Start,
			Files: l.Files,
		}
		for _, x := range l.Inputs {
			out[i].Inputs = append(out[i].Inputs, api.LeaseInput{Shot: x.Shot, Pass: x.Pass, File: x.File, Sha256: x.SHA256, Format: x.Format})
		}
	}
	return out
}

func resultOf(r api.Result) queue.Result {
	m := r.Measured
	return queue.Result{
		Boot: r.Boot, Failed: r.Outcome == api.ResultOutcomeFailed, GivenBack: r.Outcome == api.ResultOutcomeGivenBack, Cause: string(r.Cause), LogTail: r.LogTail, SHA256: r.Sha256,
		Measured: timing.Measurement{
			Seconds: m.Seconds, OpeningS: m.OpeningS, OpeningPartS: m.OpeningPartS, Stages: m.Stages, PeakMemoryBytes: m.PeakMemoryBytes, DevicePeakBytes: m.DevicePeakBytes, DeviceUse: m.DeviceUse,
			Conditions: m.Conditions, Settings: m.Settings,
		},
	}
}
