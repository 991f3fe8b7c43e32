package app

import (
	"net/http"

	"rotanex.example/api"
)

// What agents ask.

func (e endpoints) Lease(w http.ResponseWriter, r *http.Request) { e.agents.Lease(w, r) }

func (e endpoints) Heartbeat(w http.ResponseWriter, r *http.Request) { e.agents.Heartbeat(w, r) }

func (e endpoints) PutRenderLog(w http.ResponseWriter, r *http.Request, lease, fence int64) {
	e.renderLogs.Put(w, r, lease, fence)
}

func (e endpoints) PutPicture(w http.ResponseWriter, r *http.Request, lease, fence int64, params api.PutPictureParams) {
	e.agents.PutPicture(w, r, lease, fence, params)
}

func (e endpoints) GetInput(w http.ResponseWriter, r *http.Request, lease, fence int64, shot api.ShotParam, params api.GetInputParams) {
	e.agents.Input(w, r, lease, fence, shot, params)
}

func (e endpoints) PutResult(w http.ResponseWriter, r *http.Request, lease, fence int64) {
	e.agents.PutResult(w, r, lease, fence)
}

func (e endpoints) PutFrameFile(w http.ResponseWriter, r *http.Request, lease, fence int64, file string, params api.PutFrameFileParams) {
	e.agents.PutFrameFile(w, r, lease, fence, file, params)
}
