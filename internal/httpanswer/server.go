package httpanswer

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"
)

// Serve answers on a listener until the context ends, then lets requests that
// have begun finish, for five seconds at most.
func Serve(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
		BaseContext:    func(net.Listener) context.Context { return context.WithoutCancel(ctx) },
	}

	stopped := make(chan error, 1)
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		err := server.Shutdown(grace)
		if errors.Is(err, context.DeadlineExceeded) {
			err = server.Close()
		}
		stopped <- err
	}()

	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return <-stopped
}
