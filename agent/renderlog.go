package agent

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"slices"
	"time"

	"rotanex.example/api/client"
)

// renderLog is all that a renderer says of a frame: from the beginning and from the end, where it is too much.
type renderLog struct {
	head, tail []byte
	left       int64 // bytes that are left out between them
}

// mostLog is how many bytes the beginning and the end of a log have at most, each.
const mostLog = 8 << 20

// add takes in a line.
func (l *renderLog) add(line string) {
	if l.tail == nil && len(l.head)+len(line) < mostLog {
		l.head = append(append(l.head, line...), '\n')
		return
	}
	l.tail = append(append(l.tail, line...), '\n')
	if len(l.tail) > 2*mostLog {
		cut := len(l.tail) - mostLog
		if end := bytes.IndexByte(l.tail[cut:], '\n'); end >= 0 {
			cut += end + 1
		}
		l.left += int64(cut)
		l.tail = slices.Clone(l.tail[cut:])
	}
}

// packed is the log as it is sent.
func (l *renderLog) packed() []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, _ = w.Write(l.head) // to memory
	if l.left > 0 {
		_, _ = fmt.Fprintf(w, "… %d bytes are left out here …\n", l.left)
	}
	_, _ = w.Write(l.tail)
	_ = w.Close()
	return out.Bytes()
}

// logFor is for how long it is tried to send a log.
const logFor = 30 * time.Second

// sendLog sends what the renderer said of a frame that was handed in. It is tried once: nothing depends on it.
func (r *rendered) sendLog(ctx context.Context) {
	if len(r.log.head) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, logFor)
	defer cancel()
	_, err := client.Decode[struct{}](r.agent.client.PutRenderLogWithBody(ctx, r.Lease.Lease, r.Fence, "application/octet-stream", bytes.NewReader(r.log.packed())))
	if err != nil && ctx.Err() == nil {
		r.agent.Log.Info("the render log was not taken", "shot", r.Shot, "frame", r.Frame, "error", err)
	}
}
