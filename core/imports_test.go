package core_test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The core is the job itself: nothing in it may reach for a file, a socket, a framework or the service.
func TestCoreImportsOnlyStandardLibraryGonumAndItself(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-json=ImportPath,Standard", "./...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(out)))
	own := 0
	for {
		var p struct {
			ImportPath string
			Standard   bool
		}
		err := dec.Decode(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		switch {
		case strings.HasPrefix(p.ImportPath, "dowsingrod/core"):
			own++
		case p.Standard, strings.HasPrefix(p.ImportPath, "gonum.org/"):
		default:
			t.Errorf("core depends on %s", p.ImportPath)
		}
	}
	require.Greater(t, own, 7)
	direct, err := exec.Command("go", "list", "-f", `{{join .Imports "\n"}}`, "./...").Output()
	require.NoError(t, err)
	for _, banned := range []string{"os", "net", "net/http", "database/sql", "log", "log/slog", "os/exec"} {
		require.NotContains(t, strings.Split(string(direct), "\n"), banned, "core does no I/O")
	}
}
