package hostcommand

import (
	"os/exec"
	"syscall"
)

// apart puts a command into a process group of its own, which is ended as a whole.
func apart(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
}
