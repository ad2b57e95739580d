package lab

// flow is what one load of a disk does, and how long its I/Os take at the places where they are timed.
type flow struct {
	reads, writes         float64    // 1/s
	readBytes, writeBytes float64    // per s
	read, write           float64    // s at the virtual disk
	host                  [2]float64 // s as the host's device sees it, reads and writes
	front                 [2]float64 // s at the array's port
	inside                [2]float64 // s inside the array
	missed                float64    // reads per second that go to the drives, or to what lies behind a virtualizer
	behind                [2]float64 // s at the back-end volume of a virtualizer, reads at the near leg and writes at the far one
}

// sums add up flows at a place. Times are sums over the I/Os of a second.
type sums struct{ reads, writes, readBytes, writeBytes, readTime, writeTime float64 }

func (s *sums) add(f *flow, time [2]float64) {
	s.reads += f.reads
	s.writes += f.writes
	s.readBytes += f.readBytes
	s.writeBytes += f.writeBytes
	s.readTime += float64(f.reads * time[0])
	s.writeTime += float64(f.writes * time[1])
}

// trace finds out of a solution what a load of a disk does and where its time goes.
func (l *Lab) trace(s *side, d *vdisk, k int) flow {
	t := &s.net.Tenants[d.tenant[k]]
	if t.Threads <= 0 || t.Rate <= 0 {
		return flow{}
	}
	v := d.volume
	visits, uses := s.net.Visits[t.From:t.To], s.net.Uses[t.UseFrom:t.UseTo]
	o := &l.offers[d.vm.at]
	w := s.fx.extra[d.at]
	if k == 0 {
		w = work{reads: o.reads / (o.reads + o.writes), readSize: o.readSize, writeSize: o.writeSize, miss: min(1, (1-v.hit)*o.miss)}
	}
	f := flow{reads: t.Rate * w.reads, writes: t.Rate * (1 - w.reads)}
	f.readBytes, f.writeBytes = f.reads*w.readSize, f.writes*w.writeSize
	f.missed = float64(f.reads * w.miss)
	wait := func(at int) float64 { return s.net.Stations[visits[at].Station].Wait }
	control := wait(atController) + visits[atController].Work
	if visits[atLimiter].Count > 0 {
		control += wait(atLimiter) + visits[atLimiter].Work
	}
	f.inside = [2]float64{control + cacheTime, control + 2*cacheTime}
	drives := wait(atPool) + visits[atPool].Work
	if len(v.legs) == 0 {
		f.inside[0] += float64(w.miss * drives)
		f.inside[1] += s.caches[v.owner.at].wait
		if !s.fx.writeBack[v.owner.at] {
			f.inside[1] += drives
		}
	} else {
		near, far := v.near()
		back, across := &s.net.Legs[uses[useBackRead].Leg], &s.net.Legs[uses[useBackFar].Leg]
		f.behind = [2]float64{wait(atNear) + visits[atNear].Work + cacheTime + float64(min(1, 1-near.hit)*drives),
			wait(atFar) + visits[atFar].Work + 2*cacheTime + s.caches[far.owner.at].wait}
		f.inside[0] += float64(w.miss * (back.Wait + float64(w.readSize*back.PerByte) + f.behind[0]))
		f.inside[1] += across.Wait + float64(w.writeSize*across.PerByte) + f.behind[1] + wait(atSite) + visits[atSite].Work + l.roundTrip + s.fx.roundTrip
	}
	f.front, f.host = f.inside, f.inside
	if len(uses) > 0 {
		ports := l.front(d.vm.host, v).ports
		for p := range ports {
			half := s.fx.weights[d.vm.host.at][p]
			f.front[0] += float64(half * (s.net.Stations[ports[p].sends].Wait + w.readSize/ports[p].speed))
			f.front[1] += float64(half * (s.net.Stations[ports[p].takes].Wait + w.writeSize/ports[p].speed))
		}
		read, write := &s.net.Legs[uses[useRead].Leg], &s.net.Legs[uses[useWrite].Leg]
		f.host[0] += read.Wait + float64(w.readSize*read.PerByte)
		f.host[1] += write.Wait + float64(w.writeSize*write.PerByte)
	} else {
		f.host[0] += networkRTT
		f.host[1] += networkRTT
	}
	queue := hostTime
	if t.Holder >= 0 {
		queue += s.net.Stations[t.Holder].Wait
	}
	f.host[0] += queue
	f.host[1] += queue
	f.read, f.write = f.host[0]+t.Before+t.Throttled, f.host[1]+t.Before+t.Throttled
	return f
}
