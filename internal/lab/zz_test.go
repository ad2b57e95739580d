package lab

import (
	"dowsingrod/internal/feed"
	"encoding/json"
	"fmt"
	"os"
	"runtime/pprof"
	"testing"
	"time"
)

func TestLook(t *testing.T) {
	to := time.Date(2026, 3, 2, 16, 20, 0, 0, time.UTC)
	for _, k := range Kinds() {
		b := time.Now()
		f, err := Grow(Options{VMs: 200, Seed: 5, From: to.Add(-2 * time.Hour), To: to, Fault: k.Name})
		if err != nil {
			fmt.Println(k.Name, err)
			continue
		}
		n := 0
		if err := f.Write(func(_ string, r feed.Record) error {
			if r.Reading != nil {
				for _, v := range r.Reading.Values {
					n += len(v)
				}
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		tr := f.Truth()
		c := 0
		for k := range tr.Causes {
			if len(tr.Causes[k].Sufferers) > 3 {
				c = len(tr.Causes[k].Sufferers)
				tr.Causes[k].Sufferers = tr.Causes[k].Sufferers[:3]
			}
		}
		j, _ := json.Marshal(tr.Causes)
		fmt.Println(k.Name, time.Since(b), n, c, string(j))
	}
}
func TestWeek(t *testing.T) {
	if os.Getenv("WEEK") == "" {
		t.Skip()
	}
	to := time.Date(2026, 3, 2, 16, 20, 0, 0, time.UTC)
	o, _ := os.Create("/tmp/week.prof")
	pprof.StartCPUProfile(o)
	defer pprof.StopCPUProfile()
	b := time.Now()
	f, err := Grow(Options{VMs: 1000, Seed: 5, From: to.Add(-12 * time.Hour), To: to, Fault: "quiet"})
	fmt.Println(time.Since(b))
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	f.Write(func(_ string, r feed.Record) error {
		if r.Reading != nil {
			for _, v := range r.Reading.Values {
				n += len(v)
			}
		}
		return nil
	})
	fmt.Println(time.Since(b), n)
}
