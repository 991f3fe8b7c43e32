package demo

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"sync/atomic"
	"time"
)

// board is the studio's notice board: a web hook that is told what Rotanex has to say.
type board struct {
	server http.Server
	told   atomic.Int64
}

// startBoard puts it up on loopback, and has it told of everything.
func (d *Demo) startBoard(ctx context.Context) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	d.board.server = http.Server{Handler: http.HandlerFunc(d.board.hear), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = d.board.server.Serve(l) }()
	_, err = d.output(ctx, "notify", "put", "board", "--to", "http://"+l.Addr().String())
	return err
}

func (b *board) hear(w http.ResponseWriter, r *http.Request) {
	var event struct{ Data struct{ Text string } }
	if json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<20)).Decode(&event) != nil || event.Data.Text == "" {
		http.Error(w, "this is no event", http.StatusBadRequest)
		return
	}
	b.told.Add(1)
}
