package estate

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPairReadsTwoFactsAsTextDoes(t *testing.T) {
	for _, s := range []Sheet{"", "{}", `{"tier":"1"}`, `{"application":"a","tier":2}`, `{"x":{"tier":"no"},"tier":"1","application":"b\"c","y":1}`, `{"tier":`, `[1]`} {
		tier, application := s.Pair("tier", "application")
		assert.Equal(t, [2]string{s.Text("tier"), s.Text("application")}, [2]string{tier, application}, string(s))
	}
}
