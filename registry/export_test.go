//go:build linux

package registry

// RunHelper runs a program as a helper is run.
func RunHelper(name string, args ...string) ([]byte, error) {
	return (&program{name: name, args: args}).Output()
}
