package vault_test

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/internal/vault"
)

func TestWhatIsSealedOpensForItsPurposeAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "key")
	v, err := Open(path)
	require.NoError(t, err)
	sealed, err := v.Seal([]byte("tidal"), "source a")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "tidal")
	again, err := Open(path) // as after a restart
	require.NoError(t, err)
	text, err := again.Unseal(sealed, "source a")
	require.NoError(t, err)
	assert.Equal(t, "tidal", string(text))
	_, err = v.Unseal(sealed, "source b")
	assert.ErrorIs(t, err, ErrKey, "a secret moved to another row is refused")
	for i := range sealed {
		bad := append([]byte(nil), sealed...)
		bad[i] ^= 1
		_, err = v.Unseal(bad, "source a")
		require.ErrorIs(t, err, ErrKey)
	}
	_, err = v.Unseal(nil, "source a")
	require.ErrorIs(t, err, ErrKey)
	twice, err := v.Seal([]byte("tidal"), "source a")
	require.NoError(t, err)
	assert.NotEqual(t, sealed, twice)
}

func TestAKeyOthersCanReadIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	_, err := Open(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoError(t, os.Chmod(path, 0o640))
	_, err = Open(path)
	assert.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, os.WriteFile(path, []byte("not a key\n"), 0o600))
	_, err = Open(path)
	assert.ErrorContains(t, err, "does not hold a key")
}

func TestTwoThatStartAtOnceHaveOneKey(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	vaults := make([]*Vault, 8)
	var all sync.WaitGroup
	for i := range vaults {
		all.Go(func() {
			v, err := Open(path)
			assert.NoError(t, err)
			vaults[i] = v
		})
	}
	all.Wait()
	sealed, err := vaults[0].Seal([]byte("x"), "p")
	require.NoError(t, err)
	for _, v := range vaults {
		_, err := v.Unseal(sealed, "p")
		assert.NoError(t, err)
	}
}
