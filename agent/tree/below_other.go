//go:build !linux

package tree

import "github.com/shirou/gopsutil/v4/process"

// below lists all that descend from a process.
func below(pid int) (out []int) {
	p, err := process.NewProcess(int32(pid))
	if err != nil {
		return nil
	}
	children, _ := p.Children()
	for _, c := range children {
		out = append(append(out, int(c.Pid)), below(int(c.Pid))...)
	}
	return out
}
