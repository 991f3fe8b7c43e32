package chaos

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/pricing"
	"rotanex.example/providers"
)

// check looks whether all is as it should be after a run, once its servers are given back and its jobs closed.
func (w *world) check(ctx context.Context, run api.Run) (found []string, err error) {
	db, err := gorm.Open(postgres.Open(w.db.URL()), &gorm.Config{Logger: logger.Discard})
	if err != nil {
		return nil, err
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	defer func() { _ = pool.Close() }()
	db = db.WithContext(ctx)
	settled := func() (bool, error) {
		var open int
		err := db.Raw(`SELECT (SELECT count(*) FROM servers WHERE run_id = $1 AND state NOT IN ('stopped', 'not-started'))
			+ (SELECT count(*) FROM farm_jobs WHERE run_id = $1 AND state NOT IN ('ended', 'not-started'))`, run.Id).Row().Scan(&open)
		return open == 0, err
	}
	if err := w.until(ctx, "servers and jobs to be closed", settled); err != nil {
		found = append(found, err.Error())
	}
	for _, look := range []func(context.Context, *gorm.DB, api.Run) ([]string, error){w.counted, w.pictures, w.money} {
		more, err := look(ctx, db, run)
		if err != nil {
			return found, err
		}
		found = append(found, more...)
	}
	renderers := func() (bool, error) { return len(w.running("rotanex-simulator", "render")) == 0, nil }
	if err := w.until(ctx, "renderers to end", renderers); err != nil {
		found = append(found, fmt.Sprintf("renderers are left: %v", w.running("rotanex-simulator", "render")))
	}
	return found, nil
}

// counted holds what is stored against what should be.
func (w *world) counted(_ context.Context, db *gorm.DB, run api.Run) (found []string, err error) {
	for _, c := range []struct {
		what, statement string
		want            int
	}{
		{"frames are done", "SELECT count(*) FROM frames WHERE run_id = $1 AND state = 'done'", w.Frames},
		{"tries gave a frame", "SELECT count(*) FROM tries WHERE run_id = $1 AND outcome = 'done'", w.Frames},
		{"frames began before the one that they are made of was done", `SELECT count(*) FROM frames f JOIN tries a ON a.frame_id = f.id, frames g JOIN tries b ON b.frame_id = g.id AND b.outcome = 'done'
			WHERE f.run_id = $1 AND g.run_id = $1 AND f.shot LIKE '%.grade' AND g.shot LIKE '%.plate' AND f.frame = g.frame AND a.started_at < b.ended_at`, 0},
		{"frames were done more than once", "SELECT count(*) FROM (SELECT FROM tries WHERE run_id = $1 AND outcome = 'done' GROUP BY frame_id HAVING count(*) > 1) x", 0},
		{"frames are under lease", "SELECT count(*) FROM frames WHERE run_id = $1 AND state = 'rendering'", 0},
		{"charges are twice there", "SELECT count(*) FROM (SELECT FROM charges WHERE run_id = $1 GROUP BY source, place HAVING count(*) > 1) x", 0},
		{"charges of servers are missing", "SELECT count(*) FROM servers s WHERE run_id = $1 AND up_at IS NOT NULL AND NOT EXISTS (SELECT FROM charges c WHERE c.place = s.host)", 0},
	} {
		var n int
		if err := db.Raw(c.statement, run.Id).Row().Scan(&n); err != nil {
			return found, err
		}
		if n != c.want {
			found = append(found, fmt.Sprintf("%d %s, should be %d", n, c.what, c.want))
		}
	}
	return found, nil
}

// pictures fetches every frame and holds it against the sum that it was handed in with.
func (w *world) pictures(ctx context.Context, db *gorm.DB, run api.Run) (found []string, err error) {
	var all []struct {
		Frame  int
		Shot   string
		Farm   bool
		SHA256 string `gorm:"column:sha256"`
	}
	if err := db.Raw("SELECT frame, shot, sha256, NOT EXISTS (SELECT FROM hosts WHERE name = host) AS farm FROM frames WHERE run_id = ? AND state = 'done' ORDER BY frame", run.Id).Scan(&all).Error; err != nil {
		return nil, err
	}
	for _, f := range all {
		sum, err := w.sum(w.client.GetPicture(ctx, run.Id, f.Shot, f.Frame, &api.GetPictureParams{}))
		if err != nil {
			return found, err
		}
		if sum != f.SHA256 {
			found = append(found, fmt.Sprintf("the picture of frame %d has SHA-256 %s, and %s was handed in", f.Frame, sum, f.SHA256))
		}
		if strings.HasSuffix(f.Shot, "."+passes[0]) && !f.Farm {
			lost, err := w.filesOf(ctx, run, f.Shot, f.Frame)
			if found = append(found, lost...); err != nil {
				return found, err
			}
		}
	}
	return found, nil
}

// filesOf fetches what a frame has beside its picture.
func (w *world) filesOf(ctx context.Context, run api.Run, shot string, frame int) (found []string, err error) {
	d, err := client.Decode[api.FrameDetail](w.client.GetFrame(ctx, run.Id, shot, frame))
	if err != nil {
		return nil, err
	}
	names := map[string]bool{}
	for _, x := range d.Frame.Files {
		names[x.Name] = true
		sum, err := w.sum(w.client.GetFrameFile(ctx, run.Id, shot, frame, x.Name, &api.GetFrameFileParams{}))
		if err != nil {
			return found, err
		}
		if sum != x.Sha256 {
			found = append(found, fmt.Sprintf("%s of frame %d has SHA-256 %s, and %s was handed in", x.Name, frame, sum, x.Sha256))
		}
	}
	for _, name := range []string{"depth", "stats"} {
		if !names[name] {
			found = append(found, fmt.Sprintf("frame %d of %s is done without its %s", frame, shot, name))
		}
	}
	return found, nil
}

func (w *world) sum(answer *http.Response, err error) (string, error) {
	if err != nil {
		return "", err
	}
	defer func() { _ = answer.Body.Close() }()
	sum := sha256.New()
	_, err = io.Copy(sum, answer.Body)
	return hex.EncodeToString(sum.Sum(nil)), err
}

// money holds the ledger against the sources' own meters, and what was charged against the cap.
func (w *world) money(ctx context.Context, db *gorm.DB, run api.Run) (found []string, err error) {
	var byMeter, charged, paid pricing.Money
	list, err := providers.RemoteServers{Remote: providers.Remote{Address: w.outside["tern"]}}.List(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		if !strings.Contains(s.Name, run.Id.String()[:8]) {
			continue
		}
		byMeter = byMeter.Plus(*s.Charge)
		if s.State != providers.Stopped {
			found = append(found, fmt.Sprintf("server %s is %s", s.Name, s.State))
		}
	}
	after, err := client.Decode[api.Run](w.client.GetRun(ctx, run.Id))
	if err != nil {
		return found, err
	}
	for _, j := range after.FarmJobs {
		seen, err := providers.RemoteFarm{Remote: providers.Remote{Address: w.outside["saltmarsh"]}}.Look(ctx, j.Id.String())
		if errors.Is(err, providers.ErrGone) {
			continue // it was never handed in
		}
		if err != nil {
			return found, err
		}
		byMeter = byMeter.Plus(seen.Charge)
		if seen.State != providers.Ended && seen.State != providers.Rejected {
			found = append(found, fmt.Sprintf("job %s is %s", j.Id, seen.State))
		}
	}
	var amount, cost, limit string
	if err := db.Raw("SELECT coalesce(sum(amount), 0)::text, coalesce(sum(cost), 0)::text FROM charges WHERE run_id = $1", run.Id).Row().Scan(&amount, &cost); err != nil {
		return found, err
	}
	if err := db.Raw("SELECT coalesce(cap, 0)::text FROM runs WHERE id = $1", run.Id).Row().Scan(&limit); err != nil {
		return found, err
	}
	charged, paid = pricing.MustMoney(amount), pricing.MustMoney(cost)
	most := pricing.MustMoney(limit)
	w.say("run %s: EUR %s of at most %s", run.Id.String()[:8], paid, most)
	if byMeter.Cmp(charged) != 0 {
		found = append(found, fmt.Sprintf("the meters say %s and the ledger %s", byMeter, charged))
	}
	if paid.Rounded().Cmp(most) > 0 {
		found = append(found, fmt.Sprintf("EUR %s were charged, and the cap was %s", paid, most))
	}
	return found, nil
}

// running lists the processes of ours whose command line has all of these words.
func (w *world) running(words ...string) (found []string) {
	files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range files {
		line, err := os.ReadFile(file)
		text := strings.ReplaceAll(string(line), "\x00", " ")
		ours := err == nil && strings.Contains(text, w.State)
		for _, word := range words {
			ours = ours && strings.Contains(text, word)
		}
		if ours && file != fmt.Sprintf("/proc/%d/cmdline", os.Getpid()) {
			found = append(found, strings.TrimSpace(text))
		}
	}
	return found
}

// leftovers says what runs still though all was ended.
func (w *world) leftovers() error {
	if left := w.running(); len(left) > 0 {
		return fmt.Errorf("left running: %v", left)
	}
	return nil
}
