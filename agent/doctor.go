package agent

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"rotanex.example/agent/cgroup"
	"rotanex.example/api/client"
	"rotanex.example/core/version"
	"rotanex.example/doctor"
)

// Checks are what an agent with these settings stands on.
func Checks(c Config) ([]doctor.Check, error) {
	a, err := New(c)
	if err != nil {
		return nil, err
	}
	all := []doctor.Check{
		{Name: "version", Look: func(context.Context) doctor.Finding { return doctor.Fine("%s", version.Built()) }},
		{Name: "service", Look: a.checkService},
		{Name: "joined", Look: a.checkJoined},
		{Name: "state folder", Look: a.checkState},
		{Name: "devices", Look: a.checkDevices},
		{Name: "control groups", Look: a.checkGroups},
	}
	for _, name := range slices.Sorted(maps.Keys(a.Launchers)) {
		all = append(all, doctor.Check{Name: "launcher " + name, Look: a.checkLauncher(name)})
	}
	all = append(all, doctor.Check{Name: "scenes", Look: checkFolder("--scenes", a.Scenes)})
	for _, name := range slices.Sorted(maps.Keys(a.Roots)) {
		all = append(all, doctor.Check{Name: "root " + name, Look: checkFolder("--root "+name, a.Roots[name])})
	}
	if a.Config.Desk != nil {
		all = append(all, doctor.Check{Name: "desk", Look: a.checkDesk})
	}
	return all, nil
}

// clocksApart is how far this machine's clock may be from the service's before certificates and logs are not to be trusted.
const clocksApart = 30 * time.Second

func (a *Agent) checkService(ctx context.Context) doctor.Finding {
	if _, err := client.ParseAddresses(a.Service); err != nil {
		return doctor.Fail("pass --service https://render.example", "--service: %v", err)
	}
	var said []string
	worst := doctor.Finding{}
	for address := range strings.SplitSeq(a.Service, ",") {
		address = strings.TrimRight(strings.TrimSpace(address), "/")
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/readyz", nil)
		if err != nil {
			return doctor.Fail("pass --service https://render.example", "--service: %v", err)
		}
		asked := time.Now()
		answer, err := newCalls().Do(r)
		if err != nil {
			worst = doctor.Fail("start the service, check --service, and that a firewall lets this machine through; behind TLS, that its certificate is one that this machine trusts", "%v", err)
			continue
		}
		_ = answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			worst = doctor.Fail("ask whoever runs it: rotanex-service doctor", "%s is not ready (%s)", address, answer.Status)
			continue
		}
		said = append(said, address+" is ready")
		if now, err := http.ParseTime(answer.Header.Get("Date")); err == nil && now.Sub(asked).Abs() > clocksApart && worst.State == "" {
			worst = doctor.Warn("set this machine's clock by NTP", "%s is ready; its clock and this machine's are %s apart", address, now.Sub(asked).Abs().Round(time.Second))
		}
	}
	if worst.State == "" {
		return doctor.Fine("%s", strings.Join(said, ", "))
	}
	if worst.State == doctor.Failed && len(said) > 0 { // one of several is enough
		worst.State, worst.Found = doctor.Warning, strings.Join(append(said, worst.Found), "; ")
	}
	return worst
}

func (a *Agent) checkJoined(ctx context.Context) doctor.Finding {
	join := fmt.Sprintf("make a join token with rotanex tokens join %s, and start the agent once with --join-token", a.Host)
	var own credential
	data, err := os.ReadFile(filepath.Join(a.StateDir, "credential.json"))
	if err == nil {
		err = json.Unmarshal(data, &own)
	}
	switch {
	case errors.Is(err, os.ErrNotExist) && a.JoinToken != "":
		return doctor.Skip("not yet: the agent joins as %s when it starts", a.Host)
	case errors.Is(err, os.ErrNotExist):
		return doctor.Fail(join, "%s has not joined yet", a.Host)
	case err != nil:
		return doctor.Fail(join, "%v", err)
	case own.Host != a.Host:
		return doctor.Fail(join+", or pass --host "+own.Host, "this state folder is %s's, and the agent is started as %s", own.Host, a.Host)
	}
	if err := a.use(own); err != nil {
		return doctor.Fail("pass --service https://render.example", "%v", err)
	}
	answer, err := a.client.GetSession(ctx) // an agent is told nothing there; who is not known is told that
	if err != nil {
		return doctor.Skip("joined as %s; the service does not answer", a.Host)
	}
	_ = answer.Body.Close()
	if answer.StatusCode == http.StatusUnauthorized {
		return doctor.Fail(join, "the service does not know %s's credential: it was revoked, or is another service's", a.Host)
	}
	return doctor.Fine("as %s", a.Host)
}

// littleGB is what the disk that frames are rendered to should have free.
const littleGB = 5

func (a *Agent) checkState(context.Context) doctor.Finding {
	if _, err := os.Stat(a.StateDir); errors.Is(err, os.ErrNotExist) {
		return doctor.Skip("%s: made at the first start", a.StateDir)
	}
	f := folderAt(a.StateDir)
	if !f.Writable {
		return doctor.Fail("give the agent's user the right to write there, or name another folder with --state-dir", "%s cannot be written to", a.StateDir)
	}
	said := fmt.Sprintf("%s: %.0f GB free", a.StateDir, f.FreeGb)
	switch {
	case f.Network:
		return doctor.Warn("name a folder on a disk of this machine with --state-dir", "%s, on another machine (%s): each frame is written there and read again", said, f.Filesystem)
	case f.FreeGb < littleGB:
		return doctor.Warn("make room: frames and packages are written there", "%s", said)
	}
	return doctor.Fine("%s", said)
}

func (a *Agent) checkDevices(context.Context) doctor.Finding {
	if err := a.find(); err != nil {
		return doctor.Fail("see whether the host stands in the file of --simulate", "%v", err)
	}
	h := a.found.Host
	said := []string{fmt.Sprintf("%s, %d cores, %.0f GB", cmp.Or(h.CPU.Model, "CPU"), h.CPU.Cores, h.MemoryGB)}
	var bad []string
	if a.Simulated == nil {
		bad = slices.Clone(a.found.Findings)
	}
	for _, d := range h.Devices {
		said = append(said, fmt.Sprintf("%s %s, %.0f GB", d.ID, d.Model, d.MemoryGB))
		if d.Unusable != "" {
			bad = append(bad, d.ID+": "+d.Unusable)
		}
	}
	if len(bad) > 0 {
		return doctor.Warn("install the device's driver, with its library, if it is to render", "%s; %s", strings.Join(said, "; "), strings.Join(bad, "; "))
	}
	return doctor.Fine("%s", strings.Join(said, "; "))
}

func (a *Agent) checkGroups(context.Context) doctor.Finding {
	if groups := a.back.Groups(); cgroup.MayMake(groups, a.owner()+"-doctor") {
		return doctor.Fine("each renderer has one, in %s", groups)
	}
	return doctor.Skip("none may be made here: renderers are ended by their process groups (with systemd: Delegate=yes)")
}

func (a *Agent) checkLauncher(name string) func(context.Context) doctor.Finding {
	return func(ctx context.Context) doctor.Finding {
		l := a.Launchers[name]
		told, err := os.MkdirTemp("", "rotanex-doctor-*")
		if err == nil {
			defer func() { _ = os.RemoveAll(told) }()
			err = a.describe(told)
		}
		if err != nil {
			return doctor.Fail("make room, or give the agent's user the right to write there", "%v", err)
		}
		r := a.renderer(ctx, l)
		if r.Trouble != "" {
			return doctor.Fail(fmt.Sprintf("install it, put it on the PATH of the agent's user, or leave %s out of --allow", name), "%s", r.Trouble)
		}
		for _, x := range a.lint(ctx, l) {
			if x.Level == "error" {
				return doctor.Fail("rotanex-agent lint "+name+" says what is wrong with the launcher", "%s", x.Text)
			}
		}
		said := l.Program
		if r.Version != "" {
			said += " " + r.Version
		}
		if len(r.Plugins) > 0 {
			said += fmt.Sprintf(", %d plugins", len(r.Plugins))
		}
		return doctor.Fine("%s; rotanex-agent try %s renders a frame", said, name)
	}
}

func checkFolder(flag, folder string) func(context.Context) doctor.Finding {
	return func(context.Context) doctor.Finding {
		inside, err := os.ReadDir(folder)
		if err != nil {
			return doctor.Fail("mount it, or name the folder where this host has it with "+flag, "%v", err)
		}
		if len(inside) == 0 {
			return doctor.Warn("mount it: scenes are looked for below it", "%s is empty", folder)
		}
		return doctor.Fine("%s", folder)
	}
}

func (a *Agent) checkDesk(ctx context.Context) doctor.Finding {
	now := time.Now()
	at, err := a.Config.Desk.idleness().Touched(ctx, now)
	if err != nil {
		return doctor.Fail("start a login manager that says when somebody is here, or pass --desk-idle-command", "%v", err)
	}
	if since := now.Sub(at).Round(time.Second); since > 0 {
		return doctor.Fine("nobody has touched it for %s", since)
	}
	return doctor.Fine("somebody is here")
}
