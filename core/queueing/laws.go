// Package queueing holds the operational laws and the few service-centre models that the lab uses
// to make latency follow from load, and that remedies will use to predict it.
package queueing

import "math"

// Little returns the mean number in flight for a rate in 1/s and a time in s each
// (J. D. C. Little, "A proof for the queuing formula L = λW", 1961).
func Little(rate, seconds float64) float64 { return rate * seconds }

// Utilization returns the busy share of each of n servers for a rate in 1/s and a service time in s
// (Denning and Buzen, "The operational analysis of queueing network models", 1978). Not clamped.
func Utilization(rate, service float64, n int) float64 {
	if n <= 0 {
		return math.Inf(1)
	}
	return rate * service / float64(n)
}

// WaitMultiserver returns the mean wait in s in front of n servers of one queue, for a utilization
// below 1 and a service time in s. It is Sakasegawa's approximation of M/M/n (1977), scaled by the
// mean of the squared coefficients of variation of arrivals and service (Allen and Cunneen):
//
//	W = (ca² + cs²)/2 · ρ^(√(2(n+1)) − 1) / (n (1 − ρ)) · S
//
// A utilization of 1 or more gives +Inf, n below 1 gives +Inf.
func WaitMultiserver(utilization, service float64, n int, variation float64) float64 {
	switch {
	case n < 1 || utilization >= 1:
		return math.Inf(1)
	case utilization <= 0:
		return 0
	}
	power := math.Sqrt(2*float64(n+1)) - 1
	return variation * math.Pow(utilization, power) / (float64(n) * (1 - utilization)) * service
}

// ClosedRate returns the throughput in 1/s of a tenant that keeps at most inflight I/Os and thinks
// for think seconds after each, by the interactive response time law X = N / (R + Z)
// (Lazowska et al., "Quantitative System Performance", 1984, ch. 3).
func ClosedRate(inflight, response, think float64) float64 {
	if response+think <= 0 {
		return math.Inf(1)
	}
	return inflight / (response + think)
}
