package runner

import (
	"context"
	"os/exec"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/mem"

	"oskeld.dev/oskeld/internal/core/facts"
)

// tools are asked for their version; the first number that looks like one counts.
var tools = map[string][]string{
	"go": {"go", "version"}, "gcc": {"gcc", "-dumpfullversion"}, "make": {"make", "--version"}, "node": {"node", "--version"},
	"npm": {"npm", "--version"}, "python3": {"python3", "--version"}, "java": {"java", "-version"}, "git": {"git", "--version"},
	"cargo": {"cargo", "--version"}, "mvn": {"mvn", "--version"}, "cmake": {"cmake", "--version"}, "dotnet": {"dotnet", "--version"},
	"gradle": {"gradle", "--version"}, "pnpm": {"pnpm", "--version"}, "yarn": {"yarn", "--version"}, "bash": {"bash", "--version"}, "pwsh": {"pwsh", "--version"},
}

var versionRule = regexp.MustCompile(`\d+\.\d+(\.\d+)?`)

// Look finds the facts of this machine: os, arch, cpus, memory in bytes, and the versions of the
// tools that are there, or only of those among the names.
func Look(ctx context.Context, names ...string) facts.Facts {
	f := facts.Facts{"os": runtime.GOOS, "arch": runtime.GOARCH, "cpus": strconv.Itoa(runtime.NumCPU())}
	if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		f["memory"] = strconv.FormatUint(m.Total, 10)
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var mu sync.Mutex
	var all sync.WaitGroup
	for name, command := range tools {
		if len(names) > 0 && !slices.Contains(names, name) {
			continue
		}
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
