package agent

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/shirou/gopsutil/v4/load"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/picture"
	"rotanex.example/core/stock"
	"rotanex.example/launchers"
)

// job is one lease being worked on.
type job struct {
	api.Lease
	agent    *Agent
	cancel   context.CancelFunc
	progress atomic.Int64 // thousandths

	mu      sync.Mutex
	reading launchers.Reading
	use     use
	heard   time.Time // when the renderer last said something
	pid     int       // of the renderer; 0: none runs
	beside  bool      // somebody worked here meanwhile
	gives   string    // why the frame is given back; "": it is not
	stopped time.Time // since when the renderer stands still; zero: it does not
	stood   time.Duration
}

// failure is why a frame was not rendered.
type failure struct {
	cause api.ResultCause
	why   string
}

func (f *failure) Error() string { return f.why }

// do renders, checks and hands in. When working ends it gives up: with a word if the frame is
// to be given back, without one if the lease is not ours any more or ctx, the agent's, ends.
func (j *job) do(ctx, working context.Context) {
	folder := filepath.Join(j.agent.StateDir, "work", fmt.Sprintf("%d-%d", j.Lease.Lease, j.Fence))
	result := api.Result{Boot: j.agent.boot, Outcome: api.ResultOutcomeDone}
	err := os.MkdirAll(folder, 0o700)
	defer func() { _ = os.RemoveAll(folder) }()
	if err == nil && j.givesBack() == "" {
		var file string
		if file, err = j.render(working, folder, &result.Measured); err == nil {
			result.Sha256, result.Bytes, err = j.deliver(working, file)
		}
	}
	if err != nil && working.Err() == nil {
		// It may be this host's fault: then the frame has not failed.
		j.agent.doubt()
		if why := j.agent.works(time.Now()); why != "" {
			j.giveBack(why)
		}
	}
	why := j.givesBack()
	switch {
	case ctx.Err() != nil:
		return
	case err == nil && result.Sha256 != "": // it is done, whatever was said since
	case why != "":
		result = api.Result{Boot: j.agent.boot, Outcome: api.ResultOutcomeGivenBack, LogTail: why}
		j.agent.Log.Info("frame is given back", "shot", j.Shot, "frame", j.Frame, "why", why)
		j.agent.tellDesk(ctx)
	case working.Err() != nil:
		return
	case client.Status(err) == http.StatusConflict:
		j.agent.Log.Info("came too late", "shot", j.Shot, "frame", j.Frame)
		return
	default:
		j.failed(&result, err)
	}
	_, err = retried(ctx, j.agent, func(ctx context.Context) (struct{}, error) {
		return client.Decode[struct{}](j.agent.client.PutResult(ctx, j.Lease.Lease, j.Fence, result))
	})
	if err != nil && ctx.Err() == nil {
		j.agent.Log.Warn("handing in", "shot", j.Shot, "frame", j.Frame, "error", err)
	}
}

// failed says in a result why the frame was not rendered.
func (j *job) failed(result *api.Result, err error) {
	f := &failure{api.ResultCauseCrashed, err.Error()}
	errors.As(err, &f)
	j.mu.Lock()
	tail := j.reading.Tail()
	j.mu.Unlock()
	result.Outcome, result.Cause, result.LogTail = api.ResultOutcomeFailed, f.cause, strings.TrimSpace(tail+"\n"+f.why)
	j.agent.Log.Warn("frame failed", "shot", j.Shot, "frame", j.Frame, "cause", f.cause, "why", f.why)
}

// render starts the renderer and returns the path of the checked picture.
func (j *job) render(ctx context.Context, folder string, m *api.Measured) (string, error) {
	l, ok := j.agent.Launchers[j.Launcher]
	if !ok {
		return "", &failure{api.ResultCauseRefused, fmt.Sprintf("this host does not allow the launcher %q", j.Launcher)}
	}
	if l.Devices == "cpu" && !slices.Equal(j.Devices, []string{stock.CPUDevice}) {
		return "", &failure{api.ResultCauseRefused, fmt.Sprintf("%s renders on the CPU alone, not on %s", l.Name, j.Crew)}
	}
	scene, err := j.scene(ctx)
	if err != nil {
		return "", &failure{api.ResultCauseCannotStart, err.Error()}
	}
	if m.Settings, err = l.Settle(j.Settings); err != nil {
		return "", &failure{api.ResultCauseRefused, err.Error()}
	}
	output := filepath.Join(folder, "frame."+l.Output)
	args, err := l.Arguments(launchers.Frame{
		Scene: scene, Frame: j.Frame, Width: j.Width, Height: j.Height, Threads: j.threads(), Devices: j.Devices,
		Output: output, Stock: j.agent.stock, ClockFactor: j.agent.factor, Settings: j.Settings,
		Backend: j.Backend, MemoryMode: string(j.MemoryMode),
	})
	if err != nil {
		return "", &failure{api.ResultCauseRefused, err.Error()}
	}
	m.Conditions = j.conditions()
	err = j.run(ctx, l, args, filepath.Dir(scene), m)
	m.Conditions["beside"] = j.besideWhom()
	if err != nil {
		return "", err
	}
	return output, j.check(output)
}

// scene finds the scene file below the scene folder or in the shot's package, and
// nothing outside it.
func (j *job) scene(ctx context.Context) (string, error) {
	folder, err := j.agent.scenes(ctx, j.Lease)
	if err != nil {
		return "", err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return "", err
	}
	defer func() { _ = root.Close() }()
	if _, err := root.Stat(filepath.FromSlash(j.Scene)); err != nil {
		return "", fmt.Errorf("scene %s: %w", j.Scene, err)
	}
	return filepath.Abs(filepath.Join(folder, filepath.FromSlash(j.Scene)))
}

func (j *job) threads() int {
	switch {
	case j.agent.Threads > 0:
		return j.agent.Threads
	case j.agent.inUse():
		return j.agent.back.Threads()
	}
	return runtime.NumCPU()
}

// conditions are what else may have made the frame slow.
func (j *job) conditions() map[string]string {
	out := map[string]string{"power": "ac"}
	if j.agent.found.Host.OnBattery() {
		out["power"] = "battery"
	}
	held := 0.0
	for _, id := range j.Devices {
		if d := j.agent.found.Host.Device(id); d != nil {
			held = max(held, d.InUseGB)
		}
	}
	if held > 0 {
		out["in_use_gb"] = fmt.Sprintf("%.1f", held)
	}
	use := 0.0
	for _, s := range j.agent.sampled() {
		if slices.Contains(j.Devices, s.Device) && s.Device != stock.CPUDevice {
			use = max(use, s.Use)
		}
	}
	if use > 0.02 {
		out["device_use"] = fmt.Sprintf("%.2f", use) // somebody else's: this frame has not begun
	}
	if avg, err := load.Avg(); err == nil {
		out["load"] = fmt.Sprintf("%.1f", avg.Load1)
	}
	return out
}

// run starts the program, reads it and measures it until it ends.
func (j *job) run(ctx context.Context, l launchers.Launcher, args []string, folder string, m *api.Measured) error {
	// The kernel kills the renderer with the thread that started it, should this
	// agent be killed: so the thread is ours until the renderer is gone.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd := exec.CommandContext(ctx, l.Program, args...)
	cmd.Dir = folder
	cmd.Env = os.Environ()
	for name, value := range l.Environment {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 2 * time.Second
	read, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer func() { _ = read.Close() }()
	cmd.Stdout, cmd.Stderr = write, write
	j.hear()
	began := time.Now()
	err = cmd.Start()
	_ = write.Close()
	if err != nil {
		return &failure{api.ResultCauseCannotStart, fmt.Sprintf("%s: %v", l.Program, err)}
	}
	j.begun(cmd.Process.Pid)
	var reader sync.WaitGroup
	reader.Go(func() { j.read(l, read) })
	watching, stop := context.WithCancel(ctx)
	var watcher sync.WaitGroup
	var hung atomic.Bool
	watcher.Go(func() {
		j.watch(watching, cmd.Process.Pid, l.Quiet(), m, func() { hung.Store(true); _ = cmd.Cancel() })
	})
	err = cmd.Wait()
	m.Seconds = (time.Since(began) - j.ended()).Seconds() * j.agent.factor
	stop()
	watcher.Wait()
	_ = read.SetReadDeadline(time.Now().Add(2 * time.Second)) // a grandchild may hold the pipe
	reader.Wait()
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		m.PeakMemoryBytes = max(m.PeakMemoryBytes, usage.Maxrss*1024)
	}
	m.Stages, m.DevicePeakBytes, m.DeviceUse = j.reading.Stages, j.reading.DevicePeakBytes, j.meanUse()
	switch {
	case hung.Load():
		return &failure{api.ResultCauseHung, fmt.Sprintf("%s said nothing for %s and was killed", l.Name, l.Quiet())}
	case err != nil:
		return &failure{api.ResultCause(l.Failure(&j.reading, cmd.ProcessState.ExitCode())), fmt.Sprintf("%s: %v", l.Name, err)}
	}
	return nil
}

func (j *job) hear() {
	j.mu.Lock()
	j.heard = time.Now()
	j.mu.Unlock()
}

func (j *job) read(l launchers.Launcher, r io.Reader) {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	lines.Split(lineOrReturn)
	for lines.Scan() {
		j.mu.Lock()
		l.Read(&j.reading, lines.Text())
		j.heard = time.Now()
		j.progress.Store(int64(j.reading.Progress * 1000))
		j.mu.Unlock()
	}
	_, _ = io.Copy(io.Discard, r) // a line too long to read must not block the renderer
}

// lineOrReturn splits at line feeds and at carriage returns, by which renderers
// redraw their progress.
func lineOrReturn(data []byte, atEOF bool) (int, []byte, error) {
	if i := slices.IndexFunc(data, func(b byte) bool { return b == '\n' || b == '\r' }); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}

// check looks at the file before anybody else is told of it.
func (j *job) check(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return &failure{api.ResultCauseBadPicture, "the renderer ended well but wrote no picture"}
	}
	defer func() { _ = f.Close() }()
	size, err := f.Stat()
	if err == nil {
		_, err = picture.Check(f, size.Size(), j.Width, j.Height)
	}
	if err != nil {
		return &failure{api.ResultCauseBadPicture, err.Error()}
	}
	return nil
}

// deliver sends the picture with its SHA-256.
func (j *job) deliver(ctx context.Context, file string) (string, int64, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", 0, err
	}
	defer func() { _ = f.Close() }()
	hash := sha256.New()
	size, err := io.Copy(hash, f)
	if err != nil {
		return "", 0, err
	}
	sum := hash.Sum(nil)
	params := api.PutPictureParams{ContentDigest: "sha-256=:" + base64.StdEncoding.EncodeToString(sum) + ":"}
	_, err = retried(ctx, j.agent, func(ctx context.Context) (struct{}, error) {
		body := io.NewSectionReader(f, 0, size)
		return client.Decode[struct{}](j.agent.client.PutPictureWithBody(ctx, j.Lease.Lease, j.Fence, &params, "application/octet-stream", io.NopCloser(body)))
	})
	if status := client.Status(err); status >= 400 && status < 500 && status != http.StatusConflict {
		err = &failure{api.ResultCauseBadPicture, "the service refused the picture: " + err.Error()}
	}
	return hex.EncodeToString(sum), size, err
}
