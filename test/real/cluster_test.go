//go:build real

package real

import (
	"bufio"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var clusterRuns = flag.Int("cluster-runs", 1, "how often apply and undo run against each rate of competing edits")

// node is one server of a cluster.
type node struct {
	*bench
	flags []string
	as    *syscall.SysProcAttr
	quit  func()
}

// clusterOf starts two nodes that replicate to each other.
func clusterOf(t *testing.T) (first, second *node) {
	const provider = "/usr/lib/galera/libgalera_smm.so"
	require.FileExists(t, provider, "Debian's galera-4")
	group := [2]string{freePort(t), freePort(t)}
	start := func(i int, more ...string) *node {
		b := newBench(t)
		sqlPort := freePort(t)
		place := filepath.Join(b.dir, "node")
		require.NoError(t, os.Mkdir(place, 0o755))
		b.socket = filepath.Join(place, "db.sock")
		data, tmp := filepath.Join(place, "data"), filepath.Join(place, "tmp")
		require.NoError(t, os.Mkdir(tmp, 0o755)) // of its own: a server that starts elsewhere empties the common one
		empty, err := emptyMaria()
		require.NoError(t, err)
		b.run(b.dir, "cp", "-r", empty, data)
		n := &node{bench: b}
		if os.Getuid() == 0 { // what copies the data between nodes does not work as root
			n.as = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
			b.run(b.dir, "chown", "-R", "65534:65534", place)
			for d := b.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
				require.NoError(t, os.Chmod(d, 0o755))
			}
		}
		n.flags = append([]string{"--no-defaults", "--datadir=" + data, "--socket=" + b.socket, "--port=" + sqlPort, "--bind-address=127.0.0.1",
			"--pid-file=" + filepath.Join(place, "db.pid"), "--tmpdir=" + tmp, "--innodb-buffer-pool-size=32M", "--binlog-format=ROW", "--innodb-autoinc-lock-mode=2",
			"--wsrep-on=ON", "--wsrep-provider=" + provider, "--wsrep-cluster-name=museum", "--wsrep-cluster-address=gcomm://127.0.0.1:" + group[0] + ",127.0.0.1:" + group[1],
			"--wsrep-node-address=127.0.0.1", "--wsrep-node-incoming-address=127.0.0.1:" + sqlPort, "--wsrep-sst-method=rsync", "--wsrep-sst-receive-address=127.0.0.1:" + freePort(t),
			"--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:" + group[i] + ";base_port=" + group[i] + ";ist.recv_addr=127.0.0.1:" + freePort(t) + ";gcache.size=32M"}, more...)
		n.launch()
		return n
	}
	first = start(0, "--wsrep-new-cluster")
	first.sql("CREATE DATABASE museum CHARACTER SET utf8mb4")
	return first, start(1)
}

// launch starts a node and waits until it takes part.
func (n *node) launch() {
	log, err := os.OpenFile(filepath.Join(n.dir, "mariadbd.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	require.NoError(n.t, err)
	c := exec.Command("mariadbd", n.flags...)
	c.Stdout, c.Stderr, c.SysProcAttr = log, log, n.as
	require.NoError(n.t, c.Start())
	var gone atomic.Bool
	n.quit = func() {
		if !gone.Swap(true) {
			_ = c.Process.Kill() // as a machine that fails
			_ = c.Wait()
			log.Close()
		}
	}
	n.t.Cleanup(func() {
		n.quit()
		if n.t.Failed() {
			text, err := os.ReadFile(log.Name())
			n.t.Logf("mariadbd (%v):\n%s", err, tail(text))
		}
	})
	n.await("a node of the cluster", func() bool {
		out, err := exec.Command("mariadb", "--no-defaults", "--socket="+n.socket, "-uroot", "-N", "-e", "SHOW STATUS LIKE 'wsrep_local_state_comment'").Output()
		return err == nil && strings.Contains(string(out), "Synced")
	})
}

// museum fills the cluster with rows that apply changes and others write to.
func (n *node) fillCluster(rows int) {
	var s strings.Builder
	s.WriteString("USE museum; DROP TABLE IF EXISTS m_posts; CREATE TABLE m_posts (id INT PRIMARY KEY, v TEXT, n INT NOT NULL DEFAULT 0, marks LONGTEXT NOT NULL) ENGINE=InnoDB;\n")
	for i := 0; i < rows; i += 500 {
		s.WriteString("INSERT INTO m_posts (id, v, marks) VALUES ")
		for k := i; k < i+500; k++ {
			if k > i {
				s.WriteString(",")
			}
			fmt.Fprintf(&s, "(%d, 'see http://ternrock.example/%d', '')", k+1, k)
		}
		s.WriteString(";\n")
	}
	c := exec.Command("mariadb", "--no-defaults", "--socket="+n.socket, "-uroot")
	c.Stdin = strings.NewReader(s.String())
	out, err := c.CombinedOutput()
	require.NoError(n.t, err, tail(out))
}

// compete writes to random rows at a rate, each time counting up and adding a mark in one
// statement, until it is told to stop. It returns how many of its writes the server took.
func (n *node) compete(rows, rate int) (stop func() int) {
	c := exec.Command("mariadb", "--no-defaults", "--socket="+n.socket, "-uroot", "-N", "-f", "-n", "museum")
	in, err := c.StdinPipe()
	require.NoError(n.t, err)
	out, err := c.StdoutPipe()
	require.NoError(n.t, err)
	require.NoError(n.t, c.Start())
	taken := make(chan int)
	go func() {
		k := 0
		for lines := bufio.NewScanner(out); lines.Scan(); {
			if lines.Text() == "1" {
				k++
			}
		}
		taken <- k
	}()
	done, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		tick := time.NewTicker(time.Second / time.Duration(rate))
		defer tick.Stop()
		for i := 0; ; i++ {
			select {
			case <-done:
				return
			case <-tick.C:
				if _, err := fmt.Fprintf(in, "UPDATE m_posts SET n = n + 1, marks = CONCAT(marks, 'x') WHERE id = %d; SELECT ROW_COUNT();\n", 1+(i*7919)%rows); err != nil {
					return
				}
			}
		}
	}()
	return func() int {
		close(done)
		<-ended
		in.Close()
		k := <-taken
		_ = c.Wait() // a write that lost is no fault of the client's
		return k
	}
}

// caughtUp has a node wait until it has all that the other has written.
const caughtUp = "SET SESSION wsrep_sync_wait = 7; "

// Two nodes, and others who write to the same rows on the other one: apply and undo end without a
// hand, and no edit is lost, whoever made it.
func TestCluster(t *testing.T) {
	t.Parallel()
	first, second := clusterOf(t)
	const rows = 6000
	first.fillCluster(rows)
	url := "mysql://root@/museum?socket=" + first.socket
	first.tool(0, "init", "--here", "--site", "https://"+host, "--database", url, "--prefix", "m_", "--system", "generic")
	count := func(where string) string {
		return strings.TrimSpace(first.sql(caughtUp + "SELECT COUNT(*) FROM museum.m_posts WHERE " + where))
	}
	for _, rate := range []int{50, 350, 1000} {
		for range *clusterRuns {
			first.tool(0, "preview", "--offline")
			stop := second.compete(rows, rate)
			time.Sleep(300 * time.Millisecond)
			code, said := first.try("apply", "--offline")
			assert.Contains(t, []int{0, 1}, code, said)
			assert.Equal(t, itoa(rows), count("v LIKE 'see https://ternrock.example/%'"))
			code, said = first.try("undo")
			assert.Equal(t, 0, code, said)
			assert.Equal(t, itoa(rows), count("v LIKE 'see http://ternrock.example/%'"))
			wrote := stop()
			assert.Equal(t, "0", count("n <> LENGTH(marks)"), "counter and marks agree")
			total := strings.TrimSpace(first.sql(caughtUp + "SELECT SUM(n) FROM museum.m_posts"))
			t.Logf("%d edits a second: %d taken meanwhile, %s in all counted; %s", rate, wrote, total, lastLine(said))
			first.sql("UPDATE museum.m_posts SET n = 0, marks = ''")
			assert.Equal(t, itoa(wrote), total, "no edit of the others is lost")
		}
	}

	// A user who may make no table locks one node alone, and is told.
	first.sql("CREATE USER 'warden'@'localhost'; GRANT SELECT, UPDATE ON museum.* TO 'warden'@'localhost'")
	first.tool(0, "init", "--config", "warden.yaml", "--site", "https://"+host, "--database", "mysql://warden@/museum?socket="+first.socket, "--prefix", "m_", "--system", "generic")
	first.tool(0, "preview", "--offline", "--config", "warden.yaml")
	assert.Contains(t, first.tool(0, "apply", "--offline", "--config", "warden.yaml"), "the lock held on one node of the cluster alone")
	assert.Contains(t, first.tool(0, "undo", "--config", "warden.yaml", "--format", "json"), `"lock_on_one_node": true`)
	first.tool(0, "preview", "--offline")
	assert.NotContains(t, first.tool(0, "apply", "--offline"), "one node")
}

// The lock holds on both nodes; a node that is lost in the middle is waited for; and what was applied
// through one node is undone through the other, when the first is gone.
func TestClusterLosesNode(t *testing.T) {
	t.Parallel()
	first, second := clusterOf(t)
	const rows = 6000
	first.fillCluster(rows)
	url := func(n *node) string { return "mysql://root@/museum?socket=" + n.socket }
	first.tool(0, "init", "--here", "--site", "https://"+host, "--database", url(first), "--prefix", "m_", "--system", "generic")
	first.tool(0, "init", "--config", "other.yaml", "--site", "https://"+host, "--database", url(second), "--prefix", "m_", "--system", "generic")
	first.tool(0, "preview", "--offline")
	first.tool(0, "preview", "--offline", "--config", "other.yaml")
	slow := exec.Command(first.program, "apply", "--offline", "--rate", "400")
	slow.Dir = first.dir
	var said strings.Builder
	slow.Stdout, slow.Stderr = &said, &said
	require.NoError(t, slow.Start())
	time.Sleep(2 * time.Second)
	code, other := first.try("apply", "--offline", "--config", "other.yaml")
	assert.Equal(t, 3, code)
	assert.Contains(t, other, fmt.Sprintf("another run holds the lock on this database (process %d on ", slow.Process.Pid))
	second.quit()
	time.Sleep(3 * time.Second)
	second.launch()
	_ = slow.Wait() // its exit code is looked at
	assert.Contains(t, []int{0, 1}, slow.ProcessState.ExitCode(), said.String())
	count := func(n *node, where string) string {
		return strings.TrimSpace(n.sql("SELECT COUNT(*) FROM museum.m_posts WHERE " + where))
	}
	assert.Equal(t, itoa(rows), count(first, "v LIKE 'see https://%'"))
	assert.Empty(t, strings.TrimSpace(first.sql("SHOW TABLES IN museum LIKE 'trimlantern%'")), "nothing of ours stays")
	first.quit()
	ready := func(is string) func() bool {
		return func() bool {
			out, err := exec.Command("mariadb", "--no-defaults", "--socket="+second.socket, "-uroot", "-N", "-e", "SHOW STATUS LIKE 'wsrep_ready'").Output()
			return err == nil && strings.HasSuffix(strings.TrimSpace(string(out)), is)
		}
	}
	second.await("the node that is left, which notices it", ready("OFF"))
	second.sql("SET GLOBAL wsrep_provider_options='pc.bootstrap=YES'")
	second.await("the node that is left", ready("ON"))
	first.editSiteFile(first.socket, second.socket)
	first.tool(0, "undo")
	assert.Equal(t, itoa(rows), count(second, "v LIKE 'see http://%'"))
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}
