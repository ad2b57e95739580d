package main

import (
	"context"
	"net/http/httptest"
	"time"

	"log/slog"

	"dowsingrod/console"
	"dowsingrod/internal/api"
	"dowsingrod/internal/browser"
)

// pages times how long each page takes from navigation until its content stands there, in a browser
// that has the script already.
func (p *place) pages(ctx context.Context) error {
	server := httptest.NewServer(api.New(api.Config{Service: p.svc, Console: console.Files(), Log: slog.New(slog.DiscardHandler)}))
	defer server.Close()
	page, end, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	code, err := p.svc.Link(ctx, "measure")
	if err != nil {
		return err
	}
	if err := page.Go(server.URL + "/sign-in#" + code); err != nil {
		return err
	}
	if err := page.Until(`document.querySelectorAll('main a').length > 10`); err != nil {
		return err
	}
	for _, q := range []struct{ name, path, there string }{
		{"start", "/", `document.querySelectorAll('main a').length > 10`},
		{"section", "/section?of=vm:manifest-db-02", `document.querySelectorAll('[data-testid=section] li').length > 8 && document.querySelectorAll('[data-testid^=strata] path').length > 4`},
		{"strata", "/strata?of=vm:manifest-db-02", `document.querySelectorAll('[data-testid^=strata] path').length > 10`},
		{"suspects", "/suspects?of=pool:p2@heron", `document.querySelectorAll('[data-testid=suspects] svg').length > 10`},
	} {
		worst := time.Duration(0)
		for range 5 {
			began := time.Now()
			if err := page.Go(server.URL + q.path); err != nil {
				return err
			}
			if err := page.Until(q.there); err != nil {
				return err
			}
			worst = max(worst, time.Since(began))
		}
		bench("page."+q.name+".worst_of_5", worst.Seconds()*1e3, "ms")
	}
	return nil
}
