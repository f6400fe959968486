package program

import "syscall"

// peakMB returns the most memory that a process had.
func peakMB(usage any) int64 {
	if r, ok := usage.(*syscall.Rusage); ok {
		return r.Maxrss >> 10
	}
	return 0
}
