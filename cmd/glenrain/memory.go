package main

import (
	"bytes"
	"math"
	"os"
	"runtime/debug"
	"strconv"

	"glenrain/core/child"
)

// limitMemory bounds what the program and its children take by what the machine has: the children by a limit that they are stopped at, the
// server by one from which on its garbage is collected eagerly. Somebody's file must not take the memory of others.
func limitMemory() {
	has := machineMemory()
	child.Together(between(400<<20, has/8, 560<<20) - waiting)
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(between(192<<20, has/16, 320<<20))
	}
}

// waiting is what a child takes that waits for the next file, and is not watched meanwhile.
const waiting = 40 << 20

func between(low, v, high int64) int64 { return min(max(low, v), high) }

// machineMemory tells how many bytes of memory there are for the program: of the machine (proc(5)), or of its control group
// (the kernel's cgroup-v2, memory.max) where that has fewer.
func machineMemory() int64 {
	has := int64(math.MaxInt64)
	if b, err := os.ReadFile("/proc/meminfo"); err == nil {
		if f := bytes.Fields(b); len(f) > 1 && string(f[0]) == "MemTotal:" {
			if kb, err := strconv.ParseInt(string(f[1]), 10, 64); err == nil {
				has = kb << 10
			}
		}
	}
	if b, err := os.ReadFile("/sys/fs/cgroup/memory.max"); err == nil {
		if n, err := strconv.ParseInt(string(bytes.TrimSpace(b)), 10, 64); err == nil {
			has = min(has, n)
		}
	}
	return has
}
