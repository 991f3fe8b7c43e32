package shots

import (
	"net/http"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// PutShot makes a shot or replaces it.
func (s *Shots) PutShot(w http.ResponseWriter, r *http.Request, name string, params api.PutShotParams) {
	body, err := httpapi.Body[api.ShotSpec](r)
	var spec Spec
	if err == nil {
		spec, err = httpapi.Convert[Spec](body)
	}
	var shot Shot
	switch {
	case err != nil:
	case params.Check:
		var all []Shot
		if all, err = s.with(r.Context(), name, spec); err == nil {
			shot = all[0]
		}
	default:
		shot, err = s.Put(r.Context(), name, spec)
	}
	httpapi.Answer(w, r, http.StatusOK, record(shot), err)
}

// Get answers with one shot.
func (s *Shots) Get(w http.ResponseWriter, r *http.Request, name string) {
	shot, err := s.any(r.Context(), name)
	httpapi.Answer(w, r, http.StatusOK, record(shot), err)
}

// List answers with a page of shots.
func (s *Shots) List(w http.ResponseWriter, r *http.Request, params api.ListShotsParams) {
	found, next, err := s.page(r.Context(), params.Cursor, params.Limit)
	httpapi.Answer(w, r, http.StatusOK, api.ShotList{Items: httpapi.Each(found, record), Next: next}, err)
}

func record(s Shot) api.Shot {
	return api.Shot{
		Spec: s.Spec.record(), FrameCount: s.FrameCount, Updated: s.UpdatedAt.UTC(),
		PassOf: s.Spec.PassOf, Pass: s.Spec.Pass, After: s.Spec.After,
	}
}

func (s Spec) record() api.ShotSpec {
	out := api.ShotSpec{
		Name: s.Name, Title: s.Title, Scene: s.Scene, Frames: s.Frames, Width: s.Width, Height: s.Height, Launcher: s.Launcher, Settings: s.Settings,
		Fps: s.FPS, Deadline: s.Deadline, Inputs: s.Inputs, Files: s.Files, Backend: s.Backend, Devices: s.Devices, Version: s.Version, Plugins: s.Plugins, Features: s.Features, Accepts: s.Accepts,
		Licence: s.Licence, HostMemoryGb: float32(s.HostMemoryGB), DeviceMemoryGb: float32(s.DeviceMemoryGB), TexturesGb: float32(s.TexturesGB), Buffers: s.Buffers,
	}
	for _, p := range s.Passes {
		pass, _ := httpapi.Convert[api.ShotPass](p) // of the same fields
		out.Passes = append(out.Passes, pass)
	}
	for _, step := range s.OutOfMemory {
		out.OutOfMemory = append(out.OutOfMemory, api.ShotSpecOutOfMemory(step))
	}
	return out
}
