package main

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/incident"
)

// detection times the watching of 140,000 disks, those of 100,000 machines: a minute's cells, and what hurts then.
func detection() {
	const disks = 140_000
	keys := make([]estate.Key, disks)
	for k := range keys {
		keys[k] = estate.Key{Source: "hyp", Ref: estate.Ref{Kind: estate.VDisk, ID: fmt.Sprint("d-", k)}}
	}
	r := rand.New(rand.NewPCG(1, 2))
	begin := heap()
	d := incident.NewDetector(time.Minute)
	var times []float64
	for minute := range 40 {
		began := time.Now()
		for k, key := range keys {
			us := 1000 + 200*r.Float64()
			if minute > 30 && k%1000 == 0 {
				us *= 6
			}
			d.Observe(key, labNoon.Add(time.Duration(minute)*time.Minute), incident.Sample{Rate: [2]float64{80, 40}, Time: [2]float64{us, us / 2}})
		}
		hurts := d.Hurts()
		times = append(times, time.Since(began).Seconds())
		if minute == 39 && len(hurts) != disks/1000 {
			panic(fmt.Sprint("disks that hurt: ", len(hurts)))
		}
	}
	slices.Sort(times)
	bench("incidents.minute_140k_disks.time", times[len(times)-1], "s")
	bench("incidents.minute_140k_disks.memory", (heap()-begin)/1e6, "MB")
	runtime.KeepAlive(d)
}

// heap returns the bytes in use after collecting.
func heap() float64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc)
}
