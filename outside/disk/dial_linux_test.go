package disk

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A server is told by the kernel that the owner of the settings connects, and not root.
func TestDialAsOwner(t *testing.T) {
	needsRoot(t)
	dir, err := os.MkdirTemp("", "dial")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	path := filepath.Join(dir, "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Chmod(path, 0o777))
	seen := make(chan uint32, 4)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			raw, err := c.(*net.UnixConn).SyscallConn()
			if err == nil {
				_ = raw.Control(func(fd uintptr) { // an error leaves nothing seen
					if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
						seen <- cred.Uid
					}
				})
			}
			c.Close()
		}
	}()
	dial := func() (net.Conn, error) { return net.Dial("unix", path) }
	c, err := Owner{keeper, keeper}.Dial(dial)
	require.NoError(t, err)
	c.Close()
	assert.Equal(t, uint32(keeper), <-seen)
	c, err = dial()
	require.NoError(t, err)
	c.Close()
	assert.Equal(t, uint32(0), <-seen, "this process is root as before")
	assert.Zero(t, os.Geteuid())
	require.NoError(t, os.Chmod(path, 0o700))
	_, err = Owner{keeper, keeper}.Dial(dial)
	assert.ErrorIs(t, err, os.ErrPermission)

	file := lay(t, filepath.Join(dir, "config.php"), "", 0o600, keeper)
	o, other := OwnerOf(file)
	assert.True(t, other)
	assert.Equal(t, Owner{keeper, keeper}, o)
	_, other = OwnerOf(lay(t, filepath.Join(dir, "ours.php"), "", 0o600, 0))
	assert.False(t, other)
}
