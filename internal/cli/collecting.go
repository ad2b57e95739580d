package cli

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"

	"dowsingrod/internal/collect"
	"dowsingrod/internal/service"
	"dowsingrod/internal/source/sources"
	"dowsingrod/internal/vault"
)

// keyFile is where the key lies that the secrets of sources are encrypted with, unless it is told.
func keyFile() (string, error) {
	if os.Geteuid() == 0 {
		return "/var/lib/dowse/key", nil
	}
	if dir := os.Getenv("XDG_STATE_HOME"); dir != "" {
		return filepath.Join(dir, "dowse", "key"), nil
	}
	home, err := os.UserHomeDir()
	return filepath.Join(home, ".local", "state", "dowse", "key"), err
}

// startCollecting lets the service collect from its sources until the function returned is called.
func startCollecting(ctx context.Context, svc *service.Service, key string, log *slog.Logger) (stop func(), err error) {
	if key == "" {
		if key, err = keyFile(); err != nil {
			return nil, err
		}
	}
	v, err := vault.Open(key)
	if err != nil {
		return nil, err
	}
	c := collect.New(svc.Sink(), collect.Options{Open: sources.Open, Log: log})
	svc.Collect(service.Collecting{Vault: v, Open: sources.Open, Changed: c.Refresh})
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.Run(ctx)
	}()
	return func() {
		cancel()
		<-done
	}, nil
}

// startWatching lets the service look for incidents, and learn what is usual, until the function returned is called.
func startWatching(ctx context.Context, svc *service.Service, log *slog.Logger) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		svc.Watch(ctx, log)
	}()
	learned := make(chan struct{})
	go func() {
		defer close(learned)
		svc.Learn(ctx, log)
	}()
	return func() {
		cancel()
		<-done
		<-learned
	}
}
