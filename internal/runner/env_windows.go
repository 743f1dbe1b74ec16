package runner

import "os"

// systemEnv is what programs of this system cannot do without.
func systemEnv(home, temp string) map[string]string {
	env := map[string]string{"USERPROFILE": home, "TEMP": temp, "TMP": temp}
	for _, name := range []string{"SystemRoot", "SystemDrive", "ComSpec", "PATHEXT", "ProgramFiles", "ProgramData", "NUMBER_OF_PROCESSORS", "PROCESSOR_ARCHITECTURE"} {
		if value, ok := os.LookupEnv(name); ok {
			env[name] = value
		}
	}
	return env
}
