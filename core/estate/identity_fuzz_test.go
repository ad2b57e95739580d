package estate_test

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	. "dowsingrod/core/estate"
)

func stringReader(s string) io.Reader { return strings.NewReader(s) }

// Whatever is sent as an identifier, it is read or refused, and what was read reads as itself again.
func FuzzNormalize(f *testing.F) {
	schemes := []Scheme{WWN, NAA, EUI, NGUID, IQN, NQN, UUID, Export, Serial, LUN}
	for k, s := range []string{"50:06:01:60:3b:20:11:0a", "naa.6001405f00000000000000000000000e", "eui.0025385b71b0a1c2", "0025385B71B0A1C20025385B71B0A1C2", "iqn.2026-03.example:a", "nqn.2026-03.example:a",
		"6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07", "[fd00::1]:/drift", " AB12 ", "iqn.2026-03.example:a/7"} {
		f.Add(uint8(k), s)
	}
	f.Fuzz(func(t *testing.T, k uint8, s string) {
		scheme := schemes[int(k)%len(schemes)]
		id, err := Normalize(scheme, s)
		if err != nil {
			require.Contains(t, err.Error(), "expected")
			return
		}
		require.NotEmpty(t, id.Value)
		again, err := Normalize(id.Scheme, id.Display())
		require.NoError(t, err, "%q was read as %v, which cannot be read", s, id)
		require.Equal(t, id, again)
		upper, err := Normalize(scheme, strings.ToUpper(s))
		if err == nil && scheme != Export && isASCII(s) {
			require.Equal(t, id, upper, "case makes no other of it")
		}
	})
}

func isASCII(s string) bool { return strings.IndexFunc(s, func(r rune) bool { return r > 127 }) < 0 }
