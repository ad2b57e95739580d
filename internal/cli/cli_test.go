package cli_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

var binary string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "dowse-cli-*")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "dowse")
	if out, err := exec.Command("go", "build", "-o", binary, "dowsingrod/cmd/dowse").CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := testbed.Run(m)
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// terminal runs the command line as a process of its own.
type terminal struct {
	t    *testing.T
	home string
	env  []string
}

func open(t *testing.T, env ...string) terminal {
	home, err := os.MkdirTemp("", "dowse-home-*") // not t.TempDir: a database in it runs as another user
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(home) })
	require.NoError(t, os.Chmod(home, 0o755))
	return terminal{t, home, append([]string{"HOME=" + home, "XDG_CONFIG_HOME=" + filepath.Join(home, "config"), "PATH=" + os.Getenv("PATH"), "TZ=UTC"}, env...)}
}

func (c terminal) command(args ...string) *exec.Cmd {
	cmd := exec.Command(binary, args...)
	cmd.Env, cmd.Dir = c.env, c.home
	return cmd
}

func (c terminal) run(args ...string) (out, complaint string, status int) {
	c.t.Helper()
	cmd := c.command(args...)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	if err != nil {
		var exit *exec.ExitError
		require.ErrorAs(c.t, err, &exit)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

func demo(t *testing.T) terminal {
	d := testbed.LoadDemo(t)
	base := testbed.Serve(t, d.Service, nil)
	_, token := testbed.Token(t, d.Service, service.Operator)
	return open(t, "DOWSE_ADDRESS="+base, "DOWSE_TOKEN="+token)
}

func TestTheMapGoesToOtherPrograms(t *testing.T) {
	c := demo(t)
	out, _, status := c.run("map", "manifest-db-02")
	require.Zero(t, status)
	assert.True(t, strings.HasPrefix(out, "digraph estate {"), out[:40])
	_, said, status := c.run("map", "pool:p2@heron", "--reach", "-o", "pool.graphml")
	require.Zero(t, status)
	assert.Contains(t, said, "written to pool.graphml")
	text, err := os.ReadFile(filepath.Join(c.home, "pool.graphml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "<graphml")
	_, complaint, status := c.run("map", "manifest-db-02", "--as", "png")
	assert.Equal(t, 2, status)
	assert.Contains(t, complaint, "dot, graphml or json")

	csv, _, status := c.run("inventory", "vm", "--csv", "--limit", "0")
	require.Zero(t, status)
	assert.Equal(t, 121, strings.Count(csv, "\n"))
	assert.True(t, strings.HasPrefix(csv, "ref,name,tier,"), csv[:40])
	for args, says := range map[string]string{"inventory vm --where tier": "not a condition", "inventory cow": "no kind", "inventory vm --sort height": "to sort by", "route manifest-db-02 --at -1h --from -2h": "one or the other"} {
		_, complaint, status := c.run(strings.Fields(args)...)
		assert.NotZero(t, status, args)
		assert.Contains(t, complaint, says)
	}
}

func TestAnEstateOfAnySize(t *testing.T) {
	c := demo(t)
	for _, name := range []string{"a.ndjson", "a.ndjson.zst", "a.ndjson.gz"} {
		_, said, status := c.run("lab", "estate", "--vms", "40", "--seed", "7", "--time", "2026-03-02T09:00:00Z", "-o", name)
		require.Zero(t, status, said)
		assert.Contains(t, said, "dowse import "+name)
	}
	one, _, _ := c.run("lab", "estate", "--vms", "40", "--seed", "7", "--time", "2026-03-02T09:00:00Z")
	text, err := os.ReadFile(filepath.Join(c.home, "a.ndjson"))
	require.NoError(t, err)
	assert.Equal(t, one, string(text), "the same bytes, wherever they go")
	for args, says := range map[string]string{"lab estate --vms 0": "--vms is from 1", "lab estate --changed 2": "from 0 to 1", "lab estate --time later": "not a time", "lab estate x": "too much", "lab estate -o nowhere/x": "cannot be written"} {
		_, complaint, status := c.run(strings.Fields(args)...)
		assert.NotZero(t, status, args)
		assert.Contains(t, complaint, says)
	}
}

func TestAnswersFitTheirLines(t *testing.T) {
	c := demo(t)
	for _, q := range []struct {
		args  []string
		holds []string
	}{
		{[]string{"find", "manifest-db-0"}, []string{"manifest-db-02", "virtual machine"}},
		{[]string{"show", "pool:p2@heron"}, []string{"failing", "25 VMs depend on it", "busy_share"}},
		{[]string{"show", "manifest-db-02"}, []string{"tier", "uses"}},
		{[]string{"show", "berth-plan-05"}, []string{"wholly mirrored on heron petrel-leg-", "at Northmole and gannet petrel-leg-"}},
		{[]string{"show", "volume:v7@heron"}, []string{"datastore ds-dulse-03", "naa.600d05e"}},
		{[]string{"show", "target_port:c0-p0@heron"}, []string{"at skerry-a2 port 02, index 2"}},
		{[]string{"find", "vol-0145", "--at", "-5h"}, []string{"volume"}},
		{[]string{"route", "manifest-db-02"}, []string{"heron 0A", "standby", "skerry-a1", "ISL"}},
		{[]string{"reach", "pool:p2@heron"}, []string{"heron pool 2 carries", "would stop", "of tier 1", "100 %"}},
		{[]string{"reach", "skerry-a1"}, []string{"would lose a path"}},
		{[]string{"route", "stretched-2", "--from", "-10h"}, []string{"is lost: it lives on the other alone", "--all prints each topology"}},
		{[]string{"route", "tide-model-01", "--from", "-1h"}, []string{"did not change within the window"}},
		{[]string{"changes", "--from", "-12h"}, []string{"8 changes in the estate", "migrated from lighthouse-07 to lighthouse-02", "the path went from dead to active"}},
		{[]string{"changes", "crew-roster-03", "--from", "-12h"}, []string{"on the routes of crew-roster-03"}},
		{[]string{"unresolved"}, []string{"source missing", "ds-tangle-01", "naa.600c0ff"}},
		{[]string{"inventory", "vm", "--where", "tier=1", "--where", "host=lighthouse-02", "--sort", "-name"}, []string{"berth-plan-14", "northmole cluster"}},
		{[]string{"inventory", "volume", "--find", "stretched"}, []string{"stretched-3", "3 volumes of 26"}},
		{[]string{"inventory", "pool", "--where", "vms>1000"}, []string{"None of"}},
		{[]string{"hardware", "gannet"}, []string{"fan 2.1", "failing: its source says it is failed", "24 drives of which nothing is to be said"}},
		{[]string{"why", "manifest-db-02"}, []string{"is affected by heron pool 2", "steady by its own readings"}},
		{[]string{"strata", "manifest-db-02"}, []string{"arises in heron pool 2", "back end", "covered"}},
		{[]string{"strata", "berth-plan-01"}, []string{"The storage is", "not the cause"}},
		{[]string{"suspects", "pool:p2@heron"}, []string{"sonar-tiles-05 did it", "Confidence", "radar-replay-02"}},
		{[]string{"source", "list"}, []string{"hyp-northmole", "1 finding"}},
	} {
		t.Run(strings.Join(q.args, " "), func(t *testing.T) {
			out, complaint, status := c.run(q.args...)
			require.Zero(t, status, complaint)
			flat := strings.Join(strings.Fields(out), " ")
			for _, h := range q.holds {
				assert.Contains(t, flat, h)
			}
			for _, line := range strings.Split(out, "\n") {
				assert.LessOrEqual(t, utf8.RuneCountInString(line), 100, line)
				assert.Equal(t, strings.TrimRight(line, " "), line)
			}
			assert.NotContains(t, out, "\x1b", "no colours into a pipe")
			text, complaint, status := c.run(append([]string{"--json"}, q.args...)...)
			require.Zero(t, status, complaint)
			assert.True(t, json.Valid([]byte(text)), "--json")
		})
	}
	colored, _, _ := c.run("--color", "always", "strata", "manifest-db-02")
	assert.Contains(t, colored, "\x1b[38;5;")
}

func TestMistakesHaveTheirStatus(t *testing.T) {
	c := demo(t)
	for _, q := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"show", "vm:nobody"}, 3, "nothing here is called"},
		{[]string{"find", "no such thing"}, 3, "nothing is called"},
		{[]string{"show", "pool 1"}, 3, "pool:p1@gannet"},
		{[]string{"strata", "manifest-db-02", "--from", "-1h", "--to", "-2h"}, 2, "reversed"},
		{[]string{"strata", "manifest-db-02", "--from", "yesterday"}, 2, "is not a time"},
		{[]string{"strata", "manifest-db-02", "--at", "-1h", "--to", "now"}, 2, "--at"},
		{[]string{"strata"}, 2, "missing"},
		{[]string{"strata", "a", "b"}, 2, "too many"},
		{[]string{"find", "x", "--kind", "cow"}, 2, "no kind"},
		{[]string{"strata", "--no-such-flag", "x"}, 2, "no-such-flag"},
		{[]string{"frobnicate"}, 2, "no command"},
		{[]string{"--color", "sometimes", "source", "list"}, 2, "auto, always or never"},
		{[]string{"strata", "manifest-db-02", "--from", "-40h", "--to", "-38h"}, 3, "no readings in this window"},
		{[]string{"suspects", "pool:p2@heron", "--from", "-40h", "--to", "-38h"}, 3, "no readings in this window"},
		{[]string{"--json", "strata", "manifest-db-02", "--from", "-40h", "--to", "-38h"}, 3, "no readings in this window"},
		{[]string{"import", "nowhere.ndjson"}, 1, "no such file"},
		{[]string{"import", "."}, 1, "is a directory"},
		{[]string{"account", "list"}, 1, "needs the role admin"},
		{[]string{"--token", "wrong", "source", "list"}, 1, "sign in"},
		{[]string{"--address", "http://127.0.0.1:1", "source", "list"}, 4, "no service answers"},
		{[]string{"serve", "--database", "postgres://x@127.0.0.1:1/x"}, 1, "does not answer"},
	} {
		t.Run(strings.Join(q.args, " "), func(t *testing.T) {
			out, complaint, status := c.run(q.args...)
			assert.Equal(t, q.status, status, complaint)
			assert.Contains(t, complaint, q.says)
			assert.NotContains(t, complaint+out, "goroutine")
		})
	}
}

const feedHead = `{"feed":{"version":1,"source":"own","time":"2026-03-02T09:00:00Z","full":true}}` + "\n"

func TestImport(t *testing.T) {
	svc := service.New(testbed.Store(t), time.Now)
	base := testbed.Serve(t, svc, nil)
	_, token := testbed.Token(t, svc, service.Operator)
	c := open(t, "DOWSE_ADDRESS="+base, "DOWSE_TOKEN="+token)
	path := filepath.Join(c.home, "estate.ndjson")
	good := feedHead + `{"object":{"kind":"vm","id":"a","name":"own-vm"}}` + "\n"
	bad := good + "{\"cow\":{}}\n" + `{"object":{"kind":"vm","id":"b","name":"other-vm"}}` + "\n"
	require.NoError(t, os.WriteFile(path, []byte(bad), 0o600))
	_, complaint, status := c.run("import", path)
	assert.Equal(t, 1, status)
	assert.Contains(t, complaint, `line 3: unknown record "cow"`)
	assert.Contains(t, complaint, "--skip-bad")
	_, _, status = c.run("find", "own-vm")
	assert.Equal(t, 3, status, "nothing is half stored")

	out, complaint, status := c.run("import", "--skip-bad", path)
	require.Zero(t, status, complaint)
	assert.Contains(t, out, "2 objects")
	rejected, err := os.ReadFile(filepath.Join(c.home, "estate.rejected.ndjson"))
	require.NoError(t, err)
	assert.Equal(t, "{\"cow\":{}}\n", string(rejected))
	out, _, status = c.run("find", "other-vm")
	assert.Zero(t, status)
	assert.Contains(t, out, "other-vm")

	spread := feedHead + `{"object":{"kind":"volume","id":"v","name":"own-volume"}}` + "\n" +
		fmt.Sprintf(`{"histogram":{"of":"volume:v","metric":"read_latency_us","bounds":[250,500,2000],"from":%q,"step_s":60,"counts":[[3000,2000,1050,20],[15,5,8,2]]}}`, time.Now().Add(-10*time.Minute).UTC().Format(time.RFC3339)) + "\n"
	require.NoError(t, os.WriteFile(path, []byte(spread), 0o600))
	_, complaint, status = c.run("import", path)
	require.Zero(t, status, complaint)
	out, _, _ = c.run("show", "own-volume")
	assert.Contains(t, out, "of 6,100 all but 22.0 were under 2.00 ms")

	cmd := c.command("import", "-")
	cmd.Stdin = strings.NewReader(good)
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, string(text))
}

func TestSignInKeepsATokenForItsOwnerAlone(t *testing.T) {
	svc := service.New(testbed.Store(t), time.Now)
	require.NoError(t, svc.AddAccount(t.Context(), "keeper", service.Admin, "lighthouse keeper"))
	c := open(t)
	base := testbed.Serve(t, svc, nil)
	sign := func(password string) (string, error) {
		cmd := c.command("--address", base, "sign-in", "keeper")
		cmd.Stdin = strings.NewReader(password + "\n")
		text, err := cmd.CombinedOutput()
		return string(text), err
	}
	text, err := sign("wrong password")
	require.Error(t, err)
	assert.Contains(t, text, "wrong")
	text, err = sign("lighthouse keeper")
	require.NoError(t, err, text)
	info, err := os.Stat(filepath.Join(c.home, "config", "dowse", "config.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	out, _, status := c.run("account", "list")
	assert.Zero(t, status)
	assert.Contains(t, out, "keeper")
	out, _, status = c.run("account", "add", "second", "--role", "viewer")
	assert.Zero(t, status)
	assert.Contains(t, out, "/sign-in#")
	token, _, status := c.run("token", "add", "script")
	assert.Zero(t, status)
	assert.True(t, strings.HasPrefix(token, "dowse_"))
	made, _, status := c.run("--json", "token", "add", "another")
	assert.Zero(t, status)
	assert.True(t, json.Valid([]byte(made)))
	out, _, _ = c.run("token", "list")
	assert.Contains(t, out, "script")
	assert.NotContains(t, out, strings.TrimSpace(token))
	_, _, status = c.run("account", "remove", "second")
	assert.Zero(t, status)
	_, complaint, status := c.run("account", "remove", "keeper")
	assert.Equal(t, 1, status)
	assert.Contains(t, complaint, "last admin")
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
}

// started runs a demo until it is ready, and returns what it printed so far.
func started(t *testing.T, c terminal, port string) (*exec.Cmd, string, *bytes.Buffer) {
	cmd := c.command("demo", "--port", port, "--state", filepath.Join(c.home, "state"))
	read, err := cmd.StdoutPipe()
	require.NoError(t, err)
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	var said strings.Builder
	lines := bufio.NewScanner(read)
	for lines.Scan() {
		said.WriteString(lines.Text() + "\n")
		if strings.Contains(lines.Text(), "Ctrl-C ends it") {
			rest := &bytes.Buffer{}
			go func() { _, _ = io.Copy(rest, read) }()
			return cmd, said.String(), rest
		}
	}
	t.Fatalf("the demo ended before it was ready: %s\n%s", said.String(), complaint.String())
	return nil, "", nil
}

func stopped(t *testing.T, cmd *exec.Cmd, state string) {
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait())
	pids, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, p := range pids {
		if text, err := os.ReadFile(p); err == nil {
			assert.NotContains(t, string(text), state, "it left something running")
		}
	}
}

func TestDemoFromStartToEnd(t *testing.T) {
	c := open(t)
	port := freePort(t)
	state := filepath.Join(c.home, "state")
	cmd, said, _ := started(t, c, port)
	link := regexp.MustCompile(`http://127\.0\.0\.1:` + port + `/sign-in#(\S+)`).FindStringSubmatch(said)
	require.Len(t, link, 2, said)
	assert.Contains(t, said, "bringing in Tidewrack Ferries")
	out, complaint, status := c.run("suspects", "pool:p2@heron")
	require.Zero(t, status, complaint)
	assert.Contains(t, out, "sonar-tiles-05 did it", "the command line just works")
	resp, err := http.Post("http://127.0.0.1:"+port+"/api/v1/session/link", "application/json", strings.NewReader(`{"code":"`+link[1]+`"}`))
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)

	_, complaint, status = c.run("demo", "--port", port, "--state", filepath.Join(c.home, "other"))
	assert.Equal(t, 1, status)
	assert.Contains(t, complaint, "PORT=")
	_, complaint, status = c.run("demo", "--port", freePort(t), "--state", state)
	assert.Equal(t, 1, status)
	assert.Contains(t, complaint, "another demo runs")
	stopped(t, cmd, state)
	_, _, status = c.run("source", "list")
	assert.Equal(t, 4, status)

	cmd, said, _ = started(t, c, port)
	assert.Contains(t, said, "the data is there")
	stopped(t, cmd, state)
}

func TestServeOnADatabaseOfOnesOwn(t *testing.T) {
	c := open(t)
	port := freePort(t)
	cmd := c.command("serve", "--database", testbed.Database(t), "--listen", "127.0.0.1:"+port)
	read, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	lines := bufio.NewScanner(read)
	linked := false
	for !linked && lines.Scan() {
		linked = strings.Contains(lines.Text(), "/sign-in#")
	}
	require.True(t, linked, "the first start gives a way in")
	resp, err := http.Get("http://127.0.0.1:" + port + "/readyz")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, cmd.Wait())
}

func TestTheDemoEstateAsAFeed(t *testing.T) {
	c := open(t)
	_, complaint, status := c.run("demo", "--write", "demo.ndjson.zst")
	require.Zero(t, status, complaint)
	svc := service.New(testbed.Store(t), time.Now)
	base := testbed.Serve(t, svc, nil)
	_, token := testbed.Token(t, svc, service.Operator)
	c.env = append(c.env, "DOWSE_ADDRESS="+base, "DOWSE_TOKEN="+token)
	out, complaint, status := c.run("import", "demo.ndjson.zst")
	require.Zero(t, status, complaint)
	assert.Contains(t, out, "1456 objects")
	out, _, status = c.run("suspects", "pool:p2@heron")
	require.Zero(t, status)
	assert.Contains(t, out, "sonar-tiles-05 did it")
}
