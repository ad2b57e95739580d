package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func tally(t *testing.T, in string, args ...string) (string, error) {
	cmd := exec.Command("go", append([]string{"run", "."}, args...)...)
	cmd.Stdin = strings.NewReader(in)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

const good = `{"Action":"pass","Package":"p","Test":"A"}
{"Action":"skip","Package":"p","Test":"B"}
{"Action":"pass","Package":"p","Elapsed":1.5}
`

func TestCounts(t *testing.T) {
	report := filepath.Join(t.TempDir(), "vitest.json")
	require.NoError(t, os.WriteFile(report, []byte(`{"numPassedTests":40,"numFailedTests":0,"numPendingTests":1}`), 0o600))
	out, err := tally(t, good, "-vitest", report)
	require.NoError(t, err, out)
	assert.True(t, strings.HasSuffix(out, "\n41 passed, 0 failed, 2 skipped\n"), out)
}

func TestFailuresAreShownAndFail(t *testing.T) {
	for name, in := range map[string]string{
		"a test":      good + `{"Action":"output","Package":"p","Test":"C","Output":"what was wrong\n"}` + "\n" + `{"Action":"fail","Package":"p","Test":"C"}` + "\n",
		"a package":   good + `{"Action":"output","Package":"q","Output":"what was wrong\n"}` + "\n" + `{"Action":"fail","Package":"q"}` + "\n",
		"no test":     "",
		"not a build": "what was wrong\n" + `{"Action":"build-fail","Package":"p"}` + "\n" + good,
	} {
		t.Run(name, func(t *testing.T) {
			out, err := tally(t, in)
			require.Error(t, err)
			if in != "" {
				assert.Contains(t, out, "what was wrong")
			}
			assert.Contains(t, out, " passed, ")
		})
	}
	out, err := tally(t, good, "-vitest", "nowhere.json")
	require.Error(t, err)
	assert.Contains(t, out, "cannot be read")
}
