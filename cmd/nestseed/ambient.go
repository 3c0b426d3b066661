package main

/*
#include <sys/prctl.h>

// Before any other thread is there: what this program was given to do for hosts, it does itself, and none of the programs that it starts
// has (capabilities(7), "Ambient set").
__attribute__((constructor)) static void keep_capabilities_to_oneself(void) {
	prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0);
}
*/
import "C"
