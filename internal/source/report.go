package source

import (
	"crypto/x509"
	"time"

	"dowsingrod/internal/feed"
)

// Outcome of a step.
type Outcome string

// Outcomes. A step that was passed with something to know is Noted; one that does not apply is NotNeeded; one that
// comes after a failure is NotTried.
const (
	Passed    Outcome = "passed"
	Noted     Outcome = "noted"
	Failed    Outcome = "failed"
	NotNeeded Outcome = "not needed"
	NotTried  Outcome = "not tried"
)

// Step of a probe.
type Step struct {
	Name    string  `json:"name" doc:"What is tried"`
	Outcome Outcome `json:"outcome" doc:"How it went" enum:"passed,noted,failed,not needed,not tried"`
	Found   string  `json:"found" doc:"What was found"`
	Try     string  `json:"try,omitempty" doc:"What to do where it failed"`
	Took    float64 `json:"took_s" doc:"Time it took in s"`
}

// Names of the steps every probe has, in order.
const (
	StepAddress     = "address"
	StepReachable   = "reachable"
	StepCertificate = "certificate"
	StepSignedIn    = "signed in"
	StepPermissions = "permissions"
	StepRecognised  = "recognised"
	StepClock       = "clock"
)

var stepOrder = []string{StepAddress, StepReachable, StepCertificate, StepSignedIn, StepPermissions, StepRecognised, StepClock}

// Certificate describes what a server showed.
type Certificate struct {
	SHA256  string    `json:"sha256" doc:"Fingerprint, hexadecimal"`
	Subject string    `json:"subject" doc:"Whom it names"`
	Issuer  string    `json:"issuer" doc:"Who signed it"`
	From    time.Time `json:"from" doc:"Valid from"`
	To      time.Time `json:"to" doc:"Valid to"`
}

// Describe reads what is shown of a certificate.
func Describe(c *x509.Certificate) *Certificate {
	return &Certificate{SHA256: fingerprint(c.Raw), Subject: c.Subject.String(), Issuer: c.Issuer.String(), From: c.NotBefore, To: c.NotAfter}
}

// Report is what a probe found.
type Report struct {
	Steps []Step
	// Certificate that the server showed, nil where it showed none.
	Certificate *Certificate
	// Objects recognised, to see what they would join; nil where it did not come so far.
	Objects []feed.Object
	// Calls is how the other end calls itself, with its version.
	Calls string
	// ClockAhead is by how much its clock is ahead of ours; nil where that cannot be told.
	ClockAhead *time.Duration

	began time.Time
}

// OK reports whether no step failed and all were reached.
func (r Report) OK() bool {
	for _, s := range r.Steps {
		if s.Outcome == Failed {
			return false
		}
	}
	return len(r.Steps) == len(stepOrder)
}

func (r *Report) add(name string, o Outcome, found, try string) {
	now := time.Now()
	took := 0.0
	if !r.began.IsZero() {
		took = now.Sub(r.began).Seconds()
	}
	r.began = now
	r.Steps = append(r.Steps, Step{name, o, found, try, took})
}

// Begin starts the clock of the first step.
func (r *Report) Begin() { r.began = time.Now() }

// Pass ends a step well.
func (r *Report) Pass(name, found string) { r.add(name, Passed, found, "") }

// Note ends a step with something to know.
func (r *Report) Note(name, found, try string) { r.add(name, Noted, found, try) }

// Skip leaves out a step that does not apply, and says why.
func (r *Report) Skip(name, why string) { r.add(name, NotNeeded, why, "") }

// Fail ends a step badly, and lists the ones after it as not tried.
func (r *Report) Fail(name string, err error) {
	what, try := err.Error(), ""
	if t, ok := err.(*Trouble); ok {
		what, try = t.What, t.Try
	}
	r.add(name, Failed, what, try)
	rest := false
	for _, s := range stepOrder {
		if rest {
			r.add(s, NotTried, "the step before it failed", "")
		}
		rest = rest || s == name
	}
}
