package simulator

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"rotanex.example/providers"
)

// work is a job's life.
func (f *Farm) work(ctx context.Context, j *farmJob) {
	if !f.pass(ctx, f.Analysis) {
		return
	}
	scenes, findings := f.analyse(j)
	if len(findings) > 0 {
		f.mu.Lock()
		j.findings = findings
		f.mu.Unlock()
		f.enter(j, providers.Rejected)
		return
	}
	f.enter(j, providers.Queued)
	queue := f.Queue
	if queue == 0 {
		queue = time.Duration(float64(j.tier.LeadS)*bootShare)*time.Second - f.Analysis
	}
	if !f.pass(ctx, queue) {
		return
	}
	if err := f.describe(j); err != nil {
		f.Log.Error("job", "name", j.Name, "error", err)
		return
	}
	f.enter(j, providers.Proofing)
	var nodes sync.WaitGroup
	for range j.tier.Nodes {
		nodes.Go(func() { f.node(ctx, j, scenes) })
	}
	nodes.Wait()
}

// analyse unpacks the package and looks for what cannot be rendered here.
func (f *Farm) analyse(j *farmJob) (scenes string, findings []string) {
	findings = []string{}
	if j.Licence == "named-user" && !j.tier.NamedUser {
		findings = append(findings, "the renderer's licence is for a single user: we may not use it")
	}
	for _, p := range j.Plugins {
		if len(f.Plugins) > 0 && !slices.Contains(f.Plugins, p) {
			findings = append(findings, fmt.Sprintf("we do not have the plugin %s", p))
		}
	}
	if len(j.tier.Launchers) > 0 && !slices.Contains(j.tier.Launchers, j.Launcher) {
		findings = append(findings, fmt.Sprintf("we do not have %s, but %s", j.Launcher, strings.Join(j.tier.Launchers, ", ")))
	}
	scenes = f.Scenes
	if len(j.Package) > 0 {
		scenes = filepath.Join(f.Folder, "jobs", j.Name, "package")
		if err := f.unpack(scenes, j.Package); err != nil {
			findings = append(findings, err.Error())
		}
	}
	if _, err := os.Stat(filepath.Join(scenes, filepath.FromSlash(j.Scene))); err != nil {
		findings = append(findings, fmt.Sprintf("the scene %s is not in the package", j.Scene))
	}
	return scenes, findings
}

func (f *Farm) unpack(to string, files []providers.PackageFile) error {
	for _, file := range files {
		if !filepath.IsLocal(filepath.FromSlash(file.Path)) {
			return fmt.Errorf("the package has the path %q, which leads out of it", file.Path)
		}
		var data []byte
		for _, sum := range file.Chunks {
			chunk, err := os.ReadFile(f.chunk(sum))
			if err != nil {
				return fmt.Errorf("a part of %s did not arrive", file.Path)
			}
			data = append(data, chunk...)
		}
		path := filepath.Join(to, filepath.FromSlash(file.Path))
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, data, 0o600)); err != nil {
			return err
		}
	}
	return nil
}

// next takes a frame that may be rendered now; it waits for one until the job ends.
func (f *Farm) next(ctx context.Context, j *farmJob) *providers.JobFrame {
	f.mu.Lock()
	defer f.mu.Unlock()
	for ctx.Err() == nil {
		open := false
		for i := range j.frames {
			x := &j.frames[i]
			proof := slices.Contains(j.Proofs, x.Frame)
			if x.State == providers.FrameWaiting && (proof || j.released) {
				x.State = providers.FrameRendering
				x.Tries++
				return x
			}
			open = open || x.State == providers.FrameRendering || x.State == providers.FrameWaiting && proof
		}
		if !open && j.state == providers.Proofing && !j.released {
			j.state = providers.Held
		} else if !open && j.state == providers.Rendering && !slices.ContainsFunc(j.frames, func(x providers.JobFrame) bool { return x.State == providers.FrameWaiting }) {
			j.state = providers.Done
		} else if j.released && (j.state == providers.Proofing || j.state == providers.Held) {
			j.state = providers.Rendering
			continue
		}
		f.moved.Wait()
	}
	return nil
}

// node renders one frame after another.
func (f *Farm) node(ctx context.Context, j *farmJob, scenes string) {
	defer context.AfterFunc(ctx, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.moved.Broadcast()
	})()
	for x := f.next(ctx, j); x != nil; x = f.next(ctx, j) {
		began := time.Now()
		cause := f.render(ctx, j, scenes, x)
		took := time.Duration(float64(time.Since(began)) * f.ClockFactor).Round(time.Millisecond)
		f.finish(ctx, j, x, took, cause)
	}
}

func (f *Farm) nodeFile(j *farmJob) string {
	return filepath.Join(f.Folder, "jobs", j.Name, "node.json")
}

// describe writes down what a node is, for the renderers.
func (f *Farm) describe(j *farmJob) error {
	data, err := json.Marshal(j.tier.Node())
	return errors.Join(err, os.MkdirAll(filepath.Dir(f.nodeFile(j)), 0o700), os.WriteFile(f.nodeFile(j), data, 0o600))
}

// render renders a frame with the simulated renderer; it returns why it failed, or "".
func (f *Farm) render(ctx context.Context, j *farmJob, scenes string, x *providers.JobFrame) string {
	output := f.file(j, x.Frame)
	stockFile := f.nodeFile(j)
	var said strings.Builder
	r := Render{
		Scene: filepath.Join(scenes, filepath.FromSlash(j.Scene)), Output: output, Stock: stockFile, Frames: []int{x.Frame}, Width: j.Width, Height: j.Height,
		Devices: j.tier.Crew().Devices, ClockFactor: f.ClockFactor, Say: &said, Samples: setting(j, "samples", 128), Bucket: setting(j, "bucket", 256), Denoise: "none", Lacks: f.Lacks,
	}
	if len(j.tier.Devices) > 0 && len(j.tier.Devices[0].Backends) > 0 {
		r.Backend = j.tier.Devices[0].Backends[0]
	}
	if f.fails(j, x) {
		r.Fail = fmt.Sprintf("crash@%d", x.Frame)
	}
	if status := r.Run(ctx); status != 0 {
		lines := strings.Split(strings.TrimSpace(said.String()), "\n")
		return fmt.Sprintf("exit status %d: %s", status, lines[len(lines)-1])
	}
	return ""
}

// setting is a whole number that a job sets, or what the renderer takes without it.
func setting(j *farmJob, name string, usual int) int {
	if n, err := strconv.Atoi(j.Settings[name]); err == nil {
		return n
	}
	return usual
}

// fails reports whether a frame is one of those that fail. One in three of these
// fails again.
func (f *Farm) fails(j *farmJob, x *providers.JobFrame) bool {
	if f.FailOneIn == 0 || x.Tries > 2 {
		return false
	}
	sum := fnv.New32a()
	_, _ = fmt.Fprintf(sum, "%s %d", j.Shot, x.Frame)
	h := int(sum.Sum32() >> 3)
	return h%f.FailOneIn == 0 && (x.Tries == 1 || h/f.FailOneIn%3 == 0)
}

func (f *Farm) finish(ctx context.Context, j *farmJob, x *providers.JobFrame, took time.Duration, cause string) {
	data, err := os.ReadFile(f.file(j, x.Frame))
	f.mu.Lock()
	defer f.mu.Unlock()
	defer f.moved.Broadcast()
	if ctx.Err() != nil {
		return // ended meanwhile: its meter stands
	}
	j.node += took
	x.Seconds, x.Cause = took.Seconds(), cause
	defer func() {
		if f.spent(j) {
			f.end(j)
		}
	}()
	if cause != "" || err != nil {
		x.State = providers.FrameFailed
		return
	}
	sum := sha256.Sum256(data)
	x.State, x.SHA256 = providers.FrameDone, hex.EncodeToString(sum[:])
	j.charged++
}

// end ends a job: nothing more of it is rendered.
func (f *Farm) end(j *farmJob) {
	if j.state != providers.Rejected {
		j.state = providers.Ended
	}
	j.stop()
	f.moved.Broadcast()
}
