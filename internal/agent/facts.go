package agent

import (
	"context"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"oskeld.dev/oskeld/internal/core/facts"
)

// tools are asked for their version; the first number that looks like one counts.
var tools = map[string][]string{
	"go": {"go", "version"}, "gcc": {"gcc", "-dumpfullversion"}, "make": {"make", "--version"}, "node": {"node", "--version"},
	"npm": {"npm", "--version"}, "python3": {"python3", "--version"}, "java": {"java", "-version"}, "git": {"git", "--version"},
	"cargo": {"cargo", "--version"}, "mvn": {"mvn", "--version"}, "cmake": {"cmake", "--version"}, "dotnet": {"dotnet", "--version"},
}

var versionRule = regexp.MustCompile(`\d+\.\d+(\.\d+)?`)

// Look finds the facts of this machine: os, arch, cpus, memory in bytes, and the versions of the
// tools that are there.
func Look(ctx context.Context) facts.Facts {
	f := facts.Facts{"os": runtime.GOOS, "arch": runtime.GOARCH, "cpus": strconv.Itoa(runtime.NumCPU())}
	if n := memory(); n > 0 {
		f["memory"] = strconv.FormatInt(n, 10)
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var mu sync.Mutex
	var all sync.WaitGroup
	for name, command := range tools {
		all.Go(func() {
			out, err := exec.CommandContext(ctx, command[0], command[1:]...).CombinedOutput()
			if v := versionRule.FindString(string(out)); err == nil && v != "" {
				mu.Lock()
				f[name] = v
				mu.Unlock()
			}
		})
	}
	all.Wait()
	return f
}

func memory() int64 {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0
	}
	line, _, _ := strings.Cut(string(text), "\n")
	fields := strings.Fields(line)
	if len(fields) < 2 {
		return 0
	}
	kib, _ := strconv.ParseInt(fields[1], 10, 64)
	return kib << 10
}
