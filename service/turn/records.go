package turn

import (
	"github.com/google/uuid"

	"rotanex.example/service/hosts"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// Columns are those of a lease, of frames f and run_shots s, as Scan reads them.
const Columns = `f.id, f.fence, f.run_id, f.shot, f.frame, f.crew, f.devices, f.memory_mode, s.spec, coalesce(jsonb_array_length(s.package), 0) > 0, f.boot, f.start, f.begun,
	CASE WHEN jsonb_exists(s.spec, 'after') THEN (SELECT json_agg(json_build_object('shot', i.shot, 'pass', i.pass, 'file', own.name, 'sha256', own.sha256, 'format', own.ending) ORDER BY i.n, own.name)
		FROM ` + Inputs + ` i, LATERAL (SELECT '' AS name, i.sha256, i.format AS ending UNION ALL SELECT x.name, x.sha256, x.ending FROM frame_files x WHERE x.frame_id = i.id AND x.fence = i.fence) own) END`

// Inputs are the frames i that a frame f of a shot s needs, as far as they are done.
const Inputs = `jsonb_array_elements_text(s.spec->'after') WITH ORDINALITY AS a (name, n), LATERAL (
	SELECT i.*, a.n, r.spec->>'pass' AS pass FROM run_shots r JOIN frames i ON i.run_id = r.run_id AND i.shot = r.shot AND i.frame = f.frame
	WHERE r.shot = a.name AND i.state = 'done' AND (r.run_id = f.run_id OR NOT EXISTS (SELECT FROM run_shots x WHERE x.run_id = f.run_id AND x.shot = a.name))
	ORDER BY i.done_at DESC NULLS LAST, i.id DESC LIMIT 1)`

// Scan reads a lease.
func (t *Turn) Scan(row store.Row) (l Rendering, err error) {
	var spec shots.Spec
	var packaged bool
	err = row.Scan(&l.Lease.Lease, &l.Fence, &l.Run, &l.Shot, &l.Frame, &l.Crew, store.JSON(&l.Devices), &l.MemoryMode, store.JSON(&spec), &packaged, &l.Boot, &l.Start, &l.Begun, store.JSON(&l.Inputs))
	l.MemoryGB = float64(spec.HostMemoryGB)
	l.Package = t.Server && packaged
	l.Files = spec.Files
	l.Scene, l.Width, l.Height, l.Launcher, l.Settings = spec.Scene, spec.Width, spec.Height, spec.Launcher, spec.Settings
	if l.Settings == nil {
		l.Settings = map[string]string{}
	}
	if c, ok := t.Spec.FindCrew(l.Crew); ok {
		l.Backend = hosts.Backend(c, spec.Backend)
	}
	return l, err
}

// Rendering reads the leases that the host has.
func (t *Turn) Rendering() ([]Rendering, error) {
	return store.Rows(t.tx.Raw("SELECT "+Columns+" FROM frames f JOIN run_shots s USING (run_id, shot) WHERE f.host = $1 AND f.state = 'rendering' ORDER BY f.id", t.Host.Name), t.Scan)
}

// Lock reads the host, and locks it unless it is only looked at. Boot is its agent's; aside is why it takes nothing, "" for nothing.
func (t *Turn) Lock() (boot *uuid.UUID, aside string, err error) {
	lock := " FOR UPDATE"
	if t.looks {
		lock = ""
	}
	err = t.tx.Raw("SELECT CASE WHEN draining THEN 'draining' ELSE trouble END, boot, spec, server, desk FROM hosts WHERE name = $1"+lock, t.Host.Name).Row().Scan(&aside, &boot, store.JSON(&t.Spec), &t.Server, store.JSON(&t.Desk))
	t.Host.MemoryGB = t.Spec.MemoryGB
	return boot, aside, err
}
