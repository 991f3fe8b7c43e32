//go:build !linux

package cgroup

// Sweep has nothing to do: there are no control groups.
func Sweep(string, string) {}

// MayMake reports whether groups can be made: there are none.
func MayMake(string, string) bool { return false }

// Of is the folder of a process's control group: it has none.
func Of(int) string { return "" }
