package serve

import (
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"time"
)

// profiles serves what net/http/pprof has of this process at an address of its own, until it is stopped.
func profiles(ctx context.Context, at string, log *slog.Logger) (stop func(), err error) {
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", at)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index) // heap, goroutine, allocs, block, mutex as well
	mux.HandleFunc("/debug/pprof/cmdline", pprof.Cmdline)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	mux.HandleFunc("/debug/pprof/symbol", pprof.Symbol)
	mux.HandleFunc("/debug/pprof/trace", pprof.Trace)
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(listener) }()
	log.Info("profiles", "address", "http://"+listener.Addr().String()+"/debug/pprof/")
	return func() { _ = server.Close() }, nil
}
