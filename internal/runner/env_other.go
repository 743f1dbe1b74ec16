//go:build !windows

package runner

// systemEnv is what programs of this system cannot do without: nothing.
func systemEnv(home, temp string) map[string]string { return nil }
