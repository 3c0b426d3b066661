package attack

import "syscall"

// childrenPeak is the highest memory of any process that this one has waited for, in MiB.
func childrenPeak() int {
	var u syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_CHILDREN, &u) != nil {
		return 0
	}
	return int(u.Maxrss >> 10)
}
